"""Commands of the application packages, read and written.

Commands of a package follow each other in one payload; who reads them stops at one that is not known, since nothing
tells how long it is. Numbers are little-endian.
"""

from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from enum import IntEnum
from typing import ClassVar, Self, TypeVar

VERSION = 2


class Package(IntEnum):
    """The packages by their identifier."""

    CLOCK = 1
    MULTICAST = 2
    FRAGMENTS = 3


class CutOffError(ValueError):
    """A payload ends in the middle of a command."""


class Reader:
    """Reads numbers and bytes off a payload."""

    def __init__(self, data: bytes) -> None:
        self._data, self._at = data, 0

    def take(self, count: int) -> bytes:
        """The next so many bytes."""
        taken = self._data[self._at : self._at + count]
        if len(taken) < count:
            raise CutOffError(f"{count} bytes expected, {len(taken)} there")
        self._at += count
        return taken

    def number(self, count: int, *, signed: bool = False) -> int:
        """The next number, of so many bytes."""
        return int.from_bytes(self.take(count), "little", signed=signed)

    def rest(self) -> bytes:
        """All that is left."""
        return self.take(self.left)

    @property
    def left(self) -> int:
        """How many bytes are left."""
        return len(self._data) - self._at


class Command(ABC):
    """A command or an answer."""

    package: ClassVar[Package]
    cid: ClassVar[int]
    uplink: ClassVar[bool]

    @abstractmethod
    def body(self) -> bytes:
        """Its bytes after the command's number."""

    @classmethod
    @abstractmethod
    def read(cls, data: Reader) -> Self:
        """The command whose number was read; ``CutOffError`` if there is less than its fields take."""

    def encode(self) -> bytes:
        """Its bytes."""
        return bytes([self.cid]) + self.body()


Kind = TypeVar("Kind", bound=type[Command])
_known: dict[tuple[Package, bool, int], type[Command]] = {}


def known_as(package: Package, cid: int, *, uplink: bool) -> Callable[[Kind], Kind]:
    """Notes which command this is."""

    def note(kind: Kind) -> Kind:
        kind.package, kind.cid, kind.uplink = package, cid, uplink
        _known[package, uplink, cid] = kind
        return kind

    return note


def encode(commands: Sequence[Command]) -> bytes:
    """Commands of one package as one payload."""
    return b"".join(command.encode() for command in commands)


def decode(package: Package, data: bytes, *, uplink: bool) -> list[Command]:
    """The commands of a payload, as far as they are known and whole."""
    reader, found = Reader(data), list[Command]()
    while reader.left:
        kind = _known.get((package, uplink, reader.number(1)))
        if kind is None:
            break
        try:
            found.append(kind.read(reader))
        except CutOffError:
            break
    return found


def little(value: int, count: int) -> bytes:
    """A number as so many bytes."""
    return value.to_bytes(count, "little")


@dataclass(frozen=True)
class Bare(Command):
    """A command without fields."""

    def body(self) -> bytes:
        """Nothing."""
        return b""

    @classmethod
    def read(cls, data: Reader) -> Self:
        """Nothing is read."""
        return cls()


@dataclass(frozen=True)
class PackageVersionAns(Command):
    """Which package a device has, and of which version."""

    package_identifier: int
    package_version: int = VERSION

    def body(self) -> bytes:
        """Two bytes."""
        return bytes([self.package_identifier, self.package_version])

    @classmethod
    def read(cls, data: Reader) -> Self:
        """Two bytes."""
        return cls(data.number(1), data.number(1))


@dataclass(frozen=True)
class Indexed(Command):
    """A command that names nothing but a group or a session."""

    index: int

    def body(self) -> bytes:
        """One byte."""
        return bytes([self.index])

    @classmethod
    def read(cls, data: Reader) -> Self:
        """One byte."""
        return cls(data.number(1) & 0x03)


@dataclass(frozen=True)
class Flagged(Command):
    """A group or session, and one thing that may be wrong with it."""

    index: int
    wrong: bool = False

    def body(self) -> bytes:
        """One byte."""
        return bytes([self.index | self.wrong << 2])

    @classmethod
    def read(cls, data: Reader) -> Self:
        """One byte."""
        head = data.number(1)
        return cls(head & 0x03, bool(head & 0x04))
