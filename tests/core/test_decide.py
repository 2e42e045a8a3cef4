from dataclasses import replace
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.brake import Reading, Tally, Watch, halts_at, read_brake
from mellow_herald.core.decide import (
    AskForGo,
    Begin,
    BeginSoak,
    BeginWave,
    Finish,
    FinishRing,
    Halt,
    MarkSilent,
    MovesAgain,
    OpenRing,
    Progress,
    RingProgress,
    StandsStill,
    Unheard,
    decide,
    halt_due,
    stands_still,
)
from mellow_herald.core.harm.budget import HarmBudget
from mellow_herald.core.harm.waves import Counts, HarmProgress, Wave
from mellow_herald.core.plan import Brake, BrakeKind, Plan, Ring
from mellow_herald.core.release_name import parse_release_name
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
    short = RingProgress(RingState.OPEN, asked=10, good=8)
    (still,) = decide(PLAN, progress(short), T0)
    assert isinstance(still, StandsStill) and still.why.startswith("8 of 10 devices are good, and the plan wants 90 %")
    assert decide(PLAN, progress(replace(short, stands_why=still.why)), T0) == [], "said once"
    assert decide(PLAN, progress(RingProgress(RingState.OPEN, asked=0, good=0)), T0) == [BeginSoak(0)], "it is empty"


def test_a_ring_is_not_through_because_nobody_asked() -> None:
    (still,) = decide(PLAN, progress(RingProgress(RingState.OPEN, live=7)), T0)
    assert still == StandsStill(0, "none of its 7 devices has called since it opened")
    one_bad = RingProgress(RingState.OPEN, asked=1, good=0, bad=1)
    assert isinstance(decide(PLAN, progress(one_bad), T0)[0], StandsStill)


def test_a_ring_that_stood_still_moves_again_by_itself() -> None:
    waits = RingProgress(RingState.OPEN, asked=10, good=8, undecided=1, stands_why="8 of 10")
    assert decide(PLAN, progress(waits), T0) == [MovesAgain(0)]
    assert decide(PLAN, progress(replace(waits, stands_why=None)), T0) == []
    assert decide(PLAN, progress(replace(waits, undecided=0, good=9)), T0) == [BeginSoak(0)]


def test_who_waits_too_long_for_a_condition_holds_no_ring_unless_too_many_do() -> None:
    one_flat = RingProgress(RingState.OPEN, asked=9, good=9, set_aside=1, live=1)
    assert decide(PLAN, progress(one_flat), T0) == [BeginSoak(0)], "1 of 10 is no more than 1 - enough"
    (still,) = decide(PLAN, progress(replace(one_flat, asked=8, good=8, set_aside=2, live=2)), T0)
    assert still == StandsStill(0, "2 of 10 devices that asked are set aside, and the plan wants 90 % (enough) of them")
    assert isinstance(decide(PLAN, progress(RingProgress(RingState.OPEN, set_aside=3, live=3)), T0)[0], StandsStill)


def test_min_good_holds_every_ring_but_the_last() -> None:
    plan = replace(PLAN, rings=(Ring("first", timedelta(0)), Ring("rest", timedelta(0))), brake=Brake(min_good=5))
    fast = RingProgress(RingState.OPEN, asked=1, good=1)
    (still,) = decide(plan, Progress(RolloutState.RUNNING, (fast, RingProgress(RingState.CLOSED)), T0), T0)
    assert still == StandsStill(0, "1 of 1 devices are good, and the plan wants 5 (min_good)")
    last = (RingProgress(RingState.DONE), fast)
    assert decide(plan, Progress(RolloutState.RUNNING, last, T0), T0) == [BeginSoak(1)]


def test_who_relapses_while_the_ring_soaks_counts_when_its_soak_is_over() -> None:
    soaked = RingProgress(RingState.SOAKING, asked=10, good=8, bad=2, soak_until=T0)
    (still,) = decide(PLAN, progress(soaked), T0)
    assert isinstance(still, StandsStill)
    assert decide(PLAN, progress(replace(soaked, good=9, bad=1)), T0) == [FinishRing(0)]


def test_going_on_all_the_same_holds_until_another_device_goes_bad() -> None:
    let = RingProgress(RingState.OPEN, asked=10, good=7, bad=3, anyway=3)
    assert decide(PLAN, progress(let), T0) == [BeginSoak(0)]
    assert decide(PLAN, progress(replace(let, undecided=1)), T0) == [], "whoever is under way is waited for"
    (still,) = decide(PLAN, progress(replace(let, good=6, bad=4)), T0)
    assert isinstance(still, StandsStill)


