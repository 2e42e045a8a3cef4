from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.radio.member import Invitation, Member, Step, correction, hear, next_command
from mellow_herald.core.radio.packages import Command, clock, fragments, multicast
from mellow_herald.core.radio.session import gps_seconds
from mellow_herald.core.radio.transmission import Sent, answered, asked, spread_for

NOON = datetime(2026, 11, 23, 12, tzinfo=UTC)
INVITED = Invitation(
    1, 7, bytes(16), (0, 99), NOON + timedelta(hours=1), 9, 869_525_000, 4, 100, 40, 3, b"comb", 1, b"mic!"
)
FULL = fragments.FragmentError.NOT_ENOUGH_MATRIX_MEMORY
READY = Member(clock_at=NOON, in_group=True, has_session=True, has_fragments=True)


def told(*commands: Command, member: Member = Member(), at: datetime = NOON) -> Member:
    for command in commands:
        member, _ = hear(member, command, INVITED, at)
    return member


def test_step_by_step_to_the_beginning() -> None:
    steps: list[tuple[Step, type[Command] | None, Command]] = [
        (Step.CLOCK, clock.ForceDeviceResyncReq, clock.AppTimeReq(gps_seconds(NOON) + 1, 0)),
        (Step.GROUP, multicast.McGroupSetupReq, multicast.McGroupSetupAns(1)),
        (Step.SESSION, multicast.McClassCSessionReq, multicast.McClassCSessionAns(1, time_to_start=3598)),
        (Step.FRAGMENTS, fragments.FragSessionSetupReq, fragments.FragSessionSetupAns(0)),
    ]
    member, left = Member(), 5
    for step, kind, answer in steps:
        assert member.step(INVITED) is step and member.messages(INVITED) == left
        asked_for = next_command(member, INVITED)
        assert type(asked_for) is kind
        once, twice = told(answer, member=member), told(answer, answer, member=member)
        assert once == twice
        member, left = once, left - 1
    assert member.step(INVITED) is Step.READY and member.messages(INVITED) == 0
    assert next_command(member, INVITED) is None
    done = told(fragments.FragDataBlockReceivedReq(0), member=member)
    assert done.complete and done.step(INVITED) is Step.COMPLETE


@pytest.mark.parametrize("off", [-5000, -3, 3, 5000, 2**31 - 1])
def test_a_clock_that_is_wrong_is_told_by_how_much(off: int) -> None:
    member, answer = hear(Member(), clock.AppTimeReq((gps_seconds(NOON) - off) % 2**32, 9), INVITED, NOON)
    assert member == Member() and answer == clock.AppTimeAns(off, 9)
    assert correction((gps_seconds(NOON) - off) % 2**32, NOON) == off


def test_a_clock_set_long_ago_is_set_again() -> None:
    old = replace(READY, clock_at=NOON - timedelta(hours=20))
    assert old.step(INVITED) is Step.CLOCK
    assert told(clock.AppTimeReq(gps_seconds(NOON), 0), member=old).step(INVITED) is Step.READY


@pytest.mark.parametrize(
    ("command", "problem"),
    [
        (multicast.McGroupSetupAns(1, True), "group-refused"),
        (multicast.McClassCSessionAns(1, multicast.SessionError.FREQ_ERROR), "freq-error"),
        (multicast.McClassCSessionAns(1, multicast.SessionError.START_MISSED), "start-missed"),
        (fragments.FragSessionSetupAns(0, fragments.SetupError.NOT_ENOUGH_MEMORY), "not-enough-memory"),
        (
            fragments.FragSessionStatusAns(0, 9, 90, fragments.FragmentError.NOT_ENOUGH_MATRIX_MEMORY),
            "matrix-full",
        ),
        (fragments.FragSessionStatusAns(0, 100, 0, fragments.FragmentError.MIC_ERROR), "mic-error"),
        (fragments.FragDataBlockReceivedReq(0, True), "mic-error"),
    ],
)
def test_why_a_device_has_no_part_in_it_is_named(command: Command, problem: str) -> None:
    member = told(command, member=READY)
    assert member.problem == problem and not member.complete
    assert next_command(replace(member, has_fragments=False), INVITED) is None


def test_words_of_another_group_or_session_change_nothing() -> None:
    for command in (
        multicast.McGroupSetupAns(2),
        multicast.McClassCSessionAns(0, time_to_start=3600),
        fragments.FragSessionSetupAns(1),
        fragments.FragSessionStatusAns(2, 100, 0),
        fragments.FragDataBlockReceivedReq(3),
        multicast.MulticastVersionAns(2),
    ):
        assert told(command) == Member()


def test_what_a_device_has_lost_it_is_told_again() -> None:
    undefined = multicast.McClassCSessionAns(1, multicast.SessionError.GROUP_UNDEFINED)
    assert told(undefined, member=replace(READY, has_session=False)).step(INVITED) is Step.GROUP
    none = fragments.FragSessionStatusAns(0, 0, 0, fragments.FragmentError.NO_SESSION)
    assert told(none, member=READY).step(INVITED) is Step.FRAGMENTS
    replayed = fragments.FragSessionSetupAns(0, fragments.SetupError.SESSION_REPLAYED)
    assert told(replayed, member=replace(READY, has_fragments=False)).step(INVITED) is Step.READY
    other = multicast.McClassCSessionAns(1, time_to_start=60)
    assert told(other, member=replace(READY, has_session=False)).step(INVITED) is Step.CLOCK


def test_a_status_is_the_last_word_and_completion_stays() -> None:
    member = told(fragments.FragSessionStatusAns(0, 60, 40), fragments.FragSessionStatusAns(0, 90, 10), member=READY)
    assert (member.received, member.missing, member.complete) == (90, 10, False)
    late = told(fragments.FragSessionStatusAns(0, 100, 0), fragments.FragSessionStatusAns(0, 60, 40), member=member)
    assert late.complete and late.received == 100


@given(st.integers(1, 5000))
def test_answers_are_spread_wide_enough(members: int) -> None:
    spread = spread_for(members)
    assert 0 <= spread <= 7
    assert 2 ** (spread + 4) >= min(members * 2, 2**11)


def test_when_nobody_answers_they_are_asked_again_after_some_more() -> None:
    sent = asked(Sent(fragments=100), 0, NOON)
    assert sent.answers_until is not None and sent.answers_until > NOON
    again = answered(sent, [READY])
    assert again.answers_until is None and again.ask_next_after == 116
    told_missing = answered(sent, [replace(READY, missing=20), replace(READY, missing=50, problem="mic-error")])
    assert told_missing.ask_next_after == 124
