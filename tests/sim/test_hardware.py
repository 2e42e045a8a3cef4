"""An update on real (simulated) flash, with the power cut at every single operation."""

import hashlib
from pathlib import Path

import pytest

from mellow_herald.sim.bootloader import APP, Boot, Cause, Slot, SlotNote, WentBack, arm, confirm, give_up
from mellow_herald.sim.flash import SECTOR, FileChip, Flash, MemoryChip, PowerLost
from mellow_herald.sim.hardware import (
    BLOCK,
    Hardware,
    Layout,
    PartLayout,
    make_chip,
    make_in_memory,
    open_chip,
    running_image,
)
from tests.harness.firmware import make_bytes

OLD, NEW = make_bytes("2.4.0", size=3 * SECTOR), make_bytes("2.5.0", size=5 * SECTOR + 100)
RECOVERY = make_bytes("1.0.0-recovery", size=SECTOR)
DIGESTS = {hashlib.sha256(data).hexdigest(): name for name, data in (("old", OLD), ("new", NEW))}
TWO_SLOTS = Layout({APP: PartLayout(8 * SECTOR)})
IN_PLACE = Layout({APP: PartLayout(8 * SECTOR, in_place=True)}, recovery=SECTOR)


class Supply:
    """Cuts power at operation number ``cut`` (never, if None) and counts."""

    def __init__(self, cut: int | None = None) -> None:
        self.cut, self.done = cut, 0

    def __call__(self) -> bool:
        self.done += 1
        return self.cut is None or self.done < self.cut


def made(layout: Layout = TWO_SLOTS) -> bytearray:
    chip = MemoryChip(bytearray(b"\xff" * layout.chip_size))
    make_chip(chip, layout, {APP: OLD}, RECOVERY if layout.recovery else b"")
    return chip.memory


def opened(memory: bytearray, supply: Supply | None = None) -> Hardware:
    return Hardware(Flash(MemoryChip(memory), supply or Supply()))


def update(hardware: Hardware) -> Boot:
    """What a device does from fetch to confirm."""
    hardware.start(Cause.POWER)
    hardware.data = {"settings": {"sample_every_s": 600}}
    hardware.erase_slot(APP, Slot.B)
    for at in range(0, len(NEW), BLOCK):
        hardware.flash.write(hardware.slot_at(APP, Slot.B) + at, NEW[at : at + BLOCK])
    assert hardware.digest_of(APP, Slot.B, len(NEW)) == hashlib.sha256(NEW).hexdigest()
    hardware.note_slot(APP, Slot.B, SlotNote(len(NEW), hashlib.sha256(NEW).hexdigest(), "2.5.0", 4))
    hardware.record = arm(hardware.record, [APP])
    chosen = hardware.start(Cause.ORDER)
    assert chosen.on_trial
    hardware.keep(token="t")
    hardware.record = confirm(hardware.record)
    return chosen


@pytest.mark.parametrize("layout", [TWO_SLOTS, IN_PLACE], ids=["two slots", "in place"])
def test_wherever_power_is_cut_a_whole_image_boots_and_data_survives(layout: Layout) -> None:
    supply = Supply()
    update(opened(made(layout), supply))
    assert supply.done > 25
    for cut in range(1, supply.done + 1):
        memory = made(layout)
        with pytest.raises(PowerLost):
            update(opened(memory, Supply(cut)))
        after = opened(memory)
        chosen = after.start(Cause.POWER)
        assert chosen.slot is not None, f"no bootable slot after a cut at operation {cut}"
        assert hashlib.sha256(after.image(APP, chosen.slot)).hexdigest() in DIGESTS
        assert after.data in ({}, {"settings": {"sample_every_s": 600}}) or after.data["token"] == "t"
        final = opened(memory)
        final.start(Cause.POWER)
        if final.record.trial:
            final.record = confirm(final.record)
        if final.image(APP, final.record.parts[APP].active) != NEW:
            update(final)
        again = opened(memory).start(Cause.POWER)
        assert not again.on_trial and again.slot is not None
        assert opened(memory).image(APP, again.slot) == NEW, "the update can be done again to its end"


def test_a_part_in_place_has_no_way_back_but_recovery() -> None:
    memory = made(IN_PLACE)
    hardware = opened(memory)
    hardware.erase_slot(APP, Slot.B)
    hardware.flash.write(hardware.slot_at(APP, Slot.B), NEW[:100])
    hardware.note_slot(APP, Slot.B, SlotNote(100, hashlib.sha256(NEW[:100]).hexdigest(), "2.5.0", 4))
    hardware.record = arm(hardware.record, [APP])
    assert hardware.start(Cause.ORDER) == Boot({APP: Slot.A}, on_trial=True)
    assert hardware.image(APP, Slot.A) == NEW[:100] and Slot.B not in hardware.record.parts[APP].notes
    hardware.record = give_up(hardware.record, WentBack.SELF_TEST_FAILED)
    assert hardware.start(Cause.GIVE_UP) == Boot(recovery=True)
    assert hardware.recovery_image() == RECOVERY
    memory[-10] ^= 1
    memory[IN_PLACE.chip_size - SECTOR] ^= 1
    assert opened(memory).recovery_image() == b"", "a damaged recovery image is none"
    assert opened(memory).start(Cause.POWER).slot is Slot.A, "then what there is goes on, proven or not"


