from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.sim.flash import SECTOR, FileChip, Flash, Ledger, MemoryChip, PowerLost


class Supply:
    """Power for so many operations."""

    def __init__(self, operations: int) -> None:
        self.left = operations

    def __call__(self) -> bool:
        self.left -= 1
        return self.left >= 0


def test_writing_only_clears_bits() -> None:
    flash = Flash(MemoryChip(bytearray(b"\xff" * SECTOR)))
    flash.write(0, b"\xf0\x0f")
    flash.write(0, b"\x3c\xff")
    assert flash.read(0, 3) == b"\x30\x0f\xff"
    flash.erase(0, SECTOR)
    assert flash.read(0, 2) == b"\xff\xff"


def test_only_whole_sectors_are_erased() -> None:
    flash = Flash(MemoryChip(bytearray(2 * SECTOR)))
    with pytest.raises(ValueError, match="whole sectors"):
        flash.erase(1, SECTOR)
    with pytest.raises(ValueError, match="whole sectors"):
        Flash(MemoryChip(bytearray(SECTOR + 1)))


def test_losing_power_leaves_an_operation_half_done() -> None:
    flash = Flash(MemoryChip(bytearray(b"\x00" * SECTOR)), Supply(0))
    with pytest.raises(PowerLost):
        flash.erase(0, SECTOR)
    assert flash.read(0, SECTOR) == b"\xff" * (SECTOR // 2) + b"\x00" * (SECTOR // 2)


@given(contents=st.lists(st.binary(max_size=300), min_size=1, max_size=6), operations=st.integers(0, 12))
def test_a_ledger_holds_the_last_content_or_the_one_being_replaced(contents: list[bytes], operations: int) -> None:
    memory = bytearray(b"\xff" * 2 * SECTOR)
    ledger = Ledger(Flash(MemoryChip(memory), Supply(operations)), 0, SECTOR)
    last: bytes | None = None
    for content in contents:
        try:
            ledger.save(content)
        except PowerLost:
            found = Ledger(Flash(MemoryChip(memory)), 0, SECTOR).load()
            assert found == last or (content == b"" and found in (last, content))
            return
        last = content
        assert ledger.load() == content


def test_an_empty_chip_has_an_empty_ledger() -> None:
    assert Ledger(Flash(MemoryChip(bytearray(b"\xff" * 2 * SECTOR))), 0, SECTOR).load() is None
    with pytest.raises(ValueError, match="do not fit"):
        Ledger(Flash(MemoryChip(bytearray(b"\xff" * 2 * SECTOR))), 0, SECTOR).save(b"x" * SECTOR)


def test_a_chip_in_a_file_is_the_same_chip(tmp_path: Path) -> None:
    flash = Flash(FileChip(tmp_path / "chip", 2 * SECTOR))
    assert flash.read(0, SECTOR) == b"\xff" * SECTOR and flash.size == 2 * SECTOR
    flash.write(100, b"\xf0\x0f")
    flash.write(100, b"\x3c")
    again = Flash(FileChip(tmp_path / "chip"))
    assert again.read(100, 3) == b"\x30\x0f\xff"
    again.erase(0, SECTOR)
    assert flash.read(0, SECTOR) == b"\xff" * SECTOR
