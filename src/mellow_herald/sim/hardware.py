"""A device's hardware: a flash chip with boot record, data partition and two slots, and what is kept on it."""

import hashlib
import mmap
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path
from typing import Any

from mellow_herald.core import cbor
from mellow_herald.core.nameplate import find_nameplate
from mellow_herald.sim.bootloader import Boot, BootRecord, Cause, Slot, SlotNote, WentBack, boot
from mellow_herald.sim.flash import SECTOR, Flash, Ledger

BOOT_AREA = SECTOR
DATA_AREA = 4 * SECTOR
DATA_AT = 2 * BOOT_AREA
SLOTS_AT = DATA_AT + 2 * DATA_AREA
BLOCK = SECTOR


def chip_size(slot_size: int) -> int:
    """Bytes of flash a device with slots of ``slot_size`` bytes needs."""
    return SLOTS_AT + 2 * slot_size


class Hardware:
    """The chip's contents by name. Nothing here is remembered outside the flash."""

    def __init__(self, flash: Flash) -> None:
        self.flash = flash
        self.slot_size = (flash.size - SLOTS_AT) // 2
        self._boot = Ledger(flash, 0, BOOT_AREA)
        self._data = Ledger(flash, DATA_AT, DATA_AREA)

    @property
    def record(self) -> BootRecord:
        """The boot record."""
        stored = self._boot.load()
        return BootRecord() if stored is None else _decode_record(cbor.decode(stored))

    @record.setter
    def record(self, record: BootRecord) -> None:
        self._boot.save(cbor.encode(_encode_record(record)))

    @property
    def data(self) -> dict[str, Any]:
        """The data partition: identity, token, settings, unsent reports. It survives updates."""
        stored = self._data.load()
        return {} if stored is None else dict(cbor.decode(stored))

    @data.setter
    def data(self, data: dict[str, Any]) -> None:
        self._data.save(cbor.encode(data))

    def slot_at(self, slot: Slot) -> int:
        """The slot's first address."""
        return SLOTS_AT + (0 if slot is Slot.A else self.slot_size)

    def image(self, slot: Slot) -> bytes:
        """The image that the record notes for a slot, empty if there is none."""
        note = self.record.notes.get(slot)
        return b"" if note is None else self.flash.read(self.slot_at(slot), note.size)

    def valid_slots(self) -> frozenset[Slot]:
        """Slots whose bytes match their note, read from the flash."""
        notes = self.record.notes
        return frozenset(slot for slot in notes if self.digest_of(slot, notes[slot].size) == notes[slot].digest)

    def digest_of(self, slot: Slot, size: int) -> str:
        """SHA-256 of the first ``size`` bytes of a slot."""
        return hashlib.sha256(self.flash.read(self.slot_at(slot), size)).hexdigest()

    def erase_slot(self, slot: Slot) -> None:
        """Forgets a slot's note, then erases it: never a note without its bytes."""
        record = self.record
        self.record = _without_note(record, slot)
        self.flash.erase(self.slot_at(slot), self.slot_size)

    def note_slot(self, slot: Slot, note: SlotNote) -> None:
        """Notes what was verified into a slot."""
        record = self.record
        self.record = _with_note(record, slot, note)

    def start(self, cause: Cause) -> Boot:
        """Runs the boot loader."""
        record, chosen = boot(self.record, cause, self.valid_slots())
        self.record = record
        return chosen

    def install_at_factory(self, image: bytes) -> None:
        """Puts the first image into slot A, by cable."""
        plate = find_nameplate(image)
        if plate is None:
            raise ValueError("a factory image needs a nameplate")
        self.erase_slot(Slot.A)
        for at in range(0, len(image), BLOCK):
            self.flash.write(self.slot_at(Slot.A) + at, image[at : at + BLOCK])
        digest = hashlib.sha256(image).hexdigest()
        self.note_slot(Slot.A, SlotNote(len(image), digest, plate.version, plate.floor))


def open_chip(path: Path, slot_size: int, supply: Callable[[], bool] = lambda: True) -> tuple[Hardware, bool]:
    """A chip kept in a file, and whether it is new. What is written is in the file at once, whatever ends us."""
    size = chip_size(slot_size)
    new = not path.exists()
    if new:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(b"\xff" * size)
    with path.open("r+b") as file:
        memory = mmap.mmap(file.fileno(), size)
    return Hardware(Flash(memoryview(memory), supply)), new


def running_image(path: Path) -> tuple[str, str]:
    """What a device's flash file would boot: (version, SHA-256 of the very bytes). For checks from outside."""
    hardware = Hardware(Flash(bytearray(path.read_bytes())))
    record = hardware.record
    _, chosen = boot(record, Cause.POWER, hardware.valid_slots())
    if chosen.slot is None:
        return "nothing", ""
    note = record.notes[chosen.slot]
    return note.version, hardware.digest_of(chosen.slot, note.size)


def _without_note(record: BootRecord, slot: Slot) -> BootRecord:
    notes = {name: note for name, note in record.notes.items() if name is not slot}
    return BootRecord(**{**_fields(record), "notes": notes})


def _with_note(record: BootRecord, slot: Slot, note: SlotNote) -> BootRecord:
    return BootRecord(**{**_fields(record), "notes": {**record.notes, slot: note}})


def _fields(record: BootRecord) -> dict[str, Any]:
    return {name: getattr(record, name) for name in BootRecord.__dataclass_fields__}


def _encode_record(record: BootRecord) -> dict[str, Any]:
    fields = _fields(record)
    fields["active"] = record.active.value
    fields["trial"] = None if record.trial is None else record.trial.value
    fields["went_back"] = None if record.went_back is None else record.went_back.value
    fields["notes"] = {slot.value: asdict(note) for slot, note in record.notes.items()}
    return fields


def _decode_record(fields: Any) -> BootRecord:
    return BootRecord(
        **{
            **fields,
            "active": Slot(fields["active"]),
            "trial": None if fields["trial"] is None else Slot(fields["trial"]),
            "went_back": None if fields["went_back"] is None else WentBack(fields["went_back"]),
            "notes": {Slot(slot): SlotNote(**note) for slot, note in fields["notes"].items()},
        }
    )