def test_a_staging_file_that_was_damaged_is_not_copied() -> None:
    memory = made(IN_PLACE)
    hardware = opened(memory)
    hardware.erase_slot(APP, Slot.B)
    hardware.flash.write(hardware.slot_at(APP, Slot.B), NEW[:100])
    hardware.note_slot(APP, Slot.B, SlotNote(100, hashlib.sha256(NEW[:100]).hexdigest(), "2.5.0", 4))
    hardware.record = arm(hardware.record, [APP])
    memory[hardware.slot_at(APP, Slot.B) + 50] ^= 1
    chosen = hardware.start(Cause.ORDER)
    assert not chosen.on_trial and hardware.image(APP, Slot.A) == OLD


def test_a_cable_puts_anything_into_the_slot_that_runs() -> None:
    hardware = opened(made())
    hardware.data = {"token": "t"}
    note = hardware.flash_by_cable(NEW)
    assert note.version == "2.5.0" and note.proven
    assert hardware.start(Cause.BUTTON) == Boot({APP: Slot.A})
    assert hardware.image(APP, Slot.A) == NEW and hardware.data == {"token": "t"}
    assert hardware.flash_by_cable(b"plain code" * 100).version == "", "no nameplate, no version"
    with pytest.raises(ValueError, match="do not fit"):
        hardware.flash_by_cable(b"x" * 9 * SECTOR)
    with pytest.raises(ValueError, match="has no component radio"):
        hardware.flash_by_cable(NEW, "radio")


def test_one_flipped_bit_in_a_slot_makes_it_invalid() -> None:
    memory = made()
    hardware = opened(memory)
    assert hardware.valid_slots() == {(APP, Slot.A)}
    memory[hardware.slot_at(APP, Slot.A) + 1234] ^= 1
    assert hardware.valid_slots() == frozenset()
    assert hardware.start(Cause.POWER) == Boot()


def test_a_chip_in_a_file_survives_its_process_and_takes_no_room_where_it_is_erased(tmp_path: Path) -> None:
    path = tmp_path / "TA-1.flash"
    layout = Layout({APP: PartLayout(256 * SECTOR)})
    make_chip(FileChip(path, layout.chip_size), layout, {APP: OLD}).data = {"token": "t"}
    assert open_chip(path).data == {"token": "t"}
    assert open_chip(path).layout == layout
    assert running_image(path) == ("2.4.0", hashlib.sha256(OLD).hexdigest())
    assert path.stat().st_size == layout.chip_size and path.stat().st_blocks * 512 < layout.chip_size // 4
    with pytest.raises(FileNotFoundError):
        open_chip(tmp_path / "TA-2.flash")


def test_looking_at_a_chip_from_outside_changes_nothing(tmp_path: Path) -> None:
    path = tmp_path / "TA-1.flash"
    make_chip(FileChip(path, TWO_SLOTS.chip_size), TWO_SLOTS, {APP: OLD})
    before = path.read_bytes()
    running_image(path)
    assert path.read_bytes() == before


def test_what_runs_in_recovery_or_not_at_all_is_said(tmp_path: Path) -> None:
    path = tmp_path / "TA-1.flash"
    hardware = make_chip(FileChip(path, IN_PLACE.chip_size), IN_PLACE, {APP: OLD}, RECOVERY)
    hardware.flash.erase(hardware.slot_at(APP, Slot.A), SECTOR)
    assert running_image(path) == ("recovery", hashlib.sha256(RECOVERY).hexdigest())
    path = tmp_path / "TA-2.flash"
    hardware = make_chip(FileChip(path, TWO_SLOTS.chip_size), TWO_SLOTS, {APP: OLD})
    hardware.flash.erase(hardware.slot_at(APP, Slot.A), SECTOR)
    assert running_image(path) == ("nothing", "")


def test_a_chip_that_was_never_made_is_none() -> None:
    with pytest.raises(ValueError, match="never made"):
        opened(bytearray(b"\xff" * TWO_SLOTS.chip_size))
    with pytest.raises(ValueError, match="does not fit"):
        make_in_memory(TWO_SLOTS, {APP: OLD}, RECOVERY)
