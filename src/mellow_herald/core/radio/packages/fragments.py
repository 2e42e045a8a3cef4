"""Fragmented data blocks (TS004-2.0.0, from memory)."""

from dataclasses import dataclass
from enum import IntFlag
from typing import Self

from mellow_herald.core.radio.packages.command import (
    Bare,
    Command,
    Flagged,
    Indexed,
    Package,
    PackageVersionAns,
    Reader,
    known_as,
    little,
)

# More missing fragments than that are told as so many.
MOST_TOLD = 0xFF


class SetupError(IntFlag):
    """Why a device does not take a fragmentation session."""

    ALGO_UNSUPPORTED = 1
    NOT_ENOUGH_MEMORY = 2
    INDEX_UNSUPPORTED = 4
    WRONG_DESCRIPTOR = 8
    SESSION_REPLAYED = 16


class FragmentError(IntFlag):
    """What is wrong with a device's fragmentation session."""

    NOT_ENOUGH_MATRIX_MEMORY = 1
    MIC_ERROR = 2
    NO_SESSION = 4


TAKEN = SetupError(0)
ALL_WELL = FragmentError(0)


@known_as(Package.FRAGMENTS, 0x00, uplink=False)
@dataclass(frozen=True)
class FragmentsVersionReq(Bare):
    """Asks for the package's version."""


@known_as(Package.FRAGMENTS, 0x00, uplink=True)
@dataclass(frozen=True)
class FragmentsVersionAns(PackageVersionAns):
    """The package's version."""


@known_as(Package.FRAGMENTS, 0x01, uplink=False)
@dataclass(frozen=True)
class FragSessionStatusReq(Command):
    """Asks how a session stands; only those that have not all, unless ``participants`` asks all."""

    frag_index: int
    participants: bool = True

    def body(self) -> bytes:
        """One byte."""
        return bytes([self.participants | self.frag_index << 1])

    @classmethod
    def read(cls, data: Reader) -> Self:
        """One byte."""
        head = data.number(1)
        return cls(head >> 1 & 0x03, bool(head & 0x01))


@known_as(Package.FRAGMENTS, 0x01, uplink=True)
@dataclass(frozen=True)
class FragSessionStatusAns(Command):
    """How many fragments a device has received, and how many it misses still (255: so many, or more)."""

    frag_index: int
    nb_frag_received: int
    missing_frag: int
    error: FragmentError = ALL_WELL

    def body(self) -> bytes:
        """Four bytes."""
        head = little(self.nb_frag_received | self.frag_index << 14, 2)
        return head + bytes([min(self.missing_frag, MOST_TOLD), self.error])

    @classmethod
    def read(cls, data: Reader) -> Self:
        """Four bytes."""
        head = data.number(2)
        return cls(head >> 14, head & 0x3FFF, data.number(1), FragmentError(data.number(1) & 0x07))


@known_as(Package.FRAGMENTS, 0x02, uplink=False)
@dataclass(frozen=True)
class FragSessionSetupReq(Command):
    """Prepares a device for a block: from which groups, in how many fragments of how many bytes, and the MIC by which
    it knows it. Answers to status requests are spread over 2**(``block_ack_delay`` + 4) seconds."""

    mc_group_bit_mask: int
    frag_index: int
    nb_frag: int
    frag_size: int
    block_ack_delay: int
    padding: int
    descriptor: bytes
    session_cnt: int
    mic: bytes
    frag_algo: int = 0
    ack_reception: bool = True

    def body(self) -> bytes:
        """16 bytes."""
        control = self.block_ack_delay | self.frag_algo << 3 | self.ack_reception << 6
        head = bytes([self.mc_group_bit_mask | self.frag_index << 4]) + little(self.nb_frag, 2)
        numbers = bytes([self.frag_size, control, self.padding])
        return head + numbers + self.descriptor + little(self.session_cnt, 2) + self.mic

    @classmethod
    def read(cls, data: Reader) -> Self:
        """16 bytes."""
        head, count, size, control = data.number(1), data.number(2), data.number(1), data.number(1)
        return cls(
            head & 0x0F,
            head >> 4 & 0x03,
            count,
            size,
            control & 0x07,
            data.number(1),
            data.take(4),
            data.number(2),
            data.take(4),
            control >> 3 & 0x07,
            bool(control & 0x40),
        )


@known_as(Package.FRAGMENTS, 0x02, uplink=True)
@dataclass(frozen=True)
class FragSessionSetupAns(Command):
    """Whether a device takes a session."""

    frag_index: int
    error: SetupError = TAKEN

    def body(self) -> bytes:
        """One byte."""
        return bytes([self.error | self.frag_index << 6])

    @classmethod
    def read(cls, data: Reader) -> Self:
        """One byte."""
        head = data.number(1)
        return cls(head >> 6, SetupError(head & 0x1F))


@known_as(Package.FRAGMENTS, 0x03, uplink=False)
@dataclass(frozen=True)
class FragSessionDeleteReq(Indexed):
    """Ends a session: what was received of it is dropped."""


@known_as(Package.FRAGMENTS, 0x03, uplink=True)
@dataclass(frozen=True)
class FragSessionDeleteAns(Flagged):
    """Whether a session has ended; ``wrong`` (SessionDoesNotExist): there was none."""


@known_as(Package.FRAGMENTS, 0x04, uplink=True)
@dataclass(frozen=True)
class FragDataBlockReceivedReq(Flagged):
    """A device says, by itself, that it has the whole block; ``wrong`` (MICerror): its MIC is not right."""


@known_as(Package.FRAGMENTS, 0x04, uplink=False)
@dataclass(frozen=True)
class FragDataBlockReceivedAns(Indexed):
    """The service has heard that."""


@known_as(Package.FRAGMENTS, 0x08, uplink=False)
@dataclass(frozen=True)
class DataFragment(Command):
    """Fragment ``n`` (from 1) of a session; the last command of its payload."""

    frag_index: int
    n: int
    payload: bytes

    def body(self) -> bytes:
        """Two bytes, then the fragment."""
        return little(self.n | self.frag_index << 14, 2) + self.payload

    @classmethod
    def read(cls, data: Reader) -> Self:
        """Two bytes, then the fragment."""
        head = data.number(2)
        return cls(head >> 14, head & 0x3FFF, data.rest())


# A data fragment's command, index and number, beside the fragment.
FRAGMENT_HEAD = 3
