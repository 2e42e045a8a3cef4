from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.decide import (
    Begin,
    BeginSoak,
    Finish,
    FinishRing,
    MarkSilent,
    OpenRing,
    Progress,
    RingProgress,
    Unheard,
    decide,
)
from mellow_herald.core.plan import Plan, Ring, parse_release_name
from mellow_herald.core.rollout import RingState, RolloutState

T0 = datetime(2026, 11, 23, 6, tzinfo=UTC)
PLAN = Plan(
    name="2.5.0",
    release=parse_release_name("comb-s1/hive-scale/2.5.0"),
    target="board = comb-s1",
    rings=(Ring("everyone", timedelta(minutes=10)),),
)


def progress(ring: RingProgress, state: RolloutState = RolloutState.RUNNING, **more: object) -> Progress:
    return Progress(state, (ring,), more.pop("serving_since", T0), **more)  # type: ignore[arg-type]


def test_the_life_of_a_ring() -> None:
    assert decide(PLAN, progress(RingProgress(RingState.CLOSED)), T0) == [OpenRing(0)]
    assert decide(PLAN, progress(RingProgress(RingState.OPEN, undecided=1, asked=2, good=1)), T0) == []
    through = RingProgress(RingState.OPEN, asked=10, good=9, soak_until=T0 + timedelta(minutes=10))
    assert decide(PLAN, progress(through), T0) == [BeginSoak(0)]
    soaking = RingProgress(RingState.SOAKING, asked=10, good=9, soak_until=T0 + timedelta(minutes=10))
    assert decide(PLAN, progress(soaking), T0) == []
    assert decide(PLAN, progress(soaking), T0 + timedelta(minutes=10)) == [FinishRing(0)]
    assert decide(PLAN, progress(RingProgress(RingState.DONE)), T0) == [Finish()]


def test_a_ring_waits_for_devices_that_should_still_call_but_not_for_those_that_never_do() -> None:
    assert decide(PLAN, progress(RingProgress(RingState.OPEN, expected=3, asked=1, good=1)), T0) == []
    assert decide(PLAN, progress(RingProgress(RingState.OPEN, expected=0, asked=1, good=1)), T0) == [BeginSoak(0)]


def test_too_few_good_ones_hold_a_ring_open() -> None:
    assert decide(PLAN, progress(RingProgress(RingState.OPEN, asked=10, good=8)), T0) == []
    assert decide(PLAN, progress(RingProgress(RingState.OPEN, asked=0, good=0)), T0) == [BeginSoak(0)]


def test_a_late_comer_holds_up_the_end_of_the_soak() -> None:
    soaking = RingProgress(RingState.SOAKING, undecided=1, asked=10, good=9, soak_until=T0)
    assert decide(PLAN, progress(soaking), T0 + timedelta(hours=1)) == []


def test_silence_is_judged_by_answer_within() -> None:
    unheard = (Unheard(1, T0), Unheard(2, T0 + timedelta(minutes=10)))
    now = T0 + timedelta(minutes=31)
    asked = progress(RingProgress(RingState.OPEN, undecided=2, asked=2), unheard=unheard)
    assert decide(PLAN, asked, now) == [MarkSilent((1,))]
    assert decide(PLAN, asked, T0 + timedelta(minutes=30)) == []


def test_our_own_outage_is_not_the_devices_silence() -> None:
    back = T0 + timedelta(hours=5)
    unheard = (Unheard(1, T0),)
    asked = progress(RingProgress(RingState.OPEN, undecided=1, asked=1), unheard=unheard, serving_since=back)
    assert decide(PLAN, asked, back + timedelta(minutes=29)) == []
    assert decide(PLAN, asked, back + timedelta(minutes=31)) == [MarkSilent((1,))]


@given(
    state=st.sampled_from(RolloutState),
    ring=st.builds(
        RingProgress,
        state=st.sampled_from(RingState),
        undecided=st.integers(0, 2),
        expected=st.integers(0, 2),
        asked=st.integers(0, 10),
        good=st.integers(0, 10),
        soak_until=st.none() | st.just(T0 + timedelta(minutes=5)),
    ),
    minutes=st.integers(0, 60),
)
def test_nothing_opens_unless_it_runs_and_the_answer_is_always_the_same(
    state: RolloutState, ring: RingProgress, minutes: int
) -> None:
    now = T0 + timedelta(minutes=minutes)
    decisions = decide(PLAN, progress(ring, state), now)
    assert decisions == decide(PLAN, progress(ring, state), now)
    assert len(decisions) <= 1
    if state is RolloutState.SCHEDULED:
        assert decisions == [Begin()]
    elif state is not RolloutState.RUNNING:
        assert decisions == []
