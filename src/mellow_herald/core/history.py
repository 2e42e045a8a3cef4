"""What a check-in tells of a device's past, held against what was known of it."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum

LONG_ABSENT = timedelta(days=7)
LOOP_RESTARTS = 5
LOOP_WITHIN = timedelta(hours=1)
RECOVERY_SLOT = "recovery"


class Happening(StrEnum):
    """What can happen to a device outside of an attempt."""

    RESTARTED = "restarted"
    VERSION = "version changed"
    RECOVERY = "runs its recovery image"
    SETTINGS = "settings changed over a restart"
    BACK = "back after a long absence"
    RESCUED = "rescued"
    CLONED = "two devices use one token"


@dataclass(frozen=True, slots=True)
class Standing:
    """What a device runs and how it counts: ``digest`` of ``app``, its ``version``, the ``slot`` it runs from."""

    boots: int
    seq: int
    digest: str | None
    version: str | None
    slot: str
    settings_digest: str | None


@dataclass(frozen=True, slots=True)
class Odd:
    """A check-in that was older than what was known: its (boots, seq), those of what was known then, and when it
    came."""

    heard: tuple[int, int]
    last_heard: tuple[int, int]
    at: datetime


@dataclass(frozen=True, slots=True)
class LastHeard:
    """What the service knows: the last standing, when that was heard, whether a rollout lost it (its attempt ended
    silent), the digest it ran before its newest attempt and those it was to run by it, a check-in that was ``odd``, and
    how often the device calls."""

    last: Standing | None
    seen_at: datetime | None
    lost: bool = False
    from_digest: str | None = None
    wanted: frozenset[str] = frozenset()
    odd: Odd | None = None
    interval: timedelta = timedelta(0)


@dataclass(frozen=True, slots=True)
class Event:
    """Something that happened; ``count`` is how often at once."""

    what: Happening
    detail: str = ""
    count: int = 1


def is_odd(last_heard: LastHeard, heard: Standing) -> bool:
    """Whether a check-in is older than what is known: late on its way, or another unit's."""
    return last_heard.last is not None and (heard.boots, heard.seq) < (last_heard.last.boots, last_heard.last.seq)


def happenings(last_heard: LastHeard, heard: Standing, now: datetime) -> Iterator[Event]:
    """What the check-in ``said`` shows to have happened since ``known``, in order."""
    last = last_heard.last
    if last is None:
        return
    if is_odd(last_heard, heard):
        if last_heard.odd is not None and _goes_on(last_heard.odd, heard, last_heard.interval, now):
            yield Event(
                Happening.CLONED,
                f"its boot {heard.boots}, call {heard.seq} comes after boot {last.boots}, call {last.seq}: "
                "two units, or a flash that was copied back",
            )
        return
    away = now - last_heard.seen_at if last_heard.seen_at else timedelta(0)
    if away > LONG_ABSENT:
        yield Event(Happening.BACK, f"not heard for {away.days} days")
    if heard.boots > last.boots:
        yield Event(Happening.RESTARTED, f"boot {heard.boots}", heard.boots - last.boots)
    if heard.slot == RECOVERY_SLOT and last.slot != RECOVERY_SLOT:
        yield Event(Happening.RECOVERY, "nothing else on it may run")
    elif heard.digest != last.digest:
        by_us = heard.digest in last_heard.wanted or heard.digest == last_heard.from_digest
        how = "" if by_us else ", not by a rollout"
        before, after = _named(last), _named(heard)
        if before == after:  # the same version of other bytes, as local builds have it
            before, after = f"{before} ({(last.digest or '')[:8]})", f"{after} ({(heard.digest or '')[:8]})"
        yield Event(Happening.VERSION, f"{before} \N{RIGHTWARDS ARROW} {after}{how}")
        if not by_us and (last_heard.lost or last.slot == RECOVERY_SLOT or away > LONG_ABSENT):
            yield Event(Happening.RESCUED, f"came back with {_named(heard)}, flashed by somebody else")
    if heard.boots > last.boots and last.settings_digest and heard.settings_digest != last.settings_digest:
        yield Event(Happening.SETTINGS, "the digest of its settings is another than before")


def odd_after(last_heard: LastHeard, heard: Standing, now: datetime) -> Odd:
    """What is to be kept of a check-in that is odd: the first one stands until another unit is seen to go on after
    it."""
    assert last_heard.last is not None
    first, order, newest = last_heard.odd, (heard.boots, heard.seq), (last_heard.last.boots, last_heard.last.seq)
    if first is not None and order < first.last_heard and order >= first.heard:
        return first
    return Odd(order, newest, now)


def _goes_on(first: Odd, heard: Standing, interval: timedelta, now: datetime) -> bool:
    """Whether odd calls go on with numbers of their own: a unit with another boot history. Calls of one device that
    were all late, as after an outage, come within a moment of each other; those of two units as often as units
    call."""
    return first.heard < (heard.boots, heard.seq) < first.last_heard and now - first.at >= interval / 2


def _named(one: Standing) -> str:
    return one.version or (f"an unnamed build {one.digest[:12]}" if one.digest else "nothing readable")
