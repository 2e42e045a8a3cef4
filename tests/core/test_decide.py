from dataclasses import replace
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.brake import Reading, Tally, Watch, halts_at, read_brake
from mellow_herald.core.decide import (
    AskForGo,
    Begin,
    BeginSoak,
    Finish,
    FinishRing,
    Halt,
    MarkSilent,
    OpenRing,
    Progress,
    RingProgress,
    Unheard,
    decide,
    halt_due,
)
from mellow_herald.core.plan import Brake, BrakeKind, Plan, Ring, parse_release_name
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


# Brakes ------------------------------------------------------------------------------------------------------------

TWO = replace(PLAN, rings=(Ring("bench", timedelta(0)), Ring("rest", timedelta(0))), brake=Brake(min_good=3))
INNER_DONE = (RingProgress(RingState.DONE, good=6, targeted=6), RingProgress(RingState.CLOSED))


def brake(bad: int, seen: int) -> Reading:
    return read_brake(BrakeKind.FIRMWARE, [Tally(0, {}, seen, bad)], Watch(2, {}), 0.02, halts_at(1, 0.05))


def outwards(rings: tuple[RingProgress, ...] = INNER_DONE, **more: object) -> Progress:
    return Progress(RolloutState.RUNNING, rings, T0, **more)  # type: ignore[arg-type]


def test_a_brake_that_has_enough_evidence_halts_before_anything_else() -> None:
    tipped = brake(6, 20)
    for state in (RolloutState.RUNNING, RolloutState.HELD):
        found = decide(TWO, replace(outwards(brakes=(brake(0, 20), tipped)), state=state), T0)
        assert found == [Halt(tipped.words(["bench", "rest"]))]


def test_no_ring_opens_by_itself_while_a_brake_is_near() -> None:
    near = brake(2, 8)
    assert near.near and not near.halts
    (asks,) = decide(TWO, outwards(brakes=(near,)), T0)
    assert isinstance(asks, AskForGo) and asks.position == 1 and asks.why.startswith("a brake is near: firmware brake")
    assert decide(TWO, outwards(brakes=(near,), go=frozenset({1})), T0) == [OpenRing(1)]
    assert decide(TWO, outwards(brakes=(brake(0, 8),)), T0) == [OpenRing(1)]


def test_a_ring_needs_its_good_devices_before_the_next_opens() -> None:
    few = (replace(INNER_DONE[0], good=2), INNER_DONE[1])
    (asks,) = decide(TWO, outwards(few), T0)
    assert asks == AskForGo(1, "ring bench has 2 good devices, and the plan's min_good is 3")
    empty = (RingProgress(RingState.DONE), INNER_DONE[1])
    assert decide(TWO, outwards(empty), T0) == [OpenRing(1)], "an empty ring proves nothing, and holds nothing up"


def test_the_next_ring_waits_for_those_at_risk() -> None:
    assert decide(TWO, outwards(at_risk=1), T0) == []


def test_silence_in_the_soak_is_judged_like_any_other() -> None:
    late = Unheard(7, T0 - timedelta(hours=1))
    assert decide(TWO, outwards(quiet=(late,)), T0 + timedelta(minutes=5))[0] == OpenRing(1), "we were away ourselves"
    found = decide(TWO, replace(outwards(quiet=(late,)), serving_since=T0 - timedelta(days=1)), T0)
    assert found[0] == MarkSilent((), (late,))


def test_a_rollback_goes_on_while_devices_cannot_be_given_their_way_back_yet() -> None:
    done = (RingProgress(RingState.DONE), RingProgress(RingState.DONE))
    assert decide(TWO, outwards(done, to_come=1), T0) == []
    assert decide(TWO, outwards(done), T0) == [Finish()]


def test_what_is_asked_at_once_of_a_bad_report_is_what_the_conductor_decides() -> None:
    """``halt_due`` alone, for whoever cannot wait for a look at everything, never differs from ``decide``."""
    strict = replace(TWO, brake=replace(TWO.brake, hard_stop=4))
    through = tuple(RingProgress(RingState.OPEN, undecided=1) for _ in strict.rings)
    halted = 0
    for plan in (TWO, strict):
        for bad in range(9):
            brakes = (brake(bad, 60),)
            due = halt_due(plan, brakes, bad)
            seen = Progress(RolloutState.RUNNING, through, T0, bad=bad, brakes=brakes)
            assert [d for d in decide(plan, seen, T0) if isinstance(d, Halt)] == ([] if due is None else [due])
            halted += due is not None
    assert 0 < halted < 18
    one = replace(TWO, brake=replace(TWO.brake, hard_stop=1))
    assert halt_due(one, (), 1) == Halt("1 device went bad, and the plan's hard_stop is 1")
    assert halt_due(one, (), 0) is None
