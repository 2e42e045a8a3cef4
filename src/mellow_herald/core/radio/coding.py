"""Fragments of a block and their parity, as TS004 of the LoRa Alliance describes it: sent once, and made up for where
some are lost."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

# Numbers of fragments have 14 bits on the air.
MOST_FRAGMENTS = 2**14 - 1
# As many lost fragments a device can make up for: its memory for that is what a real one has.
MOST_MISSING = 256


def prbs23(x: int) -> int:
    """The next state of the 23-bit generator that picks what is in a parity fragment."""
    return (x >> 1) + (((x & 1) ^ ((x >> 5) & 1)) << 22)


def parity_line(number: int, count: int) -> int:
    """Which of ``count`` fragments are in parity fragment ``number`` (both from 1), as a number: bit i stands for
    fragment i + 1. About two in five are."""
    # Where the count is a power of two, the generator's period and the count have nothing but short cycles in common.
    modulus = count + (1 if count & (count - 1) == 0 else 0)
    x = 1 + 1001 * number
    line = 0
    for _ in range(count // 2):
        picked = count
        while picked >= count:
            x = prbs23(x)
            picked = x % modulus
        line |= 1 << picked
    return line


@dataclass(frozen=True, slots=True)
class Block:
    """A block cut into fragments of the same size; the last is filled up with zeros."""

    fragments: tuple[bytes, ...]
    padding: int

    @classmethod
    def cut(cls, block: bytes, size: int) -> "Block":
        """Cuts a block into fragments of ``size`` bytes; ``ValueError`` if they are too many to be numbered."""
        count = fragment_count(len(block), size)
        if count > MOST_FRAGMENTS:
            raise ValueError(f"{len(block)} bytes are {count} fragments of {size}; at most {MOST_FRAGMENTS} go")
        padding = count * size - len(block)
        filled = block + bytes(padding)
        return cls(tuple(filled[at : at + size] for at in range(0, len(filled), size)), padding)

    def payload(self, number: int) -> bytes:
        """What fragment ``number`` (from 1) carries: the fragment itself, or, beyond the last, parity."""
        count = len(self.fragments)
        if number <= count:
            return self.fragments[number - 1]
        mixed = 0
        for at in bits(parity_line(number - count, count)):
            mixed ^= int.from_bytes(self.fragments[at], "little")
        return mixed.to_bytes(len(self.fragments[0]), "little")


def fragment_count(length: int, size: int) -> int:
    """How many fragments of ``size`` bytes a block of ``length`` bytes is."""
    return -(-length // size)


def bits(value: int) -> Iterator[int]:
    """The places of the bits that are set, the lowest first."""
    while value:
        lowest = value & -value
        yield lowest.bit_length() - 1
        value ^= lowest


class Flash(Protocol):
    """Where a device keeps fragments, each at its place (from 0)."""

    def read(self, place: int) -> bytes:
        """The fragment that was written there."""

    def write(self, place: int, fragment: bytes) -> None:
        """Writes a fragment."""


class NotEnoughMemoryError(Exception):
    """More fragments were lost than the device can make up for."""


class Decoder:
    """Puts a block together on a device, fragment by fragment, in bounded memory.

    Beside the flash it keeps a bit for each fragment and, once parity comes, one line for each lost fragment with one
    column for each lost fragment: at most 256 by 256 bits, 8 KiB. A parity fragment's payload is kept at the place of
    the lost fragment whose line it becomes (elimination over GF(2), as lines come).
    """

    def __init__(self, count: int, flash: Flash, *, most_missing: int = MOST_MISSING) -> None:
        self.count = count
        self._flash = flash
        self._most = most_missing
        self._there = bytearray(-(-count // 8))
        self._received = 0
        self._missing: list[int] | None = None
        self._width = -(-most_missing // 8)
        self._lines = bytearray()
        self._solved = 0
        self.complete = count == 0
        self.recovered = 0

    @property
    def memory(self) -> int:
        """Bytes that a device needs for this beside the block: bits, lines, the list of what is missing (two bytes
        each), and a work line."""
        lost = len(self._missing or ())
        return len(self._there) + len(self._lines) + 2 * lost + -(-self.count // 8)

    @property
    def missing(self) -> int:
        """How many more fragments that tell something new are needed."""
        return 0 if self.complete else self.count - self._received - self._solved

    def has(self, place: int) -> bool:
        """Whether the fragment of this place (from 0) was received as it is."""
        return bool(self._there[place >> 3] >> (place & 7) & 1)

    def take(self, number: int, payload: bytes) -> bool:
        """Takes fragment ``number`` (from 1); tells whether the block is complete. ``NotEnoughMemoryError`` if parity
        comes and more is missing than can be made up for: what was received stays."""
        if self.complete or number < 1:
            return self.complete
        if number <= self.count:
            self._take_plain(number - 1, payload)
        else:
            self._take_parity(number - self.count, payload)
        return self.complete

    def _take_plain(self, place: int, payload: bytes) -> None:
        if self.has(place):
            return
        if self._missing is None:
            self._flash.write(place, payload)
            self._there[place >> 3] |= 1 << (place & 7)
            self._received += 1
            if self._received == self.count:
                self.complete = True
            return
        # Parity has come already, and its payloads are at the places of what is missing: this is one more line.
        self._eliminate(1 << self._missing.index(place), payload)

    def _take_parity(self, number: int, payload: bytes) -> None:
        if self._missing is None:
            lost = [place for place in range(self.count) if not self.has(place)]
            if len(lost) > self._most:
                raise NotEnoughMemoryError(f"{len(lost)} fragments are missing, {self._most} can be made up for")
            self._missing = lost
            self._lines = bytearray(len(lost) * self._width)
        mixed, line = int.from_bytes(payload, "little"), 0
        column = {place: at for at, place in enumerate(self._missing)}
        for place in bits(parity_line(number, self.count)):
            at = column.get(place)
            if at is None:
                mixed ^= int.from_bytes(self._flash.read(place), "little")
            else:
                line |= 1 << at
        self._eliminate(line, mixed.to_bytes(len(payload), "little"))

    def _eliminate(self, line: int, payload: bytes) -> None:
        assert self._missing is not None
        mixed = int.from_bytes(payload, "little")
        while line:
            pivot = (line & -line).bit_length() - 1
            known = self._line(pivot)
            if not known:
                self._keep(pivot, line)
                self._flash.write(self._missing[pivot], mixed.to_bytes(len(payload), "little"))
                self._solved += 1
                if self._solved == len(self._missing):
                    self._solve(len(payload))
                return
            line ^= known
            mixed ^= int.from_bytes(self._flash.read(self._missing[pivot]), "little")

    def _solve(self, size: int) -> None:
        """Every lost fragment has a line whose lowest bit it is: from the last on, each takes out those after it."""
        assert self._missing is not None
        for pivot in reversed(range(len(self._missing))):
            others = self._line(pivot) & ~(1 << pivot)
            if not others:
                continue
            mixed = int.from_bytes(self._flash.read(self._missing[pivot]), "little")
            for at in bits(others):
                mixed ^= int.from_bytes(self._flash.read(self._missing[at]), "little")
            self._flash.write(self._missing[pivot], mixed.to_bytes(size, "little"))
        self.recovered = len(self._missing)
        self.complete = True

    def _line(self, pivot: int) -> int:
        at = pivot * self._width
        return int.from_bytes(self._lines[at : at + self._width], "little")

    def _keep(self, pivot: int, line: int) -> None:
        at = pivot * self._width
        self._lines[at : at + self._width] = line.to_bytes(self._width, "little")


class MemoryFlash:
    """Flash of one block, in memory."""

    def __init__(self, count: int, size: int) -> None:
        self._size = size
        self.block = bytearray(count * size)

    def read(self, place: int) -> bytes:
        """The fragment at a place."""
        return bytes(self.block[place * self._size : (place + 1) * self._size])

    def write(self, place: int, fragment: bytes) -> None:
        """Writes a fragment."""
        self.block[place * self._size : (place + 1) * self._size] = fragment
