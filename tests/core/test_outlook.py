"""When rings open at the earliest and what they hang on; and that nothing ever stands still without a word."""

from dataclasses import replace
from datetime import UTC, datetime, timedelta

from hypothesis import given, settings
from hypothesis import strategies as st

from mellow_herald.core.choices import Do, Situation, Standing, choices
from mellow_herald.core.decide import Progress, RingProgress, decide, least_good, stands_still
from mellow_herald.core.outlook import outlook
from mellow_herald.core.plan import Brake, Calendar, Opens, Plan, Ring
from mellow_herald.core.release_name import parse_release_name
from mellow_herald.core.rollout import RingState, RolloutKind, RolloutState

T0 = datetime(2026, 11, 23, 6, tzinfo=UTC)
HOUR = timedelta(hours=1)
PLAN = Plan(
    name="2.5.0",
    release=parse_release_name("comb-s1/hive-scale/2.5.0"),
    target="board = comb-s1",
    rings=(Ring("pilot", HOUR), Ring("third", 2 * HOUR), Ring("all", HOUR, opens=Opens.BY_HAND)),
)
CLOSED = RingProgress(RingState.CLOSED)


def seen(*rings: RingProgress, state: RolloutState = RolloutState.RUNNING, **more: object) -> Progress:
    return Progress(state, (*rings, *[CLOSED] * (3 - len(rings))), T0, **more)  # type: ignore[arg-type]


def test_a_ring_hangs_on_the_soak_before_it_and_those_after_it_on_its_own() -> None:
    soaking = RingProgress(RingState.SOAKING, asked=7, good=7, soak_until=T0 + HOUR / 2)
    third, everyone = outlook(PLAN, seen(soaking), T0)
    assert third.earliest == T0 + HOUR / 2
    assert third.hangs_on == ("soak of 7 devices of ring pilot until 2026-11-23 06:30",)
    assert everyone.earliest == T0 + HOUR / 2 + 2 * HOUR, "two hours of soak later"
    assert everyone.hangs_on == ("ring third opens and soaks first", "somebody says go")


def test_who_is_under_way_has_its_soak_still_before_it() -> None:
    under_way = RingProgress(RingState.OPEN, undecided=2, expected=1, asked=5, good=3, soak_until=T0 + HOUR / 2)
    third = outlook(replace(PLAN, brake=Brake(min_good=5)), seen(under_way), T0)[0]
    assert third.earliest == T0 + HOUR
    assert third.hangs_on == (
        "2 devices of ring pilot under way",
        "1 device of ring pilot not heard of since it opened",
        "3 of min_good 5 good in ring pilot",
        "soak of 3 devices of ring pilot until 2026-11-23 06:30",
    )


def test_no_time_leads_past_a_ring_that_stands_still_or_a_rollout_that_is_held() -> None:
    still = RingProgress(RingState.OPEN, asked=9, good=2, bad=7)
    assert {(one.earliest, one.hangs_on[0]) for one in outlook(PLAN, seen(still), T0)} == {
        (None, "ring pilot stands still"),
        (None, "ring third opens and soaks first"),
    }
    held = outlook(PLAN, seen(state=RolloutState.HELD), T0)
    assert {one.earliest for one in held} == {None} and "held" in held[0].hangs_on[0]
    assert outlook(PLAN, seen(state=RolloutState.HALTED), T0) == []


def test_a_plan_that_begins_later_says_when() -> None:
    later = replace(PLAN, calendar=Calendar(start=T0 + 5 * HOUR))
    first = outlook(later, seen(state=RolloutState.SCHEDULED), T0)[0]
    assert (first.earliest, first.hangs_on) == (T0 + 5 * HOUR, ("the plan's start, 2026-11-23 11:00",))
    not_before = replace(PLAN, rings=(replace(PLAN.rings[0], not_before=T0 + HOUR), *PLAN.rings[1:]))
    assert outlook(not_before, seen(), T0)[0].earliest == T0 + HOUR