@given(
    state=st.sampled_from((RingState.OPEN, RingState.SOAKING)),
    asked=st.integers(0, 30),
    good=st.integers(0, 30),
    live=st.integers(0, 5),
    undecided=st.integers(0, 2),
    expected=st.integers(0, 2),
    enough=st.sampled_from((0.0, 0.5, 0.9, 1.0)),
    soaks=st.booleans(),
    said=st.booleans(),
    aside=st.integers(0, 5),
    least=st.integers(0, 12),
)
def test_a_ring_always_has_a_step_a_wait_or_says_that_it_stands_still(
    state: RingState,
    asked: int,
    good: int,
    live: int,
    undecided: int,
    expected: int,
    enough: float,
    soaks: bool,
    said: bool,
    aside: int,
    least: int,
) -> None:
    good = min(good, asked)
    ring = RingProgress(
        state,
        undecided,
        expected,
        asked,
        good,
        T0 + timedelta(minutes=soaks),
        live=live + undecided + expected + aside,
        set_aside=aside,
    )
    rings = (Ring("first", timedelta(minutes=10), enough=enough), Ring("rest", timedelta(minutes=10)))
    plan = replace(PLAN, rings=rings, brake=Brake(min_good=least))
    if said:
        ring = replace(ring, stands_why=stands_still(ring, enough, max(1, least)))
    decisions = decide(plan, Progress(RolloutState.RUNNING, (ring, RingProgress(RingState.CLOSED)), T0), T0)
    waits = undecided > 0 or (expected > 0) or (state is RingState.SOAKING and soaks)
    assert decisions or waits or ring.stands_why is not None
    if any(isinstance(one, BeginSoak | FinishRing) for one in decisions):
        empty = enough == 0 or (not asked and not ring.live)
        assert empty or good >= max(1, least, round(enough * asked, 6)), "never with fewer good than asked"
        assert empty or aside <= round((1 - enough) * (asked + aside), 6), "nor with too many set aside"


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
        assert found == [Halt(tipped.summary(["bench", "rest"]))]


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


# Harm budget -------------------------------------------------------------------------------------------------------

BUDGETED = replace(PLAN, harm=HarmBudget(5))
ASKED = RingProgress(RingState.OPEN, undecided=3, asked=3)


def test_a_wave_begins_when_somebody_is_there_to_be_given_leave() -> None:
    assert decide(BUDGETED, progress(RingProgress(RingState.CLOSED)), T0) == [OpenRing(0)]
    (wave,) = decide(BUDGETED, progress(ASKED), T0)
    assert isinstance(wave, BeginWave) and (wave.wave.number, wave.wave.size) == (1, 5)
    begun = HarmProgress(wave=wave.wave)
    assert decide(BUDGETED, progress(ASKED, harm=begun), T0) == [], "once"
    assert decide(BUDGETED, progress(ASKED, RolloutState.HELD), T0) == []
    assert decide(PLAN, progress(ASKED), T0) == []


def test_a_budget_that_is_used_up_makes_the_ring_stand_still_and_say_so_until_it_is_raised() -> None:
    spent = HarmProgress(Counts(40, 5), Counts(40, 5), wave=Wave(2, 30, 5, 0.2), in_wave=Counts(30))
    (still,) = decide(BUDGETED, progress(ASKED, harm=spent), T0)
    assert still == StandsStill(0, "its harm budget is used up: 5 of at most 5 devices were hurt")
    stands = replace(ASKED, stands_why=still.why)
    assert decide(BUDGETED, progress(stands, harm=spent), T0) == [], "said once"
    raised = replace(BUDGETED, harm=HarmBudget(9))
    wave, moves = decide(raised, progress(stands, harm=spent), T0)
    assert isinstance(wave, BeginWave) and wave.wave.room == 4 and moves == MovesAgain(0)


def test_while_devices_are_undecided_a_full_budget_is_waited_for() -> None:
    waits = HarmProgress(Counts(40, 5, 1), Counts(40, 5, 1), wave=Wave(2, 30, 5, 0.2), in_wave=Counts(30))
    assert decide(BUDGETED, progress(ASKED, harm=waits), T0) == []


def test_a_sure_budget_needs_no_waves_and_stands_still_only_when_nobody_is_at_risk() -> None:
    sure = replace(PLAN, harm=HarmBudget(5, sure=True))
    assert decide(sure, progress(ASKED), T0) == []
    spent = HarmProgress(Counts(9, 5), Counts(9, 5))
    assert isinstance(decide(sure, progress(ASKED, harm=spent), T0)[0], StandsStill)
    assert decide(sure, progress(ASKED, at_risk=1, harm=replace(spent, at_risk=1)), T0) == []


def test_late_comers_for_whom_the_budget_has_nothing_left_do_not_keep_a_rollout_open_without_a_word() -> None:
    late = replace(BUDGETED, latecomers=True)
    spent = HarmProgress(Counts(40, 5), Counts(40, 5), wave=Wave(2, 30, 5, 0.2), in_wave=Counts(30))
    (still,) = decide(
        late, progress(RingProgress(RingState.DONE, undecided=1, live=1, asked=9, good=8), harm=spent), T0
    )
    assert isinstance(still, StandsStill) and "used up" in still.why
    soaking = RingProgress(RingState.SOAKING, undecided=1, asked=9, good=8)
    assert isinstance(decide(late, progress(soaking, harm=spent), T0)[0], StandsStill)
