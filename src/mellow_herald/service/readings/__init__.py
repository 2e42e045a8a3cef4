"""Readings over time: who is asked for what, what comes in, and what is made of it."""
