"""A device's hardware: a flash chip with boot record, data partition, slots and recovery image, and what is on it.

The chip describes itself: its first ledger, written when it is made, says which parts it has. Behind it stand the boot
record, the data partition, the slots of each part, the recovery image, and the flash of the controllers that parts are
streamed into.
"""

import hashlib
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import Any

import cbor2

from mellow_herald.core import cbor
from mellow_herald.core.nameplate import find_nameplate
from mellow_herald.sim.bootloader import (
    APP,
    Boot,
    BootRecord,
    Cause,
    Part,
    Slot,
    SlotNote,
    Valid,
    WentBack,
    boot,
    copied,
    give_up,
)
from mellow_herald.sim.flash import SECTOR, Chip, FileChip, Flash, Ledger, MemoryChip

BOOT_AREA = SECTOR
DATA_AREA = 4 * SECTOR
MADE_AREA = SECTOR
BOOT_AT = 2 * MADE_AREA
DATA_AT = BOOT_AT + 2 * BOOT_AREA
SLOTS_AT = DATA_AT + 2 * DATA_AREA
BLOCK = SECTOR


@dataclass(frozen=True, slots=True)
class PartLayout:
    """Room for one component: two slots of ``size`` bytes, or with ``in_place`` one slot and a staging file;
    ``streamed``: a controller of its own has as much room once more, and both slots are files of the main one."""

    size: int
    in_place: bool = False
    streamed: bool = False


@dataclass(frozen=True, slots=True)
class Layout:
    """How a chip is divided; sizes in bytes, whole sectors. ``recovery`` is the room for a recovery image."""

    parts: Mapping[str, PartLayout]
    recovery: int = 0

    @property
    def chip_size(self) -> int:
        """Bytes of flash that takes."""
        rooms = sum((3 if part.streamed else 2) * part.size for part in self.parts.values())
        return SLOTS_AT + rooms + self.recovery

    @property
    def recovery_at(self) -> int:
        """Where the recovery image begins."""
        return SLOTS_AT + sum(2 * part.size for part in self.parts.values())


