"""Listening: what devices are asked to send, by whom, at which period, until when."""

import json
import zlib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True, slots=True)
class Wish:
    """One listening, as it concerns one device: signals, their period (s), and when it ends."""

    signals: tuple[str, ...]
    period_s: float
    until: datetime


@dataclass(frozen=True, slots=True)
class Asked:
    """What a device is asked for by all that listen to it: of each signal the period (s) and until when. ``number``
    stands for exactly that; a device sends it back, so that it is told again only what it does not know."""

    signals: Mapping[str, tuple[float, datetime]]
    number: int


NOTHING = Asked({}, 0)


def asked_of(wishes: Iterable[Wish], now: datetime) -> Asked:
    """All wishes as one: the shortest period wins, for as long as whoever asks for that wants it."""
    signals: dict[str, tuple[float, datetime]] = {}
    for wish in sorted(wishes, key=lambda one: (one.period_s, -one.until.timestamp())):
        if wish.until > now:
            for name in wish.signals:
                signals.setdefault(name, (wish.period_s, wish.until))
    if not signals:
        return NOTHING
    written = [[name, period, until.timestamp()] for name, (period, until) in sorted(signals.items())]
    # Nought is for a device that is asked for nothing.
    return Asked(signals, zlib.crc32(json.dumps(written).encode()) or 1)
