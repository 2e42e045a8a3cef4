"""Clock synchronisation (TS003-2.0.0, from memory). Times are GPS seconds modulo 2**32."""

from dataclasses import dataclass
from typing import Self

from mellow_herald.core.radio.packages.command import (
    Bare,
    Command,
    Package,
    PackageVersionAns,
    Reader,
    known_as,
    little,
)

TIME_MODULUS = 2**32


@known_as(Package.CLOCK, 0x00, uplink=False)
@dataclass(frozen=True)
class ClockVersionReq(Bare):
    """Asks for the package's version."""


@known_as(Package.CLOCK, 0x00, uplink=True)
@dataclass(frozen=True)
class ClockVersionAns(PackageVersionAns):
    """The package's version."""


@known_as(Package.CLOCK, 0x01, uplink=True)
@dataclass(frozen=True)
class AppTimeReq(Command):
    """A device tells its time and asks by how much it is wrong; without ``ans_required`` only if it is."""

    device_time: int
    token_req: int
    ans_required: bool = False

    def body(self) -> bytes:
        """Time, then token and flag."""
        return little(self.device_time % TIME_MODULUS, 4) + bytes([self.token_req | self.ans_required << 4])

    @classmethod
    def read(cls, data: Reader) -> Self:
        """Time, then token and flag."""
        time, param = data.number(4), data.number(1)
        return cls(time, param & 0x0F, bool(param & 0x10))


@known_as(Package.CLOCK, 0x01, uplink=False)
@dataclass(frozen=True)
class AppTimeAns(Command):
    """By how many seconds a device's clock is to be set on."""

    time_correction: int
    token_ans: int

    def body(self) -> bytes:
        """Correction, then token."""
        return self.time_correction.to_bytes(4, "little", signed=True) + bytes([self.token_ans])

    @classmethod
    def read(cls, data: Reader) -> Self:
        """Correction, then token."""
        return cls(data.number(4, signed=True), data.number(1) & 0x0F)


@known_as(Package.CLOCK, 0x03, uplink=False)
@dataclass(frozen=True)
class ForceDeviceResyncReq(Command):
    """Has a device ask for its time so many times."""

    nb_transmissions: int

    def body(self) -> bytes:
        """One byte."""
        return bytes([self.nb_transmissions & 0x07])

    @classmethod
    def read(cls, data: Reader) -> Self:
        """One byte."""
        return cls(data.number(1) & 0x07)
