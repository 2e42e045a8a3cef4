"""What a device says of its parts: what runs or counts, and what stands by."""

from collections.abc import Mapping

from mellow_herald.core.board import BROKEN
from mellow_herald.core.component import Kind, kind_of
from mellow_herald.sim.bootloader import APP, Slot, SlotNote
from mellow_herald.sim.hardware import Hardware
from mellow_herald.sim.standing import Standing
from mellow_herald.sim.update import standby
from mellow_herald.wire.device import Content


def running_content(hardware: Hardware, standing: Standing) -> dict[str, Content]:
    """What runs or counts, by component."""
    record, boot, firmware = hardware.record, standing.boot, standing.firmware
    if boot.recovery:
        version, digest = firmware.version or None, firmware.digest
        return {APP: Content(version=version, digest=digest, slot="recovery", floor=record.floor)}
    notes = {name: (slot, record.note(name, slot)) for name, slot in boot.slots.items()}
    found = {name: _content(hardware, name, slot, note) for name, (slot, note) in notes.items() if note is not None}
    for name in standing.broken & found.keys():
        size = hardware.layout.parts[name].size
        found[name] = Content(digest=hardware.controller_digest(name, size), slot=BROKEN)
    return found


def standby_content(hardware: Hardware, standing: Standing) -> dict[str, Content]:
    """What stands by, by component."""
    boot = standing.boot
    # With nothing running, what is noted may be what was found damaged: look again.
    valid = hardware.valid_slots() if boot.recovery else None
    content = {}
    for name in hardware.layout.parts:
        slot = standby(hardware, name, boot)
        note = hardware.record.note(name, slot)
        if note is not None and (valid is None or (name, slot) in valid):
            content[name] = _content(hardware, name, slot, note)
    return content


def digests(contents: Mapping[str, Content]) -> dict[str, str]:
    """What slots hold, by component."""
    return {name: content.digest for name, content in contents.items()}


def _content(hardware: Hardware, name: str, slot: Slot, note: SlotNote) -> Content:
    # What has a place has no floor number of its own: it may always come back.
    floor = note.floor if kind_of(name) is Kind.FIRMWARE else hardware.record.floor
    return Content(version=note.version or None, digest=note.digest, slot=slot.value, floor=floor)
