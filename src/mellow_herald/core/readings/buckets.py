"""How a stretch of time is divided to be looked at."""

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum

MINUTE_S, HOUR_S, DAY_S = 60, 3600, 86_400
STEPS_S = (
    *(1, 2, 5, 10, 15, 30),
    *(MINUTE_S * count for count in (1, 2, 5, 10, 15, 30)),
    *(HOUR_S * count for count in (1, 2, 3, 6, 12)),
    *(DAY_S * count for count in (1, 7, 28)),
)
MOST_POINTS = 5000


class By(StrEnum):
    """What makes up a series: one device, or all that have a fact in common."""

    DEVICE = "device"
    VERSION = "version"
    HW_REV = "hw_rev"
    RING = "ring"


class Level(StrEnum):
    """What a question is answered from: each value, or what was rolled up of a minute or an hour."""

    EACH = "each"
    MINUTE = "minute"
    HOUR = "hour"


@dataclass(frozen=True, slots=True)
class Division:
    """Buckets of ``step_s`` from ``begin`` to ``end``, all whole steps since 1970, answered from ``level``."""

    begin: datetime
    end: datetime
    step_s: int
    level: Level


def divide(begin: datetime, end: datetime, points: int) -> Division:
    """The finest division of a stretch into at most ``points`` buckets. ``ValueError`` if it ends before it begins."""
    span = (end - begin).total_seconds()
    if span <= 0:
        raise ValueError("the stretch ends before it begins")
    step = next((step for step in STEPS_S if _count(begin, end, step) <= points), None)
    if step is None:
        step = -(-int(span) // (STEPS_S[-1] * max(1, points - 1))) * STEPS_S[-1]
    level = Level.EACH if step < MINUTE_S else Level.MINUTE if step < HOUR_S else Level.HOUR
    return Division(_floor(begin, step), _ceil(end, step), step, level)


def meet(of: Iterable[tuple[float, float]], against: Iterable[tuple[float, float]]) -> list[tuple[float, float]]:
    """Of two series of (time, value) in the same buckets, the values of both wherever both have one, in order of
    time."""
    others = dict(against)
    return [(value, others[at]) for at, value in sorted(of) if at in others]


def _count(begin: datetime, end: datetime, step: int) -> int:
    return int((_ceil(end, step) - _floor(begin, step)).total_seconds()) // step


def _floor(at: datetime, step: int) -> datetime:
    return at - timedelta(seconds=at.timestamp() % step)


def _ceil(at: datetime, step: int) -> datetime:
    return at + timedelta(seconds=-at.timestamp() % step)
