"""What service and device say to each other over narrow radio: application packages of the LoRa Alliance, with the
standards' own names of commands and fields."""

from mellow_herald.core.radio.packages import clock, fragments, multicast
from mellow_herald.core.radio.packages.command import VERSION, Command, Package, decode, encode

PORTS = {Package.CLOCK: 202, Package.MULTICAST: 200, Package.FRAGMENTS: 201}

__all__ = ["PORTS", "VERSION", "Command", "Package", "clock", "decode", "encode", "fragments", "multicast"]
