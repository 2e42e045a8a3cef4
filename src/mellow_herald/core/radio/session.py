"""How a transmission to a group is laid out: fragments, air time, length, when it can begin at the earliest."""

import math
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from mellow_herald.core.radio.air import CHANNELS, Region, data_rate, frame_time, interval
from mellow_herald.core.radio.coding import MOST_FRAGMENTS, fragment_count
from mellow_herald.core.radio.loss import coded_count
from mellow_herald.core.radio.packages.clock import TIME_MODULUS
from mellow_herald.core.radio.packages.fragments import FRAGMENT_HEAD
from mellow_herald.core.refusal import Refused

GPS_EPOCH = datetime(1980, 1, 6, tzinfo=UTC)
# Since 2017; the next is not announced, and none is expected to come.
LEAP_SECONDS = 18
# A session's length is told as a power of two of seconds, up to this one.
LONGEST_EXPONENT = 15
# What set-up takes is not known to the second: so much more is waited for.
RESERVE = 0.2
# Devices open their ears so long before and after (s): beyond that a clock is too far off to hear the beginning.
GUARD_S = 4.0
# A clock that is no further off than this (s) is right: it is told when a frame begins, and heard when that has ended.
RIGHT_WITHIN_S = 2.0
# A crystal of a cheap device, as a share of the time since its clock was set.
DRIFT = 40e-6


@dataclass(frozen=True, slots=True)
class Air:
    """How a group is sent to: ``fragment`` in bytes, ``redundancy`` in percent of the fragments."""

    region: Region
    data_rate: int
    fragment: int
    redundancy: int

    @property
    def frequency(self) -> int:
        """In Hz."""
        return CHANNELS[self.region].frequency


@dataclass(frozen=True, slots=True)
class Layout:
    """What is sent, and how long it takes: fragments, parity, seconds that one is on the air, seconds from the
    beginning of one to that of the next, seconds in all, and the power of two of seconds that devices listen."""

    fragments: int
    coded: int
    on_air: float
    apart: float
    length: float
    time_out: int


def gps_seconds(at: datetime) -> int:
    """An instant as the packages tell it."""
    return (int((at - GPS_EPOCH).total_seconds()) + LEAP_SECONDS) % TIME_MODULUS


def largest_fragment(region: Region, rate: int, members: Iterable[int] = ()) -> int:
    """The most bytes that a fragment may have: by the data rate, and by what each member can take."""
    return min([data_rate(region, rate).payload - FRAGMENT_HEAD, *members])


def lay_out(size: int, air: Air) -> Layout:
    """How a block of so many bytes is sent; ``Refused``, with what to do, if it cannot be."""
    most = largest_fragment(air.region, air.data_rate)
    if not 1 <= air.fragment <= most:
        raise Refused(
            "bad-fragment",
            f"a fragment of {air.fragment} bytes does not go at data rate {air.data_rate} in {air.region}.",
            f"Use 1 to {most} bytes.",
        )
    count = fragment_count(size, air.fragment)
    coded = coded_count(count, air.redundancy)
    if count + coded > MOST_FRAGMENTS:
        raise Refused(
            "too-many-fragments",
            f"{size} bytes are {count} fragments of {air.fragment} bytes and {coded} of parity;"
            f" at most {MOST_FRAGMENTS} can be numbered.",
            "Use larger fragments, or a smaller image.",
        )
    if count < 2:
        raise Refused("too-few-fragments", "a block of one fragment has no parity.", "Use smaller fragments.")
    on_air = frame_time(data_rate(air.region, air.data_rate), FRAGMENT_HEAD + air.fragment)
    apart = interval(CHANNELS[air.region], on_air)
    length = apart * (count + coded)
    exponent = max(0, math.ceil(math.log2(length + 2 * GUARD_S)))
    if exponent > LONGEST_EXPONENT:
        raise Refused(
            "session-too-long",
            f"{count + coded} fragments, one every {apart:.1f} s, take {timedelta(seconds=round(length))}; a session"
            f" lasts {timedelta(seconds=2**LONGEST_EXPONENT)} at most.",
            "Use a faster data rate, larger fragments or less redundancy.",
        )
    return Layout(count, coded, on_air, apart, length, exponent)


def earliest(now: datetime, members: Iterable[tuple[timedelta, int]]) -> datetime:
    """When a session can begin at the earliest: the slowest member's interval times the set-up messages that it still
    needs, and a fifth more. Each is an interval and how many."""
    longest = max((every * messages for every, messages in members), default=timedelta())
    return now + longest * (1 + RESERVE)


def synchronised_until(at: datetime) -> datetime:
    """Until when a clock that was set then is good enough to hear the beginning of a session."""
    return at + timedelta(seconds=(GUARD_S - RIGHT_WITHIN_S) / DRIFT)
