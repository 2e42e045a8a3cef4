"""Time on the air and what a region allows: LoRa's formula (SX127x data sheet, section 4.1.1.6) and tables of RP002."""

import math
from dataclasses import dataclass
from enum import StrEnum

from mellow_herald.core.refusal import Refused

# Of a LoRaWAN frame beside its application payload: header 1, address 4, control 1, counter 2, port 1, MIC 4.
FRAME_BYTES = 13
PREAMBLE_SYMBOLS = 8
# Coding rate 4/5.
CODING_RATE = 1


class Region(StrEnum):
    """Where a radio network is: its rules differ."""

    EU868 = "EU868"
    US915 = "US915"


@dataclass(frozen=True, slots=True)
class DataRate:
    """One of a region's data rates: spreading factor (None: FSK with 50 kbit/s), bandwidth in Hz, and the most bytes of
    application payload (N of RP002, no repeater, no options)."""

    spreading: int | None
    bandwidth: int
    payload: int


@dataclass(frozen=True, slots=True)
class Channel:
    """Where the network sends to groups: frequency in Hz, and the share of an hour it may send there."""

    frequency: int
    duty: float


DATA_RATES: dict[Region, dict[int, DataRate]] = {
    Region.EU868: {
        0: DataRate(12, 125_000, 51),
        1: DataRate(11, 125_000, 51),
        2: DataRate(10, 125_000, 51),
        3: DataRate(9, 125_000, 115),
        4: DataRate(8, 125_000, 222),
        5: DataRate(7, 125_000, 222),
        6: DataRate(7, 250_000, 222),
        7: DataRate(None, 50_000, 222),
    },
    # Those that the network sends with.
    Region.US915: {
        8: DataRate(12, 500_000, 53),
        9: DataRate(11, 500_000, 129),
        10: DataRate(10, 500_000, 242),
        11: DataRate(9, 500_000, 242),
        12: DataRate(8, 500_000, 242),
        13: DataRate(7, 500_000, 242),
    },
}
# What is sent at unless somebody says otherwise: some hundred metres through a yard, an hour for a small image.
USUAL_RATE = {Region.EU868: 4, Region.US915: 10}
# Where the network may send to devices (Hz).
BANDS = {Region.EU868: (863_000_000, 870_000_000), Region.US915: (923_300_000, 927_500_000)}
CHANNELS: dict[Region, Channel] = {
    # The band of 869.4 to 869.65 MHz, in which a tenth of the time is allowed.
    Region.EU868: Channel(869_525_000, 0.1),
    Region.US915: Channel(923_300_000, 1.0),
}


def data_rate(region: Region, number: int) -> DataRate:
    """One of a region's data rates, by its number; ``Refused`` if the network does not send with that."""
    found = DATA_RATES[region].get(number)
    if found is None:
        known = ", ".join(map(str, DATA_RATES[region]))
        raise Refused("bad-data-rate", f"in {region} there is no downlink data rate {number}.", f"Use one of {known}.")
    return found


def time_on_air(rate: DataRate, size: int, *, crc: bool = False) -> float:
    """How long (s) a frame of so many bytes (PHYPayload) is on the air; only uplinks carry a CRC."""
    if rate.spreading is None:
        # Preamble 5, sync word 3, length 1 and CRC 2 bytes around it.
        return (5 + 3 + 1 + size + 2) * 8 / rate.bandwidth
    symbol: float = 2**rate.spreading / rate.bandwidth
    # Where a symbol lasts longer than 16 ms, receivers need the low data rate optimisation.
    low = 1 if symbol > 0.016 else 0
    bits = 8 * size - 4 * rate.spreading + 28 + (16 if crc else 0)
    payload = 8 + max(math.ceil(bits / (4 * (rate.spreading - 2 * low))) * (CODING_RATE + 4), 0)
    return (PREAMBLE_SYMBOLS + 4.25 + payload) * symbol


def frame_time(rate: DataRate, payload: int, *, crc: bool = False) -> float:
    """How long (s) a LoRaWAN frame with so many bytes of application payload is on the air."""
    return time_on_air(rate, payload + FRAME_BYTES, crc=crc)


def interval(channel: Channel, on_air: float) -> float:
    """How far apart (s) frames begin that are so long on the air each, where the channel's duty is kept to at any
    time: after each the channel is left alone for its rest."""
    return on_air / channel.duty