class Hardware:
    """The chip's contents by name. Nothing is remembered outside the flash."""

    def __init__(self, flash: Flash) -> None:
        self.flash = flash
        self._boot = Ledger(flash, BOOT_AT, BOOT_AREA)
        self._data = Ledger(flash, DATA_AT, DATA_AREA)
        made = Ledger(flash, 0, MADE_AREA).load()
        if made is None:
            raise ValueError("this chip was never made")
        described: Any = cbor.decode(made)
        parts = {name: PartLayout(*part) for name, part in described["parts"].items()}
        self.layout = Layout(parts, described["recovery"])
        self._recovery = (described["recovery_size"], described["recovery_digest"])
        self._at: dict[tuple[str, Slot], int] = {}
        at = SLOTS_AT
        for name, part in parts.items():
            for slot in Slot:
                self._at[name, slot] = at
                at += part.size
        self._recovery_at = at
        self._controller_at: dict[str, int] = {}
        at += self.layout.recovery
        for name, part in parts.items():
            if part.streamed:
                self._controller_at[name] = at
                at += part.size

    @property
    def record(self) -> BootRecord:
        """The boot record."""
        stored = self._boot.load()
        if stored is None:
            return BootRecord({name: Part(in_place=part.in_place) for name, part in self.layout.parts.items()})
        return _read_record(stored)

    @record.setter
    def record(self, record: BootRecord) -> None:
        self._boot.save(cbor.encode(_encode_record(record)))

    @property
    def data(self) -> dict[str, Any]:
        """The data partition: identity, token, settings, unsent reports. It survives updates."""
        stored = self._data.load()
        return {} if stored is None else _read_data(stored)

    @data.setter
    def data(self, data: dict[str, Any]) -> None:
        self._data.save(cbor.encode(data))

    def keep(self, **values: Any) -> None:
        """Changes some entries of the data partition."""
        self.data = {**self.data, **values}

    def slot_at(self, name: str, slot: Slot) -> int:
        """A slot's first address."""
        return self._at[name, slot]

    def image(self, name: str, slot: Slot) -> bytes:
        """The image that the record notes for a slot, empty if there is none."""
        note = self.record.note(name, slot)
        return b"" if note is None else self.flash.read(self.slot_at(name, slot), note.size)

    def recovery_image(self) -> bytes:
        """The recovery image, empty if there is none or its bytes are damaged."""
        size, digest = self._recovery
        data = self.flash.read(self._recovery_at, size)
        return data if size and hashlib.sha256(data).hexdigest() == digest else b""

    def valid_slots(self) -> Valid:
        """Slots whose bytes match their note, read from the flash."""
        noted = [(name, slot, note) for name, part in self.record.parts.items() for slot, note in part.notes.items()]
        return frozenset(
            (name, slot) for name, slot, note in noted if self.digest_of(name, slot, note.size) == note.digest
        )

    def digest_of(self, name: str, slot: Slot, size: int) -> str:
        """SHA-256 of the first ``size`` bytes of a slot."""
        return hashlib.sha256(self.flash.read(self.slot_at(name, slot), size)).hexdigest()

    def blocks_of(self, name: str, slot: Slot) -> int:
        """How many blocks the file in a slot of a streamed part has."""
        return -(-len(self.image(name, slot)) // BLOCK)

    def stream_block(self, name: str, slot: Slot, number: int) -> None:
        """Streams one block (from 0) of a slot's file into the part's controller; the first one erases all of it."""
        at = self._controller_at[name]
        if number == 0:
            self.flash.erase(at, self.layout.parts[name].size)
        block = self.image(name, slot)[number * BLOCK : (number + 1) * BLOCK]
        self.flash.write(at + number * BLOCK, block)

    def controller_has(self, name: str, slot: Slot) -> bool:
        """Whether a part's controller runs what stands in a slot."""
        note = self.record.note(name, slot)
        return note is not None and self.controller_digest(name, note.size) == note.digest

    def controller_digest(self, name: str, size: int) -> str:
        """SHA-256 of the first ``size`` bytes in a part's controller."""
        return hashlib.sha256(self.flash.read(self._controller_at[name], size)).hexdigest()

    def erase_slot(self, name: str, slot: Slot) -> None:
        """Forgets a slot's note, then erases it: never a note without its bytes."""
        self.note_slot(name, slot, None)
        self.flash.erase(self.slot_at(name, slot), self.layout.parts[name].size)

    def note_slot(self, name: str, slot: Slot, note: SlotNote | None) -> None:
        """Notes what was verified into a slot."""
        record = self.record
        self.record = record.with_part(name, record.parts[name].noted(slot, note))

    def start(self, cause: Cause) -> Boot:
        """Runs the boot loader: finishes copying staging files, wherever a power cut left that, then chooses."""
        record = self.record
        for name in record.copying:
            # Without a whole file there is nothing to try: what ran before was not touched.
            record = copied(record, name) if self._copy(name) else give_up(record, WentBack.CRASHED)
            self.record = record
        record, chosen = boot(record, cause, self.valid_slots(), recovery=bool(self.recovery_image()))
        self.record = record
        return chosen

    def _copy(self, name: str) -> bool:
        """Copies a staging file over the slot that runs, from its start; False if the file is not whole."""
        note = self.record.note(name, Slot.B)
        if note is None or self.digest_of(name, Slot.B, note.size) != note.digest:
            return False
        self._write(self.slot_at(name, Slot.A), self.image(name, Slot.B), self.layout.parts[name].size)
        return True

    def _write(self, at: int, image: bytes, room: int) -> None:
        self.flash.erase(at, room)
        for done in range(0, len(image), BLOCK):
            self.flash.write(at + done, image[done : done + BLOCK])

    def flash_by_cable(self, image: bytes, name: str | None = None, *, keep_trial: bool = False) -> SlotNote:
        """Puts an image into the slot that runs, as a programmer on the bench does: nothing is verified, the boot
        record is put straight (unless a trial is to go on), the data partition stays. Raises ``ValueError`` if that
        cannot be."""
        plate = find_nameplate(image)
        name = name or (plate.component if plate else APP)
        if name not in self.layout.parts:
            raise ValueError(f"the device has no component {name}; it has {', '.join(self.layout.parts)}")
        if len(image) > self.layout.parts[name].size:
            raise ValueError(f"{len(image)} bytes do not fit {self.layout.parts[name].size}")
        record = self.record
        slot = record.parts[name].active
        self.note_slot(name, slot, None)
        self._write(self.slot_at(name, slot), image, self.layout.parts[name].size)
        if name in self._controller_at:
            self._write(self._controller_at[name], image, self.layout.parts[name].size)
        version, floor = (plate.version, plate.floor) if plate else ("", record.floor)
        note = SlotNote(len(image), hashlib.sha256(image).hexdigest(), version, floor, proven=True)
        part = record.parts[name].noted(slot, note)
        record = record.with_part(name, part)
        if not keep_trial:
            record = replace(record, trial=(), copying=(), to_come=(), trial_boots=0, early_resets=0)
        self.record = record
        return note


def make_chip(chip: Chip, layout: Layout, images: Mapping[str, bytes], recovery: bytes = b"") -> Hardware:
    """Makes a device's chip: its layout, its first images, and a recovery image if it has one."""
    if len(recovery) > layout.recovery:
        raise ValueError(f"a recovery image of {len(recovery)} bytes does not fit {layout.recovery}")
    flash = Flash(chip)
    digest = hashlib.sha256(recovery).hexdigest()
    made = {
        "parts": {name: [part.size, part.in_place, part.streamed] for name, part in layout.parts.items()},
        "recovery": layout.recovery,
        "recovery_size": len(recovery),
        "recovery_digest": digest,
    }
    for at in range(0, len(recovery), BLOCK):
        flash.write(layout.recovery_at + at, recovery[at : at + BLOCK])
    Ledger(flash, 0, MADE_AREA).save(cbor.encode(made))
    hardware = Hardware(flash)
    for name, image in images.items():
        hardware.flash_by_cable(image, name)
    return hardware


def make_in_memory(layout: Layout, images: Mapping[str, bytes], recovery: bytes = b"") -> Hardware:
    """A chip that is gone with the process."""
    return make_chip(MemoryChip(bytearray(b"\xff" * layout.chip_size)), layout, images, recovery)


def open_chip(path: Path, supply: Callable[[], bool] = lambda: True) -> Hardware:
    """A chip that was made before."""
    return Hardware(Flash(FileChip(path), supply))


def running_image(path: Path, name: str = APP) -> tuple[str, str]:
    """What a device's flash file would boot, or has at a place: (version, SHA-256 of the very bytes). For checks from
    outside; the file is only read."""
    hardware = Hardware(Flash(MemoryChip(bytearray(FileChip(path).get(0, path.stat().st_size)))))
    chosen = hardware.start(Cause.POWER)
    if chosen.recovery:
        return "recovery", hashlib.sha256(hardware.recovery_image()).hexdigest()
    note = hardware.record.note(name, chosen.slots[name]) if chosen.slots else None
    if note is not None and hardware.layout.parts[name].streamed:
        return note.version, hardware.controller_digest(name, note.size)
    return ("nothing", "") if note is None else (note.version, hardware.digest_of(name, chosen.slots[name], note.size))


def _encode_record(record: BootRecord) -> dict[str, Any]:
    fields = {name: getattr(record, name) for name in BootRecord.__dataclass_fields__}
    fields["parts"] = {
        name: {
            "active": part.active.value,
            "in_place": part.in_place,
            "notes": {slot.value: asdict(note) for slot, note in part.notes.items()},
        }
        for name, part in record.parts.items()
    }
    fields["went_back"] = None if record.went_back is None else record.went_back.value
    return {name: list(value) if isinstance(value, tuple) else value for name, value in fields.items()}


@lru_cache(maxsize=4096)
def _read_record(stored: bytes) -> BootRecord:
    """A boot record is read far more often than it changes, and never changed where it is."""
    return _decode_record(cbor.decode(stored))


def _read_data(stored: bytes) -> dict[str, Any]:
    """The data partition is read far more often than it changes, too, but whoever has it changes it: each has one of
    their own."""
    _check_data(stored)
    return dict(cbor2.loads(stored))


@lru_cache(maxsize=4096)
def _check_data(stored: bytes) -> None:
    cbor.decode(stored)


def _decode_record(fields: Any) -> BootRecord:
    parts = {
        name: Part(
            Slot(part["active"]),
            {Slot(slot): SlotNote(**note) for slot, note in part["notes"].items()},
            part["in_place"],
        )
        for name, part in fields["parts"].items()
    }
    tuples = {name: tuple(fields[name]) for name in ("trial", "copying", "last_set")}
    tuples["to_come"] = tuple(tuple(group) for group in fields.get("to_come", ()))
    went_back = None if fields["went_back"] is None else WentBack(fields["went_back"])
    return BootRecord(**{**fields, **tuples, "parts": parts, "went_back": went_back})