ring_counts = st.builds(
    RingProgress,
    state=st.sampled_from(RingState),
    undecided=st.integers(0, 2),
    expected=st.integers(0, 2),
    asked=st.integers(0, 12),
    good=st.integers(0, 12),
    soak_until=st.sampled_from((None, T0 - HOUR, T0 + HOUR)),
    live=st.integers(0, 4),
    targeted=st.integers(0, 12),
    bad=st.integers(0, 3),
    set_aside=st.integers(0, 4),
    anyway=st.sampled_from((None, 0, 2)),
)


@settings(max_examples=500)
@given(
    rings=st.tuples(ring_counts, ring_counts, ring_counts),
    open_at=st.integers(0, 3),
    enough=st.sampled_from((0.0, 0.5, 0.9, 1.0)),
    least=st.integers(0, 8),
    at_risk=st.integers(0, 2),
    go=st.frozensets(st.integers(0, 2)),
    said=st.booleans(),
    not_before=st.sampled_from((None, T0 + HOUR)),
)
def test_a_running_rollout_always_has_a_decision_a_wait_or_a_word(
    rings: tuple[RingProgress, ...],
    open_at: int,
    enough: float,
    least: int,
    at_risk: int,
    go: frozenset[int],
    said: bool,
    not_before: datetime | None,
) -> None:
    """Rings before ``open_at`` are done, the one there is as drawn, those after it are closed."""
    plan = replace(
        PLAN,
        rings=tuple(replace(ring, enough=enough, not_before=not_before) for ring in PLAN.rings),
        brake=Brake(min_good=least),
    )
    reachable = []
    for position, ring in enumerate(rings):
        state = RingState.DONE if position < open_at else ring.state if position == open_at else RingState.CLOSED
        ring = replace(ring, state=state, good=min(ring.good, ring.asked))
        if state in (RingState.CLOSED, RingState.AWAITING_GO):
            ring = replace(CLOSED, state=state)
        elif state is not RingState.DONE:
            # Who is under way, or expected, is live; nobody is at risk who is not under way.
            ring = replace(ring, live=max(ring.live, ring.undecided + ring.expected + ring.set_aside))
            if said:
                ring = replace(ring, stands_why=stands_still(ring, enough, least_good(plan, position)))
        reachable.append(ring)
    progress = Progress(RolloutState.RUNNING, tuple(reachable), T0, at_risk=at_risk, go=go)
    if decide(plan, progress, T0):
        return
    waited_for = [
        at_risk > 0,
        any(ring.stands_why for ring in reachable),
        any(ring.undecided or ring.expected for ring in reachable),
        any(ring.soak_until is not None and ring.soak_until > T0 for ring in reachable),
        any(one.hangs_on for one in outlook(plan, progress, T0)),
    ]
    assert any(waited_for), progress
    if any(ring.state in (RingState.CLOSED, RingState.AWAITING_GO) for ring in reachable):
        first = outlook(plan, progress, T0)[0]
        assert first.hangs_on, "a closed ring says what it hangs on"
        assert first.earliest is None or first.earliest >= T0


def test_whoever_has_to_choose_is_shown_ways_and_whom_they_touch() -> None:
    stuck = Standing("pilot", asked=9, good=7, bad=2, in_the_way=3, aside=1, next_devices=40)
    now = Situation(4, RolloutState.RUNNING, RolloutKind.FORWARD, live=1, at_risk=0, ever_bad=2, standing=stuck)
    found = {choice.do: choice for choice in choices(now)}
    assert [*found] == [Do.FAILURES, Do.RETRY, Do.GO, Do.LEAVE_OUT, Do.ENOUGH, Do.HALT, Do.CANCEL]
    assert [choice.devices for choice in found.values()] == [2, 2, 40, 3, 9, 1, 1]
    assert found[Do.ENOUGH].command == "herald rollout edit 4 --enough 0.77"
    halted = Situation(4, RolloutState.HALTED, RolloutKind.FORWARD, live=3, at_risk=3, called_off=8, exposed=12)
    assert choices(halted)[0].do is Do.WAIT, "nothing else is of use before they are decided"
    assert choices(Situation(4, RolloutState.RUNNING, RolloutKind.FORWARD, live=3, at_risk=0)) == []
