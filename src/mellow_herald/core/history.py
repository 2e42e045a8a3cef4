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
class Known:
    """What the service knows: the last standing, when that was heard, whether a rollout lost it (its attempt ended
    silent), the digest it ran before its newest attempt and those it was to run by it, and the (boots, seq) of a
    check-in that was older than what was known."""

    last: Standing | None
    seen_at: datetime | None
    lost: bool = False
    from_digest: str | None = None
    wanted: frozenset[str] = frozenset()
    odd: tuple[int, int] | None = None


@dataclass(frozen=True, slots=True)
class Event:
    """Something that happened; ``count`` is how often at once."""

    what: Happening
    detail: str = ""
    count: int = 1


def is_odd(known: Known, said: Standing) -> bool:
    """Whether a check-in is older than what is known: late on its way, or another unit's."""
    return known.last is not None and (said.boots, said.seq) < (known.last.boots, known.last.seq)


def happenings(known: Known, said: Standing, now: datetime) -> Iterator[Event]:
    """What the check-in ``said`` shows to have happened since ``known``, in order."""
    last = known.last
    if last is None:
        return
    if is_odd(known, said):
        # A device makes one call at a time: only one can be late. A second one, newer than that, comes from a unit
        # with another boot history.
        if known.odd is not None and (said.boots, said.seq) > known.odd:
            yield Event(
                Happening.CLONED,
                f"its boot {said.boots}, call {said.seq} comes after boot {last.boots}, call {last.seq}: "
                "two units, or a flash that was copied back",
            )
        return
    away = now - known.seen_at if known.seen_at else timedelta(0)
    if away > LONG_ABSENT:
        yield Event(Happening.BACK, f"not heard for {away.days} days")
    if said.boots > last.boots:
        yield Event(Happening.RESTARTED, f"boot {said.boots}", said.boots - last.boots)
    if said.slot == RECOVERY_SLOT and last.slot != RECOVERY_SLOT:
        yield Event(Happening.RECOVERY, "nothing else on it may run")
    elif said.digest != last.digest:
        by_us = said.digest in known.wanted or said.digest == known.from_digest
        how = "" if by_us else ", not by a rollout"
        yield Event(Happening.VERSION, f"{_named(last)} \N{RIGHTWARDS ARROW} {_named(said)}{how}")
        if not by_us and (known.lost or last.slot == RECOVERY_SLOT or away > LONG_ABSENT):
            yield Event(Happening.RESCUED, f"came back with {_named(said)}, flashed by somebody else")
    if said.boots > last.boots and last.settings_digest and said.settings_digest != last.settings_digest:
        yield Event(Happening.SETTINGS, "the digest of its settings is another than before")


def _named(one: Standing) -> str:
    return one.version or (f"an unnamed build {one.digest[:12]}" if one.digest else "nothing readable")
