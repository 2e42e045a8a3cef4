"""The boot loader's decisions, pure: which slots run, when a trial is over, when to fall back.

A device has parts, one for each component that is updated by itself; ``app`` is always one of them. A trial begins
with ``arm`` for the parts that switch together, and ends with ``confirm`` by the new firmware or by going back with all
of them. A crash or hang on trial goes back at once; plain power losses are forgiven for up to three trial boots. After
confirming, three early resets in a row still fall back, if what stood there before was once confirmed and may run:
never an image below the floor number, never one that failed its trial.

Parts that come after others wait in ``to_come``: each group joins the trial when the one before has proved itself, and
whatever fails takes all of them back.

A part *in place* has one slot that runs (``a``) and room for a staging file (``b``): its trial begins with copying the
file over what ran before, so there is no way back but the recovery image. Of a *streamed* part, and of what has a
place, both slots are files; which of them counts is all that the record says.
"""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum

TRIAL_BOOTS = 3
EARLY_RESETS = 3
APP = "app"


class Slot(StrEnum):
    """The two places for an image of a part."""

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
    BUTTON = "button"
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
    ACTION_FAILED = "action-failed"
    STREAM_BROKEN = "stream-broken"


@dataclass(frozen=True, slots=True)
class SlotNote:
    """What was verified into a slot: image length in bytes, SHA-256 in hex, version and floor number, and the
    fingerprint of the key that signed it (empty: flashed by cable); ``proven`` once it confirmed."""

    size: int
    digest: str
    version: str
    floor: int
    proven: bool = False
    signed_by: str = ""


@dataclass(frozen=True, slots=True)
class Part:
    """One component's place on the chip: the slot that is confirmed, and what is noted of both."""

    active: Slot = Slot.A
    notes: Mapping[Slot, SlotNote] = field(default_factory=dict)
    in_place: bool = False

    def noted(self, slot: Slot, note: SlotNote | None) -> "Part":
        """The part with another note for a slot; None takes it off."""
        others = {name: kept for name, kept in self.notes.items() if name is not slot}
        return replace(self, notes=others if note is None else {**others, slot: note})

    @property
    def standby(self) -> Slot:
        """Where the next image goes."""
        return self.active.other


@dataclass(frozen=True, slots=True)
class BootRecord:
    """The boot loader's memory. ``trial`` are the parts on trial together, ``copying`` those in place whose staging
    file is still to be copied; ``last_set`` the parts of the last confirmed switch; ``went_back`` why the last trial
    ended, for the firmware to report, and ``blamed`` the part for which it did; ``to_come`` are groups of parts that
    join the trial later; ``boots`` counts all starts."""

    parts: Mapping[str, Part] = field(default_factory=lambda: {APP: Part()})
    trial: tuple[str, ...] = ()
    copying: tuple[str, ...] = ()
    trial_boots: int = 0
    early_resets: int = 0
    floor: int = 0
    boots: int = 0
    went_back: WentBack | None = None
    fell_back: bool = False
    last_set: tuple[str, ...] = ()
    to_come: tuple[tuple[str, ...], ...] = ()
    blamed: str = ""

    def with_part(self, name: str, part: Part) -> "BootRecord":
        """The record with one part replaced."""
        return replace(self, parts={**self.parts, name: part})

    def note(self, name: str, slot: Slot) -> SlotNote | None:
        """What is noted of a slot."""
        return self.parts[name].notes.get(slot)


Valid = frozenset[tuple[str, Slot]]


@dataclass(frozen=True, slots=True)
class Boot:
    """What starts: a slot for each part (``slots``), the recovery image, or nothing at all (``slots`` empty)."""

    slots: Mapping[str, Slot] = field(default_factory=dict)
    on_trial: bool = False
    recovery: bool = False

    @property
    def slot(self) -> Slot | None:
        """The slot that ``app`` runs from."""
        return self.slots.get(APP)


def arm(record: BootRecord, parts: Iterable[str], to_come: Iterable[Iterable[str]] = ()) -> BootRecord:
    """Puts what stands by in these parts on trial for the next boot, together; those ``to_come`` follow."""
    later = tuple(tuple(group) for group in to_come)
    return _join(replace(record, trial=(), to_come=later, went_back=None, blamed=""), tuple(parts))


def join_next(record: BootRecord) -> BootRecord:
    """The parts on trial have proved themselves: the next group joins them."""
    return _join(replace(record, to_come=record.to_come[1:]), record.to_come[0])


def _join(record: BootRecord, names: tuple[str, ...]) -> BootRecord:
    copying = tuple(name for name in names if record.parts[name].in_place)
    return replace(record, trial=(*record.trial, *names), copying=copying, trial_boots=0)


