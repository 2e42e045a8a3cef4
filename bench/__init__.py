"""Benchmarks: each figure is a ratio against a floor measured in the same run."""
