"""An update on real (simulated) flash, with the power cut at every single operation."""

import hashlib
from pathlib import Path

import pytest

from mellow_herald.sim.bootloader import BootRecord, Cause, Slot, SlotNote, arm, confirm
from mellow_herald.sim.flash import SECTOR, Flash, PowerLost
from mellow_herald.sim.hardware import BLOCK, Hardware, chip_size, open_chip, running_image
from tests.harness.firmware import make_bytes

SLOT_SIZE = 8 * SECTOR
OLD, NEW = make_bytes("2.4.0", size=3 * SECTOR), make_bytes("2.5.0", size=5 * SECTOR + 100)
DIGESTS = {hashlib.sha256(data).hexdigest(): name for name, data in (("old", OLD), ("new", NEW))}


class Supply:
    """Cuts power at operation number ``cut`` (never, if None) and counts."""

    def __init__(self, cut: int | None = None) -> None:
        self.cut, self.done = cut, 0

    def __call__(self) -> bool:
        self.done += 1
        return self.cut is None or self.done < self.cut


def made() -> bytearray:
    memory = bytearray(b"\xff" * chip_size(SLOT_SIZE))
    Hardware(Flash(memory)).install_at_factory(OLD)
    return memory


def update(hardware: Hardware) -> None:
    """What a device does from fetch to confirm."""
    hardware.start(Cause.POWER)
    hardware.data = {"settings": {"sample_every_s": 600}}
    hardware.erase_slot(Slot.B)
    for at in range(0, len(NEW), BLOCK):
        hardware.flash.write(hardware.slot_at(Slot.B) + at, NEW[at : at + BLOCK])
    assert hardware.digest_of(Slot.B, len(NEW)) == hashlib.sha256(NEW).hexdigest()
    hardware.note_slot(Slot.B, SlotNote(len(NEW), hashlib.sha256(NEW).hexdigest(), "2.5.0", 4))
    hardware.record = arm(hardware.record, Slot.B)
    assert hardware.start(Cause.ORDER).on_trial
    hardware.data = {**hardware.data, "token": "t"}
    hardware.record = confirm(hardware.record)


def operations_of_an_update() -> int:
    supply = Supply()
    update(Hardware(Flash(made(), supply)))
    return supply.done


def test_wherever_power_is_cut_a_whole_image_boots_and_data_survives() -> None:
    total = operations_of_an_update()
    assert total > 25
    for cut in range(1, total + 1):
        memory = made()
        with pytest.raises(PowerLost):
            update(Hardware(Flash(memory, Supply(cut))))
        after = Hardware(Flash(memory))
        chosen = after.start(Cause.POWER)
        assert chosen.slot is not None, f"no bootable slot after a cut at operation {cut}"
        assert hashlib.sha256(after.image(chosen.slot)).hexdigest() in DIGESTS
        assert after.data in ({}, {"settings": {"sample_every_s": 600}}) or after.data["token"] == "t"


def test_after_any_cut_the_update_can_be_done_again_to_its_end() -> None:
    for cut in range(1, operations_of_an_update() + 1, 3):
        memory = made()
        with pytest.raises(PowerLost):
            update(Hardware(Flash(memory, Supply(cut))))
        device = Hardware(Flash(memory))
        if device.start(Cause.POWER).slot is Slot.A:
            update(device)
        else:
            device.record = confirm(device.record)
        final = Hardware(Flash(memory)).start(Cause.POWER)
        assert final.slot is Slot.B and not final.on_trial


def test_one_flipped_bit_in_a_slot_makes_it_invalid() -> None:
    memory = made()
    hardware = Hardware(Flash(memory))
    assert hardware.valid_slots() == {Slot.A}
    memory[hardware.slot_at(Slot.A) + 1234] ^= 1
    assert hardware.valid_slots() == frozenset()


def test_a_chip_in_a_file_survives_its_process(tmp_path: Path) -> None:
    path = tmp_path / "TA-1.flash"
    hardware, new = open_chip(path, SLOT_SIZE)
    assert new
    hardware.install_at_factory(OLD)
    hardware.data = {"token": "t"}
    again, new = open_chip(path, SLOT_SIZE)
    assert not new and again.data == {"token": "t"}
    assert running_image(path) == ("2.4.0", hashlib.sha256(OLD).hexdigest())


def test_looking_at_a_chip_from_outside_changes_nothing(tmp_path: Path) -> None:
    path = tmp_path / "TA-1.flash"
    open_chip(path, SLOT_SIZE)[0].install_at_factory(OLD)
    before = path.read_bytes()
    running_image(path)
    assert path.read_bytes() == before


def test_an_empty_chip_has_an_empty_record() -> None:
    hardware = Hardware(Flash(bytearray(b"\xff" * chip_size(SLOT_SIZE))))
    assert hardware.record == BootRecord()
    assert hardware.start(Cause.POWER).slot is None
