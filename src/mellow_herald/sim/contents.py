"""What a device says of its slots: what runs, and what stands by."""

from collections.abc import Mapping

from mellow_herald.sim.bootloader import APP, Boot, Slot, SlotNote
from mellow_herald.sim.firmware import Firmware
from mellow_herald.sim.hardware import Hardware
from mellow_herald.sim.update import standby
from mellow_herald.wire.device import Content


def running_content(hardware: Hardware, boot: Boot, firmware: Firmware) -> dict[str, Content]:
    """What runs, by component."""
    record = hardware.record
    if boot.recovery:
        version, digest = firmware.version or None, firmware.digest
        return {APP: Content(version=version, digest=digest, slot="recovery", floor=record.floor)}
    notes = {name: (slot, record.note(name, slot)) for name, slot in boot.slots.items()}
    return {name: _content(slot, note) for name, (slot, note) in notes.items() if note is not None}


def standby_content(hardware: Hardware, boot: Boot) -> dict[str, Content]:
    """What stands by, by component."""
    # With nothing running, what is noted may be what was found damaged: look again.
    valid = hardware.valid_slots() if boot.recovery else None
    content = {}
    for name in hardware.layout.parts:
        slot = standby(hardware, name, boot)
        note = hardware.record.note(name, slot)
        if note is not None and (valid is None or (name, slot) in valid):
            content[name] = _content(slot, note)
    return content


def digests(contents: Mapping[str, Content]) -> dict[str, str]:
    """What slots hold, by component."""
    return {name: content.digest for name, content in contents.items()}


def _content(slot: Slot, note: SlotNote) -> Content:
    return Content(version=note.version or None, digest=note.digest, slot=slot.value, floor=note.floor)
