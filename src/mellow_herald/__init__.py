"""Mellow Herald publishes firmware releases to a device fleet and brings them out ring by ring."""

from importlib.metadata import PackageNotFoundError, version

try:
    __version__ = version("mellow-herald")
except PackageNotFoundError:  # a checkout that was never installed
    __version__ = "0.0.0"
