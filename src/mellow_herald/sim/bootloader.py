"""The boot loader's decisions, pure: which slot runs, when a trial is over, when to fall back.

A trial begins with ``arm`` and ends with ``confirm`` by the new firmware or by going back. A crash or hang on trial
goes back at once; plain power losses are forgiven for up to three trial boots. After confirming, three early resets
in a row still fall back, if the other slot may run: never an image below the floor number.
"""

from dataclasses import dataclass, field, replace
from enum import StrEnum

TRIAL_BOOTS = 3
EARLY_RESETS = 3


class Slot(StrEnum):
    """The two places for an image."""

    A = "a"
    B = "b"

    @property
    def other(self) -> "Slot":
        """The opposite slot."""
        return Slot.B if self is Slot.A else Slot.A


class Cause(StrEnum):
    """Why the device restarted."""

    POWER = "power"
    ORDER = "order"
    CRASH = "crash"
    HANG = "hang"
    GIVE_UP = "give-up"  # firmware on trial did not pass its tests


class WentBack(StrEnum):
    """Why a trial ended; the reasons of ``reverted``."""

    CRASHED = "crashed"
    HUNG = "hung"
    SELF_TEST_FAILED = "self-test-failed"
    NO_CONTACT = "no-contact"
    POWER_LOST = "power-lost"


@dataclass(frozen=True, slots=True)
class SlotNote:
    """What was verified into a slot: image length in bytes, SHA-256 in hex, version and floor number."""

    size: int
    digest: str
    version: str
    floor: int


@dataclass(frozen=True, slots=True)
class BootRecord:
    """The boot loader's memory. ``active`` is the confirmed slot, ``trial`` one on trial; ``went_back`` why the last
    trial ended, for the firmware to report; ``boots`` counts all starts."""

    active: Slot = Slot.A
    trial: Slot | None = None
    trial_boots: int = 0
    early_resets: int = 0
    floor: int = 0
    boots: int = 0
    went_back: WentBack | None = None
    fell_back: bool = False
    notes: dict[Slot, SlotNote] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Boot:
    """What starts: a slot, the recovery image (``recovery``), or nothing at all (``slot`` None, no recovery)."""

    slot: Slot | None
    on_trial: bool = False
    recovery: bool = False


def arm(record: BootRecord, slot: Slot) -> BootRecord:
    """Puts a slot on trial for the next boot."""
    return replace(record, trial=slot, trial_boots=0, went_back=None)


def confirm(record: BootRecord) -> BootRecord:
    """The firmware on trial vouches for itself; the floor number rises with it."""
    if record.trial is None:
        return record
    floor = max(record.floor, record.notes[record.trial].floor)
    return replace(record, active=record.trial, trial=None, trial_boots=0, early_resets=0, floor=floor)


def note_well(record: BootRecord) -> BootRecord:
    """The firmware has run long enough: the next reset is no early one."""
    return replace(record, early_resets=0)


def give_up(record: BootRecord, why: WentBack) -> BootRecord:
    """The firmware on trial says that it is not good; the restart that follows goes back."""
    return record if record.trial is None else _go_back(record, why)


def boot(
    record: BootRecord, cause: Cause, valid: frozenset[Slot], *, recovery: bool = False
) -> tuple[BootRecord, Boot]:
    """Decides what runs after a restart. ``valid`` are the slots whose bytes match their note."""
    record = replace(record, boots=record.boots + 1)
    if record.trial is not None:
        why = _trial_over(record, cause, valid)
        if why is None:
            return replace(record, trial_boots=record.trial_boots + 1), Boot(record.trial, on_trial=True)
        record = _go_back(record, why)
    elif cause in (Cause.CRASH, Cause.HANG):
        record = replace(record, early_resets=record.early_resets + 1)
    return _settled(record, valid, recovery)


def _trial_over(record: BootRecord, cause: Cause, valid: frozenset[Slot]) -> WentBack | None:
    if record.trial not in valid:
        return WentBack.CRASHED
    if record.trial_boots == 0:
        return None
    if cause is Cause.CRASH:
        return WentBack.CRASHED
    if cause is Cause.HANG:
        return WentBack.HUNG
    return WentBack.POWER_LOST if record.trial_boots >= TRIAL_BOOTS else None


def _go_back(record: BootRecord, why: WentBack) -> BootRecord:
    return replace(record, trial=None, trial_boots=0, early_resets=0, went_back=why)


def _settled(record: BootRecord, valid: frozenset[Slot], recovery: bool) -> tuple[BootRecord, Boot]:
    """Chooses among confirmed slots."""
    other = record.active.other
    note = record.notes.get(other)
    other_may_run = other in valid and note is not None and note.floor >= record.floor
    restless = record.early_resets >= EARLY_RESETS
    if record.active in valid and not restless:
        return record, Boot(record.active)
    if other_may_run:
        return replace(record, active=other, early_resets=0, fell_back=True), Boot(other)
    if recovery:
        return record, Boot(None, recovery=True)
    return record, Boot(record.active if record.active in valid else None)


def reported(record: BootRecord) -> BootRecord:
    """The firmware has told why the last trial ended."""
    return replace(record, went_back=None)
