"""A NOR flash chip: erased to ones by sectors, written by clearing bits, and losing power in the middle of either."""

import os
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Protocol

SECTOR = 4096
BLANK = b"\xff" * SECTOR
COMPLEMENT = bytes(255 - value for value in range(256))


class PowerLost(Exception):
    """The supply went away in the middle of an operation."""


class Chip(Protocol):
    """Where a chip's bytes are kept; a whole number of sectors."""

    @property
    def size(self) -> int:
        """Bytes on the chip."""
        ...

    def get(self, at: int, length: int) -> bytes:
        """Bytes as they stand."""
        ...

    def put(self, at: int, data: bytes) -> None:
        """Puts bytes, whatever stood there."""
        ...


class MemoryChip:
    """A chip that is gone with the process."""

    def __init__(self, memory: bytearray) -> None:
        self.memory = memory

    @property
    def size(self) -> int:
        """Bytes on the chip."""
        return len(self.memory)

    def get(self, at: int, length: int) -> bytes:
        """Bytes as they stand."""
        return bytes(self.memory[at : at + length])

    def put(self, at: int, data: bytes) -> None:
        """Puts bytes, whatever stood there."""
        self.memory[at : at + len(data)] = data


class FileChip:
    """A chip in a file; what is put is there at once, whatever ends the process.

    The file holds the complement of the bytes: erased flash is all ones, so it is a hole in the file and takes no
    room. No file stays open and nothing is held in memory, since a process runs thousands of these.
    """

    def __init__(self, path: Path, size: int | None = None) -> None:
        self._path = path
        if not path.exists():
            if size is None:
                raise FileNotFoundError(path)
            path.parent.mkdir(parents=True, exist_ok=True)
            with path.open("xb") as file:
                file.truncate(size)
        self._size = path.stat().st_size

    @property
    def size(self) -> int:
        """Bytes on the chip."""
        return self._size

    def get(self, at: int, length: int) -> bytes:
        """Bytes as they stand."""
        file = os.open(self._path, os.O_RDONLY | os.O_CLOEXEC)
        try:
            return os.pread(file, length, at).translate(COMPLEMENT)
        finally:
            os.close(file)

    def put(self, at: int, data: bytes) -> None:
        """Puts bytes, whatever stood there."""
        file = os.open(self._path, os.O_WRONLY | os.O_CLOEXEC)
        try:
            os.pwrite(file, data.translate(COMPLEMENT), at)
        finally:
            os.close(file)


class Flash:
    """What may be done to a chip. ``supply`` is asked before every sector erase and every write; when it says no, the
    operation is done half and ``PowerLost`` is raised."""

    def __init__(self, chip: Chip, supply: Callable[[], bool] = lambda: True) -> None:
        self._chip = chip
        self.supply = supply
        if chip.size % SECTOR:
            raise ValueError("a chip has whole sectors")

    @property
    def size(self) -> int:
        """Bytes on the chip."""
        return self._chip.size

    def read(self, at: int, length: int) -> bytes:
        """Reads ``length`` bytes."""
        return self._chip.get(at, length)

    def erase(self, at: int, length: int) -> None:
        """Erases the sectors from ``at``; both numbers are multiples of the sector size."""
        if at % SECTOR or length % SECTOR:
            raise ValueError("only whole sectors can be erased")
        for sector in range(at, at + length, SECTOR):
            lost = not self.supply()
            size = SECTOR // 2 if lost else SECTOR
            if self._chip.get(sector, size) != BLANK[:size]:
                self._chip.put(sector, BLANK[:size])
            if lost:
                raise PowerLost

    def write(self, at: int, data: bytes) -> None:
        """Writes by clearing bits: what was not erased before ends up as the AND of old and new."""
        lost = not self.supply()
        if lost:
            data = data[: len(data) // 2]
        old = self._chip.get(at, len(data))
        mixed = int.from_bytes(old, "big") & int.from_bytes(data, "big")
        self._chip.put(at, mixed.to_bytes(len(data), "big"))
        if lost:
            raise PowerLost


class Ledger:
    """A record that is replaced whole or not at all: two copies in two areas, written in turn.

    A copy is 4 bytes number, 4 bytes length, the content, 4 bytes CRC-32 (all little endian). The copy with the
    highest number and a good CRC counts, so losing power while one is written leaves the other.
    """

    def __init__(self, flash: Flash, at: int, area: int) -> None:
        self._flash, self._at, self._area = flash, at, area

    def load(self) -> bytes | None:
        """The content written last, or None if there never was one."""
        copies = [copy for copy in self._copies() if copy is not None]
        return max(copies)[1] if copies else None

    def save(self, content: bytes) -> None:
        """Replaces the content."""
        numbers = [copy[0] if copy else 0 for copy in self._copies()]
        place = 0 if numbers[0] <= numbers[1] else 1
        body = (max(numbers) + 1).to_bytes(4, "little") + len(content).to_bytes(4, "little") + content
        if len(body) + 4 > self._area:
            raise ValueError(f"{len(content)} bytes do not fit an area of {self._area}")
        start = self._at + place * self._area
        self._flash.erase(start, self._area)
        self._flash.write(start, body + zlib.crc32(body).to_bytes(4, "little"))

    def _copies(self) -> list[tuple[int, bytes] | None]:
        # Read at once: a device reads its ledgers many times a call.
        both = self._flash.read(self._at, 2 * self._area)
        return [_copy(both[: self._area]), _copy(both[self._area :])]


def _copy(area: bytes) -> tuple[int, bytes] | None:
    """The number and the content of the copy in an area, None if it is not whole."""
    end = 8 + int.from_bytes(area[4:8], "little")
    if end + 4 > len(area):
        return None
    if zlib.crc32(area[:end]) != int.from_bytes(area[end : end + 4], "little"):
        return None
    return int.from_bytes(area[:4], "little"), area[8:end]