def leave_out(record: BootRecord, names: Iterable[str]) -> BootRecord:
    """These parts go back, or are not switched at all, while the others go on."""
    gone = set(names)
    later = tuple(group for group in (tuple(n for n in g if n not in gone) for g in record.to_come) if group)
    return replace(record, trial=tuple(n for n in record.trial if n not in gone), to_come=later)


def copied(record: BootRecord, name: str) -> BootRecord:
    """The staging file of a part in place now stands in its slot; the file itself is used up."""
    part = record.parts[name]
    part = part.noted(Slot.A, part.notes[Slot.B]).noted(Slot.B, None)
    left = tuple(other for other in record.copying if other != name)
    return replace(record.with_part(name, part), copying=left)


def confirm(record: BootRecord) -> BootRecord:
    """The firmware on trial vouches for itself; the floor number rises with it."""
    if not record.trial:
        return record
    floor = record.floor
    for name in record.trial:
        part = record.parts[name]
        slot = _trial_slot(part)
        note = replace(part.notes[slot], proven=True)
        record = record.with_part(name, replace(part.noted(slot, note), active=slot))
        floor = max(floor, note.floor)
    return replace(record, trial=(), last_set=record.trial, trial_boots=0, early_resets=0, floor=floor)


def note_well(record: BootRecord) -> BootRecord:
    """The firmware has run long enough: the next reset is no early one."""
    return replace(record, early_resets=0)


def give_up(record: BootRecord, why: WentBack, part: str = "") -> BootRecord:
    """The firmware on trial says that it, or a ``part``, is not good; the restart that follows goes back."""
    return replace(_go_back(record, why), blamed=part) if record.trial else record


def reported(record: BootRecord) -> BootRecord:
    """The firmware has told why the last trial ended, or that it fell back."""
    return replace(record, went_back=None, fell_back=False, blamed="")


def boot(record: BootRecord, cause: Cause, valid: Valid, *, recovery: bool = False) -> tuple[BootRecord, Boot]:
    """Decides what runs after a restart. ``valid`` are the slots whose bytes match their note; whatever is to be
    copied has been copied; ``recovery`` tells whether a whole recovery image is there."""
    record = replace(record, boots=record.boots + 1)
    if record.trial:
        why = _trial_over(record, cause, valid)
        if why is None:
            return replace(record, trial_boots=record.trial_boots + 1), Boot(trial_slots(record), on_trial=True)
        record = _go_back(record, why)
    elif cause in (Cause.CRASH, Cause.HANG):
        record = replace(record, early_resets=record.early_resets + 1)
    return _settled(record, valid, recovery)


def _trial_slot(part: Part) -> Slot:
    return Slot.A if part.in_place else part.active.other


def trial_slots(record: BootRecord) -> dict[str, Slot]:
    """The slot of each part that counts while some are on trial."""
    return {name: _trial_slot(part) if name in record.trial else part.active for name, part in record.parts.items()}


def _trial_over(record: BootRecord, cause: Cause, valid: Valid) -> WentBack | None:
    if any((name, _trial_slot(record.parts[name])) not in valid for name in record.trial):
        return WentBack.CRASHED
    if record.trial_boots == 0:
        return None
    if cause is Cause.CRASH:
        return WentBack.CRASHED
    if cause is Cause.HANG:
        return WentBack.HUNG
    return WentBack.POWER_LOST if record.trial_boots >= TRIAL_BOOTS else None


def _go_back(record: BootRecord, why: WentBack) -> BootRecord:
    return replace(record, trial=(), copying=(), to_come=(), trial_boots=0, early_resets=0, went_back=why)


def _settled(record: BootRecord, valid: Valid, recovery: bool) -> tuple[BootRecord, Boot]:
    """Chooses among what is confirmed; an image in place that never was has only the recovery image above it."""
    active = {name: part.active for name, part in record.parts.items()}
    app = record.note(APP, active[APP])
    whole = (APP, active[APP]) in valid
    if whole and app is not None and app.proven and record.early_resets < EARLY_RESETS:
        return record, Boot(active)
    back = _fall_back(record, valid)
    if back is not None:
        return back, Boot({name: part.active for name, part in back.parts.items()})
    if recovery:
        return record, Boot(recovery=True)
    return record, Boot(active if whole else {})


def _fall_back(record: BootRecord, valid: Valid) -> BootRecord | None:
    """The record with the parts of the last switch back where they were, None if that cannot run."""
    parts = dict(record.parts)
    for name in record.last_set if APP in record.last_set else (APP, *record.last_set):
        part = parts[name]
        note = part.notes.get(part.standby)
        may_run = note is not None and note.proven and note.floor >= record.floor and (name, part.standby) in valid
        if part.in_place or not may_run:
            return None
        parts[name] = replace(part, active=part.standby)
    return replace(record, parts=parts, early_resets=0, fell_back=True)
