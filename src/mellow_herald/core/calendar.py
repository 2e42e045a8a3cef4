"""Weekly windows in a time zone, right across clock changes.

A window is open when the clock on the wall says so: where that clock jumps over it, it is not open that day; where an
hour comes twice, it is open twice. Every function takes instants with a zone and gives instants in UTC.
"""

import difflib
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from enum import StrEnum
from functools import lru_cache
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError, available_timezones

from mellow_herald.core.refusal import Refused

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
AHEAD_DAYS = 9  # a weekly window comes within a week; a clock change may swallow one of its days
MIDNIGHT = time(0)


class Use(StrEnum):
    """What a window is for."""

    BOTH = "both"
    FETCH = "fetch"
    SWITCH = "switch"


@dataclass(frozen=True, slots=True)
class Window:
    """From ``begin`` to ``end`` (that minute no longer) on these days of the week, 0 for Monday. An ``end`` that is not
    after ``begin`` is that of the next day."""

    days: frozenset[int]
    begin: time
    end: time
    use: Use = Use.BOTH

    def holds(self, wall: datetime) -> bool:
        """Whether it is open when the clock on the wall shows ``wall``."""
        at, today = wall.time(), wall.weekday() in self.days
        if self.begin < self.end:
            return today and self.begin <= at < self.end
        return (today and at >= self.begin) or ((wall.weekday() - 1) % 7 in self.days and at < self.end)


Windows = tuple[Window, ...]


@lru_cache(maxsize=1024)
def zone_named(name: str) -> ZoneInfo:
    """An IANA time zone; raises ``Refused`` with the nearest name."""
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        near = difflib.get_close_matches(name, sorted(available_timezones()), 1)
        hint = f"Did you mean {near[0]}?" if near else "Write an IANA name like Europe/Dublin."
        raise Refused("bad-zone", f"{name!r} is not a time zone.", hint) from None


def is_open(windows: Windows, use: Use, zone: ZoneInfo, at: datetime) -> bool:
    """Whether something may be fetched or switched at ``at``; where no window is for that use, always."""
    own = [window for window in windows if window.use in (use, Use.BOTH)]
    wall = at.astimezone(zone)
    return not own or any(window.holds(wall) for window in own)


def next_opening(windows: Windows, use: Use, zone: ZoneInfo, at: datetime) -> datetime | None:
    """The first instant from ``at`` on at which it is open; None if that is never."""
    return _first(windows, use, zone, at, lambda then: is_open(windows, use, zone, then))


def next_closing(windows: Windows, use: Use, zone: ZoneInfo, at: datetime) -> datetime | None:
    """The first instant from ``at`` on at which it is not open; None if that is never."""
    return _first(windows, use, zone, at, lambda then: not is_open(windows, use, zone, then))


def after_open_time(windows: Windows, use: Use, zone: ZoneInfo, at: datetime, work: timedelta) -> datetime | None:
    """When ``work`` is done that begins at ``at`` and goes on only while it is open; None if that is never."""
    while True:
        opens = next_opening(windows, use, zone, at)
        if opens is None:
            return None
        closes = next_closing(windows, use, zone, opens)
        if closes is None or closes - opens >= work:
            return opens + work
        work -= closes - opens
        at = closes


def local_moment(moment: datetime, zone: ZoneInfo) -> datetime:
    """An engineer's date and time as an instant: one without a zone is meant in ``zone``."""
    return (moment if moment.tzinfo else moment.replace(tzinfo=zone)).astimezone(UTC)


def end_of_day(day: date, zone: ZoneInfo) -> datetime:
    """The instant at which a day is over."""
    return datetime.combine(day + timedelta(days=1), MIDNIGHT, zone).astimezone(UTC)


def _first(
    windows: Windows, use: Use, zone: ZoneInfo, at: datetime, wanted: Callable[[datetime], bool]
) -> datetime | None:
    at = at.astimezone(UTC)
    if wanted(at):
        return at
    own = [window for window in windows if window.use in (use, Use.BOTH)]
    candidates = sorted(then for then in _edges(own, zone, at) if then > at)
    return next((then for then in candidates if wanted(then)), None)


def _edges(windows: Iterable[Window], zone: ZoneInfo, at: datetime) -> Iterator[datetime]:
    """Every instant of the coming days at which something may open or close: the windows' edges and clock changes."""
    today = at.astimezone(zone).date()
    times = {edge for window in windows for edge in (window.begin, window.end)} | {MIDNIGHT}
    for ahead in range(-1, AHEAD_DAYS):
        day = today + timedelta(days=ahead)
        for edge in times:
            for fold in (0, 1):
                yield datetime.combine(day, edge, zone).replace(fold=fold).astimezone(UTC)
        change = _clock_change(day, zone)
        if change is not None:
            yield change


@lru_cache(maxsize=4096)
def _clock_change(day: date, zone: ZoneInfo) -> datetime | None:
    """The instant of a day at which its clock is set forward or back, if it is."""
    low = datetime.combine(day, MIDNIGHT, zone).astimezone(UTC)
    high = datetime.combine(day + timedelta(days=1), MIDNIGHT, zone).astimezone(UTC)
    before = low.astimezone(zone).utcoffset()
    if high.astimezone(zone).utcoffset() == before:
        return None
    while high - low > timedelta(seconds=1):
        middle = low + (high - low) / 2
        middle = middle.replace(microsecond=0)
        if middle.astimezone(zone).utcoffset() == before:
            low = middle
        else:
            high = middle
    return high
