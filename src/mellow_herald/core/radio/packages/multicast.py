"""Remote multicast set-up (TS005-2.0.0, from memory). Times are GPS seconds modulo 2**32."""

from dataclasses import dataclass
from enum import IntFlag
from typing import Self

from mellow_herald.core.radio.packages.clock import TIME_MODULUS
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


class SessionError(IntFlag):
    """Why a device does not take part in a group's session."""

    DR_ERROR = 1
    FREQ_ERROR = 2
    GROUP_UNDEFINED = 4
    START_MISSED = 8


NO_ERROR = SessionError(0)


@known_as(Package.MULTICAST, 0x00, uplink=False)
@dataclass(frozen=True)
class MulticastVersionReq(Bare):
    """Asks for the package's version."""


@known_as(Package.MULTICAST, 0x00, uplink=True)
@dataclass(frozen=True)
class MulticastVersionAns(PackageVersionAns):
    """The package's version."""


@known_as(Package.MULTICAST, 0x02, uplink=False)
@dataclass(frozen=True)
class McGroupSetupReq(Command):
    """Makes a device a member of a group, with the frame counters that it may hear."""

    mc_group_id: int
    mc_addr: int
    mc_key_encrypted: bytes
    min_mc_fcount: int
    max_mc_fcount: int

    def body(self) -> bytes:
        """29 bytes."""
        head = bytes([self.mc_group_id]) + little(self.mc_addr, 4) + self.mc_key_encrypted
        return head + little(self.min_mc_fcount, 4) + little(self.max_mc_fcount, 4)

    @classmethod
    def read(cls, data: Reader) -> Self:
        """29 bytes."""
        return cls(data.number(1) & 0x03, data.number(4), data.take(16), data.number(4), data.number(4))


@known_as(Package.MULTICAST, 0x02, uplink=True)
@dataclass(frozen=True)
class McGroupSetupAns(Flagged):
    """Whether a device is a member now; ``wrong`` (IDerror): it has no room for such a group."""


@known_as(Package.MULTICAST, 0x03, uplink=False)
@dataclass(frozen=True)
class McGroupDeleteReq(Indexed):
    """Takes a device out of a group."""


@known_as(Package.MULTICAST, 0x03, uplink=True)
@dataclass(frozen=True)
class McGroupDeleteAns(Flagged):
    """Whether a device is out of a group now; ``wrong`` (McGroupUndefined): it never was in it."""


@known_as(Package.MULTICAST, 0x04, uplink=False)
@dataclass(frozen=True)
class McClassCSessionReq(Command):
    """Has a device listen to a group from a time on, for 2**``session_time_out`` seconds, on a frequency (Hz, in steps
    of 100) with a data rate."""

    mc_group_id: int
    session_time: int
    session_time_out: int
    dl_frequency: int
    dr: int

    def body(self) -> bytes:
        """10 bytes."""
        head = bytes([self.mc_group_id]) + little(self.session_time % TIME_MODULUS, 4) + bytes([self.session_time_out])
        return head + little(self.dl_frequency // 100, 3) + bytes([self.dr])

    @classmethod
    def read(cls, data: Reader) -> Self:
        """10 bytes."""
        group, time, out = data.number(1) & 0x03, data.number(4), data.number(1) & 0x0F
        return cls(group, time, out, data.number(3) * 100, data.number(1))


@known_as(Package.MULTICAST, 0x04, uplink=True)
@dataclass(frozen=True)
class McClassCSessionAns(Command):
    """Whether a device will listen, and in how many seconds (``time_to_start``, None if it will not)."""

    mc_group_id: int
    error: SessionError = NO_ERROR
    time_to_start: int | None = None

    def body(self) -> bytes:
        """One byte, and three more if there is no error."""
        head = bytes([self.mc_group_id | self.error << 2])
        return head if self.error else head + little(self.time_to_start or 0, 3)

    @classmethod
    def read(cls, data: Reader) -> Self:
        """One byte, and three more if there is no error."""
        head = data.number(1)
        error = SessionError(head >> 2 & 0x0F)
        return cls(head & 0x03, error, None if error else data.number(3))
