"""Readings over time, in the store."""
