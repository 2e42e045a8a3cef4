"""One device's way into a group's session, step by step: what it is to be told next, and what its answers mean.

A device of class A hears only right after it has spoken, so it is told one thing at each of its uplinks.
"""

from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from enum import StrEnum

from mellow_herald.core.radio.packages import Command, clock, fragments, multicast
from mellow_herald.core.radio.session import RIGHT_WITHIN_S, gps_seconds, synchronised_until

# An answer may lie for some seconds before it is sent; how long it is to the session was told before that.
COUNTED_WITHIN = 10
# More is missing than its memory has lines for: parity is of no use to it, the fragments themselves are.
MATRIX_FULL = "matrix-full"
HALF = clock.TIME_MODULUS // 2


class Step(StrEnum):
    """How far a device is."""

    CLOCK = "clock"
    GROUP = "group"
    SESSION = "session"
    FRAGMENTS = "fragments"
    READY = "ready"
    COMPLETE = "complete"


# In this order, one uplink each; the last is answered by one more.
SETUP = (Step.CLOCK, Step.GROUP, Step.SESSION, Step.FRAGMENTS)


@dataclass(frozen=True, slots=True)
class Invitation:
    """What one device is to be told of a session: the group with its key as this device unwraps it, when and how it is
    sent, and the block with its MIC for this device."""

    group: int
    address: int
    wrapped_key: bytes
    counters: tuple[int, int]
    begins_at: datetime
    time_out: int
    frequency: int
    data_rate: int
    fragments: int
    fragment: int
    padding: int
    descriptor: bytes
    session: int
    mic: bytes
    index: int = 0
    spread: int = 0

    @property
    def ends_at(self) -> datetime:
        """When devices stop listening."""
        return self.begins_at + timedelta(seconds=2**self.time_out)


@dataclass(frozen=True, slots=True)
class Member:
    """What is known of a device in a session. ``problem`` says why it cannot take part; ``received`` and ``missing``
    are what it told last (None: nothing yet)."""

    clock_at: datetime | None = None
    in_group: bool = False
    has_session: bool = False
    has_fragments: bool = False
    problem: str = ""
    received: int = 0
    missing: int | None = None
    complete: bool = False

    def step(self, invited: Invitation) -> Step:
        """How far it is."""
        if self.complete:
            return Step.COMPLETE
        if self.clock_at is None or synchronised_until(self.clock_at) < invited.begins_at:
            return Step.CLOCK
        if not self.in_group:
            return Step.GROUP
        if not self.has_session:
            return Step.SESSION
        return Step.READY if self.has_fragments else Step.FRAGMENTS

    def messages(self, invited: Invitation) -> int:
        """How many uplinks its set-up still takes: one for each thing that it is told, and one for the last answer."""
        at = self.step(invited)
        return len(SETUP) - SETUP.index(at) + 1 if at in SETUP else 0


def next_command(member: Member, invited: Invitation) -> Command | None:
    """What a device is to be told at its next uplink; None if there is nothing."""
    if member.problem:
        return None
    match member.step(invited):
        case Step.CLOCK:
            return clock.ForceDeviceResyncReq(1)
        case Step.GROUP:
            return multicast.McGroupSetupReq(invited.group, invited.address, invited.wrapped_key, *invited.counters)
        case Step.SESSION:
            return multicast.McClassCSessionReq(
                invited.group, gps_seconds(invited.begins_at), invited.time_out, invited.frequency, invited.data_rate
            )
        case Step.FRAGMENTS:
            return fragments.FragSessionSetupReq(
                1 << invited.group,
                invited.index,
                invited.fragments,
                invited.fragment,
                invited.spread,
                invited.padding,
                invited.descriptor,
                invited.session,
                invited.mic,
            )
        case _:
            return None


def correction(device_time: int, heard_at: datetime) -> int:
    """By how many seconds a clock that told this time when it was heard is to be set on."""
    off = (gps_seconds(heard_at) - device_time) % clock.TIME_MODULUS
    return off - clock.TIME_MODULUS if off >= HALF else off


def hear(member: Member, command: Command, invited: Invitation, heard_at: datetime) -> tuple[Member, Command | None]:
    """What an uplink's command makes of a member, and what it is answered at once. A word about another group or
    session changes nothing, nor does one that comes twice."""
    match command:
        case clock.AppTimeReq(device_time, token, required):
            off = correction(device_time, heard_at)
            if abs(off) <= RIGHT_WITHIN_S:
                answered = clock.AppTimeAns(0, token) if required else None
                return replace(member, clock_at=heard_at), answered
            return member, clock.AppTimeAns(off, token)
        case multicast.McGroupSetupAns(invited.group, wrong):
            if wrong:
                return replace(member, problem="group-refused"), None
            return replace(member, in_group=True), None
        case multicast.McClassCSessionAns(invited.group, error, to_start):
            return _session_answered(member, error, to_start, invited, heard_at), None
        case fragments.FragSessionSetupAns(invited.index, error):
            if error & ~fragments.SetupError.SESSION_REPLAYED:
                return replace(member, problem=_named(error)), None
            # Replayed: it has this session already, and its answer was lost.
            return replace(member, has_fragments=True), None
        case fragments.FragSessionStatusAns(invited.index, received, missing, error):
            return _status_told(member, received, missing, error), None
        case fragments.FragDataBlockReceivedReq(invited.index, wrong):
            told = fragments.FragDataBlockReceivedAns(invited.index)
            if wrong:
                return replace(member, problem="mic-error"), told
            return replace(member, complete=True, missing=0), told
        case _:
            return member, None


def _session_answered(
    member: Member, error: multicast.SessionError, to_start: int | None, invited: Invitation, heard_at: datetime
) -> Member:
    if error & multicast.SessionError.GROUP_UNDEFINED:
        return replace(member, in_group=False)  # it has lost the group, and is told of it again
    if error:
        return replace(member, problem=_named(error))
    expected = (invited.begins_at - heard_at).total_seconds()
    if to_start is None or abs(to_start - expected) > COUNTED_WITHIN:
        # It counts to another moment than we do: by its clock, or because this is the answer to an earlier session.
        return replace(member, clock_at=None)
    return replace(member, has_session=True)


def _status_told(member: Member, received: int, missing: int, error: fragments.FragmentError) -> Member:
    if error & fragments.FragmentError.NO_SESSION:
        return replace(member, has_fragments=False)
    if error & fragments.FragmentError.MIC_ERROR:
        return replace(member, problem="mic-error", received=received)
    if error & fragments.FragmentError.NOT_ENOUGH_MATRIX_MEMORY:
        return replace(member, problem=MATRIX_FULL, received=received, missing=missing)
    complete = member.complete or missing == 0
    return replace(member, received=max(received, member.received), missing=missing, complete=complete)


def _named(error: multicast.SessionError | fragments.SetupError) -> str:
    return ", ".join((one.name or "").lower().replace("_", "-") for one in type(error) if one & error)
