"""Readings over time: what devices are asked to send, what comes of it, and what an update did to it."""
