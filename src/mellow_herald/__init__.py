"""Mellow Herald publishes firmware releases to a device fleet and brings them out ring by ring."""

# Here, and not looked up: to ask the installed packages takes as long as all of a command's own work.
__version__ = "0.1.0"
