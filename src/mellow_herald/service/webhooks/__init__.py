"""Telling other services what happened."""
