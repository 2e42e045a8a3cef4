"""Plans played on made-up fleets: what must come out is known beforehand."""

from dataclasses import replace
from datetime import UTC, datetime, time, timedelta
from math import isfinite

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.arms import Arm
from mellow_herald.core.brake import Watch, halts_at
from mellow_herald.core.brake_study import foresee_faults
from mellow_herald.core.calendar import Use, Window
from mellow_herald.core.foresight import BATTERY_SHIFT, BUSY, HEARD, UNSAID, Words
from mellow_herald.core.harm.budget import HarmBudget
from mellow_herald.core.harm.forecast import good_waves
from mellow_herald.core.needs import Needs, missing
from mellow_herald.core.plan import Calendar, Opens, Pace, Plan, Ring, SwitchOrder, SwitchWhen
from mellow_herald.core.refusal import Refused
from mellow_herald.core.rehearsal.faults import Fault, parse_fault
from mellow_herald.core.rehearsal.fleet import NEVER, WEEK, Column, Fleet, Week, next_of, without_gaps
from mellow_herald.core.rehearsal.passage import Passage, Setting, alike
from mellow_herald.core.rehearsal.play import Course, Run
from mellow_herald.core.rehearsal.queueing import ONE_BY_ONE, serve
from mellow_herald.core.rehearsal.rehearse import Ask, rehearse
from mellow_herald.core.release_name import parse_release_name
from mellow_herald.core.say import ApprovalRule

T0 = datetime(2026, 12, 1, 8, tzinfo=UTC)
SIZE = 360_000  # 10 s at the rate below
RINGS = (Ring("bench", timedelta(hours=1), count=5), Ring("rest", timedelta(hours=1)))
PLAN = Plan("p", parse_release_name("b/l/1.0.0"), "all", RINGS, retries=0)


def fleet(devices: int, first: int = 5, words: Words | None = None, **more: object) -> Fleet:
    """Devices that are there all the time, call every five minutes, and fetch in ten seconds."""
    always = np.full((devices, WEEK), HEARD | UNSAID << BATTERY_SHIFT, np.int16)
    given: dict[str, object] = {
        "ring": np.repeat([0, 1], [first, devices - first]),
        "interval": np.full(devices, 5 / 60),
        "rate": np.full(devices, 36_000.0),
        "words": always if words is None else words,
        "link_allowed": np.ones(devices, np.bool_),
        "zone": np.zeros(devices, np.int64),
        "zones": [PLAN.calendar.zone],
        "gateway": np.full(devices, -1),
        "own": np.ones(devices, np.bool_),
        "facts": {"hw_rev": Column(["1", "2"], np.arange(devices) % 2)},
        **more,
    }
    return Fleet(**given)  # type: ignore[arg-type]


def run(plan: Plan, made: Fleet, fault: str | None = None, seed: int = 1, struck: np.ndarray | None = None) -> Course:
    parsed = parse_fault(fault) if fault else None
    rings = [np.flatnonzero(made.ring == position) for position in range(len(plan.rings))]
    whom = np.ones(made.size, np.bool_) if struck is None else struck
    watch = Watch(len(plan.rings), {"hw_rev": ["1", "2"]})
    groups = [alike(made.facts, ["hw_rev"], some) for some in rings]
    hours = Week(made, plan, T0).begun(0)
    setting = Setting(plan, made, hours, watch, T0, SIZE, parsed, whom, 0.0, 0.0, rings, groups)
    return Run(setting, np.random.default_rng(seed)).play()


def passage(course: Course, position: int) -> Passage:
    found = course.passages[position]
    assert found is not None
    return found


# Faults ------------------------------------------------------------------------------------------------------------


def test_faults_are_read_as_they_are_written() -> None:
    assert parse_fault("none") is None
    assert parse_fault("hw_rev = 2: 0.3 crashed") == Fault(0.3, "crashed", "hw_rev = 2")
    assert parse_fault("5% crash-looping after 6h") == Fault(0.05, "crash-looping", None, timedelta(hours=6))
    broken = parse_fault("0.1 download-broken")
    assert broken is not None and broken.delivery and str(broken) == "0.1 download-broken"


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("often crashed", "is no fault"),
        ("1.5 crashed", "is no share"),
        ("0 crashed", "is no share"),
        ("0.1 exploded", "no reason by which"),
        ("hw_rev == 2: 0.1 crashed", "expected|unexpected|="),
        ("0.1 crashed after 6h", "shows on trial"),
        ("0.1 crash-looping", "some time after"),
    ],
)
def test_what_is_no_fault_is_refused_with_what_to_write(text: str, says: str) -> None:
    with pytest.raises(Refused, match=says):
        parse_fault(text)


# Hours -------------------------------------------------------------------------------------------------------------


@given(st.lists(st.booleans(), min_size=WEEK, max_size=WEEK))
def test_the_next_hour_is_the_next_one_round_the_week(flags: list[bool]) -> None:
    waits = next_of(np.array([flags], np.bool_).T)[:, 0]
    for hour in (0, 1, 23, 100, 167):
        later = [n for n in range(WEEK) if flags[(hour + n) % WEEK]]
        assert waits[hour] == (later[0] if later else NEVER)


@pytest.mark.parametrize("windows", [(), (Window(frozenset(range(6)), time(2), time(5)),)])
def test_a_week_that_begins_on_another_day_is_that_week_and_the_windows_stay(windows: tuple[Window, ...]) -> None:
    rng = np.random.default_rng(4)
    words = np.where(rng.random((20, WEEK)) < 0.4, HEARD | rng.integers(0, 100, (20, WEEK)) << BATTERY_SHIFT, 0)
    made = fleet(20, 5, words.astype(np.int16))
    plan = replace(PLAN, needs=Needs(battery_at_least=40), calendar=replace(PLAN.calendar, windows=windows))
    later = replace(made, words=np.roll(made.words, -3 * 24, axis=1))
    begun, same = Week(made, plan, T0).begun(3), Week(later, plan, T0).begun(0)
    for name in ("call", "fetch", "switch", "needs_fetch", "needs_switch"):
        assert np.array_equal(getattr(begun, name), getattr(same, name)), name
    if windows:
        assert begun.fetch[0].min() > 0, "it is no time at which a window is open"


def test_who_is_never_served_is_told_by_the_key_that_it_never_meets() -> None:
    words = np.full((6, WEEK), HEARD | 80 << BATTERY_SHIFT, np.int16)
    words[1] = HEARD | 5 << BATTERY_SHIFT
    words[2, ::2], words[2, 1::2] = HEARD | BUSY | 80 << BATTERY_SHIFT, HEARD | 5 << BATTERY_SHIFT
    words[3] |= BUSY
    words[5] = 0
    made = fleet(6, 2, words, link_allowed=np.array([True, True, True, True, False, True]))
    blocked = Week(made, replace(PLAN, needs=Needs(battery_at_least=40)), T0).blocked
    fetch, switch = ([blocked.reasons[place] for place in places] for places in (blocked.fetch, blocked.switch))
    flat = "never as device.battery_at_least wants it"
    assert fetch == ["", flat, "", "", "never as device.links wants it", ""]
    assert switch == ["", flat, "never all that the plan wants at once", "never as device.not_busy wants it", "", ""]


def test_hours_in_which_nobody_was_heard_say_nothing_and_those_in_which_others_were_do() -> None:
    words = np.zeros((3, WEEK), np.int16)
    words[0, 100:] = HEARD | 50 << BATTERY_SHIFT
    words[1, 130:] = HEARD | 60 << BATTERY_SHIFT
    words[:, 120:124] = 0  # the service was away
    words[1, 140:145] = 0  # the device was
    words[2, 166] = HEARD | 70 << BATTERY_SHIFT
    words[2, 167] = 0
    found = without_gaps(words)
    assert (found[0] != 0).all() and (found[0] >> BATTERY_SHIFT == 50).all()
    assert (found[1, 140:145] == 0).all(), "it was not there while another was"
    assert (found[1, 121:140] != 0).all() and found[2, 167] == 0
    assert found[2, 10] != 0, "what is not known is as on other days, or as it was last"


@given(st.integers(0, 100), st.booleans(), st.booleans(), st.integers(0, 100), st.booleans())
def test_an_hour_will_do_if_the_service_would_let_the_device_switch(
    battery: int, charging: bool, busy: bool, at_least: int, only_charging: bool
) -> None:
    word = HEARD | (2 if charging else 0) | (BUSY if busy else 0) | battery << BATTERY_SHIFT
    needs = Needs(battery_at_least=at_least, charging=only_charging)
    made = fleet(1, 1, np.full((1, WEEK), word, np.int16))
    hours = Week(made, replace(PLAN, needs=needs), T0).begun(0)
    condition = {"battery": battery, "charging": charging, "busy": busy}
    assert (hours.switch[0, 0] == 0) == (missing(needs, condition, switching=True) is None)
    assert (hours.fetch[0, 0] == 0) == (missing(needs, condition, switching=False) is None)


# Turns -------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("devices", [300, ONE_BY_ONE + 200])
def test_never_more_have_a_turn_than_may(devices: int) -> None:
    rng = np.random.default_rng(2)
    ready, takes = rng.uniform(0, 2, devices), np.full(devices, 0.3)
    notices = rng.uniform(0, 1, devices)
    begun = serve(ready, takes, 7, notices)
    assert (begun >= ready).all()
    moments = np.sort(begun)
    under_way = np.searchsorted(moments, moments, side="right") - np.searchsorted(
        np.sort(begun + takes), moments, "right"
    )
    assert under_way.max() <= 7
    assert serve(ready, takes, None, notices) is ready
    assert np.isinf(serve(ready, takes, 0, notices)).all()


def test_a_place_that_gets_free_is_had_by_whoever_calls_next() -> None:
    rng = np.random.default_rng(5)
    devices, at_once, every = 400, 10, 0.5
    last = serve(np.zeros(devices), np.full(devices, 0.1), at_once, rng.uniform(0, every, devices)).max()
    in_time = (devices / at_once - 1) * 0.1
    # Of many that wait one calls at once: hardly longer than without a wait, and not by half an interval each turn.
    assert in_time < last < in_time + 1.5 * every
    alone = serve(np.zeros(2), np.full(2, 0.1), 1, np.full(2, 0.4))
    assert alone.tolist() == [0.0, 0.5]


# Runs --------------------------------------------------------------------------------------------------------------


def test_a_good_release_goes_out_ring_by_ring_each_with_its_soak() -> None:
    course = run(PLAN, fleet(40))
    assert isfinite(course.ended) and course.halted is None and course.stands is None
    first, second = course.opens
    assert first == 0 and course.ends[0] >= 1 and second >= course.ends[0] and course.ended >= second + 1
    for position in (0, 1):
        one = passage(course, position)
        assert (one.asked >= one.opened).all() and (one.offered >= one.asked).all()
        assert (one.begun >= one.staged).all() and (one.confirmed > one.begun).all()
    assert course.ended < 4


def test_switches_take_as_long_as_they_took_lately_and_a_soak_ends_with_the_first_call_after_it() -> None:
    took = np.array([0.004, 0.006, 0.02])
    one = passage(run(PLAN, fleet(60, switches=took)), 1)
    lasted = one.confirmed - one.begun
    assert {round(float(each), 6) for each in lasted} == set(took.tolist())
    late = one.soaked - one.confirmed - 1
    assert (late >= 0).all() and (late <= 5 / 60).all() and np.ptp(late) > 3 / 60, "after twelve calls, at any time"
    short = replace(PLAN, rings=(RINGS[0], Ring("rest", timedelta(minutes=8))))
    soaking = passage(run(short, fleet(60)), 1)
    lasted = (soaking.soaked - soaking.confirmed) * 60
    # It calls after four minutes and after five more, each spread by a tenth.
    assert (lasted >= 8.1 - 1e-9).all() and (lasted <= 9.9 + 1e-9).all() and np.ptp(lasted) > 0.5
    assert (one.begun == one.staged).all(), "it calls when it has staged, and may switch at once"


def test_who_waited_for_a_wave_hears_of_it_at_its_next_call() -> None:
    budget = HarmBudget(10)
    held = run(replace(PLAN, rings=(replace(RINGS[0], count=60), RINGS[1]), harm=budget), fleet(200, 60))
    begun = np.sort(passage(held, 0).begun)
    second = begun[10:20]
    assert 0 < np.ptp(second) <= 5 / 60 / 4 + 1e-9


def test_the_same_seed_gives_the_same_run_and_another_one_another() -> None:
    made = fleet(60)
    one, same, other = (run(PLAN, made, "0.1 crashed", seed) for seed in (1, 1, 2))
    assert one.opens == same.opens and np.array_equal(passage(one, 0).begun, passage(same, 0).begun)
    assert not np.array_equal(passage(one, 0).begun, passage(other, 0).begun)


def test_a_bad_release_is_halted_by_the_brake_and_the_outer_ring_never_opens() -> None:
    course = run(PLAN, fleet(400, 100), "0.5 crashed")
    assert course.halted is not None and "firmware brake" in course.halted
    assert course.opens[1] == np.inf and int((passage(course, 0).begun <= course.stopped).sum()) < 60


def test_as_many_are_exposed_before_the_halt_as_the_brakes_own_study_says() -> None:
    """The study exposes devices in blocks of so many at once; here they call when they call, so it is near, not
    equal."""
    plan = replace(PLAN, rings=(Ring("all", timedelta(hours=1)),), pace=Pace(None, 10))
    made = fleet(400, 400, ring=np.zeros(400, np.int64))
    exposed = []
    for seed in range(60):
        course = run(plan, made, "0.2 crashed", seed)
        exposed.append(int((passage(course, 0).begun <= course.stopped).sum()))
    watch = Watch(1, {"hw_rev": ["1", "2"]})
    shares = {"hw_rev": {"1": 0.5, "2": 0.5}}
    rng = np.random.default_rng(3)
    study = foresee_faults([400], watch, 0.02, halts_at(1, 0.05), [10], rng, runs=200, shares=shares)
    (same,) = [one for one in study if one.times == 10.0]
    assert np.mean(exposed) == pytest.approx(same.exposed[0], rel=0.35)


def test_a_slow_fault_is_seen_where_the_soak_is_longer_than_it_takes_and_hurts_all_where_it_is_not() -> None:
    made = fleet(60, 20)
    short = run(PLAN, made, "0.3 crash-looping after 6h")
    assert short.halted is None and isfinite(short.ended)
    assert np.isinf(passage(short, 1).bad).all() and np.isfinite(passage(short, 1).hurt).sum() > 5
    longer = replace(PLAN, rings=tuple(replace(ring, soak=timedelta(hours=8)) for ring in RINGS))
    seen = run(longer, made, "0.3 crash-looping after 6h")
    assert seen.halted is not None and seen.opens[1] == np.inf


def test_one_value_of_a_fact_is_struck_and_no_other() -> None:
    made = fleet(60, 30)
    second = np.arange(60) % 2 == 1
    course = run(replace(PLAN, brake=replace(PLAN.brake, firmware_limit=0.9)), made, "1 crashed", struck=second)
    one = passage(course, 0)
    assert np.array_equal(np.isfinite(one.hurt), second[one.some])


def test_a_transfer_that_breaks_exposes_nobody_and_the_delivery_brake_halts() -> None:
    course = run(PLAN, fleet(400, 200), "0.6 download-broken")
    one = passage(course, 0)
    broken = np.isfinite(one.undelivered)
    assert broken.sum() > 80 and np.isinf(one.begun[broken]).all()
    assert course.halted is not None and "delivery brake" in course.halted


def test_devices_switch_in_their_window_only() -> None:
    night = Window(frozenset(range(7)), time(2), time(4), Use.SWITCH)
    course = run(replace(PLAN, calendar=Calendar(windows=(night,))), fleet(30))
    for position in (0, 1):
        begun = passage(course, position).begun
        hours = (T0.hour + begun) % 24
        assert np.isfinite(begun).all() and ((hours >= 2) & (hours < 4.01)).all()


def test_who_is_never_as_the_plan_wants_is_set_aside_and_holds_no_ring() -> None:
    words = np.full((40, WEEK), HEARD | 80 << BATTERY_SHIFT, np.int16)
    words[5:8] = HEARD | 5 << BATTERY_SHIFT
    plan = replace(PLAN, wait_at_most=timedelta(hours=2))
    course = run(plan, fleet(40, words=words))
    assert isfinite(course.ended) and course.ended > 2
    flat = passage(course, 1).begun[:3]
    assert np.isinf(flat).all() and np.isfinite(passage(course, 1).begun[3:]).all()


def test_a_ring_of_which_too_many_fail_stands_still_and_says_why() -> None:
    plan = replace(PLAN, brake=replace(PLAN.brake, firmware_limit=0.95))
    course = run(plan, fleet(60, 20), "0.5 crashed")
    assert course.stands is not None and course.stands[0] == 0 and "the plan wants 90 %" in course.stands[1]
    assert not isfinite(course.ended)


def test_no_more_are_at_risk_than_the_pace_allows() -> None:
    course = run(replace(PLAN, pace=Pace(6, 3)), fleet(80, 40))
    for position in (0, 1):
        one = passage(course, position)
        moments = np.sort(one.begun)
        at_risk = np.searchsorted(moments, moments, "right") - np.searchsorted(np.sort(one.decided), moments, "right")
        assert at_risk.max() <= 3


def test_leave_is_given_in_the_waves_of_the_harm_budget() -> None:
    budget = HarmBudget(10)
    made = fleet(300, 100)
    rings = (replace(RINGS[0], count=100), RINGS[1])
    plain, held = run(replace(PLAN, rings=rings), made), run(replace(PLAN, rings=rings, harm=budget), made)
    begun = np.sort(passage(held, 0).begun)
    assert begun[9] < 1 < begun[10], "ten at first, and nobody else before they have soaked"
    waves = good_waves(budget, [100, 200])
    # Each wave runs through its soak: that many hours at the least.
    assert held.ended >= sum(waves) and held.ended > plain.ended + 3


@pytest.mark.parametrize("seed", range(6))
def test_a_budget_for_sure_is_never_exceeded_and_stands_still_when_it_is_used_up(seed: int) -> None:
    plan = replace(PLAN, harm=HarmBudget(6, sure=True), brake=replace(PLAN.brake, firmware_limit=0.9, min_good=0))
    course = run(replace(plan, rings=(replace(RINGS[0], enough=0.0), RINGS[1])), fleet(200, 100), "0.3 crashed", seed)
    hurt = sum(int(np.isfinite(one.hurt).sum()) for one in course.passages if one is not None)
    assert hurt == 6
    assert course.stands is not None and "harm budget is used up: 6 of at most 6" in course.stands[1]


def test_a_gateway_goes_after_those_behind_it() -> None:
    gateway = np.full(40, -1)
    gateway[6:20] = 5
    one = passage(run(PLAN, fleet(40, gateway=gateway)), 1)
    assert one.begun[0] >= one.decided[1:15].max() - 1e-9
    free = passage(run(replace(PLAN, order=SwitchOrder(keep_reachable=False)), fleet(40, gateway=gateway)), 1)
    assert free.begun[0] < free.decided[1:15].max()


def test_all_staged_means_that_nobody_switches_before_the_last_has_it() -> None:
    slow = np.full(40, 36_000.0)
    slow[7] = 100.0  # an hour
    one = passage(run(replace(PLAN, order=SwitchOrder(SwitchWhen.ALL_STAGED)), fleet(40, rate=slow)), 1)
    assert one.begun.min() >= one.staged.max()


ARMS = (Arm("a", PLAN.release), Arm("b", replace(PLAN.release, version="9.9.9")))


@pytest.mark.parametrize(
    "plan",
    [
        replace(PLAN, rings=(RINGS[0], replace(RINGS[1], opens=Opens.BY_HAND))),
        replace(PLAN, approval=ApprovalRule((RINGS[1].name,))),
        replace(PLAN, arms=ARMS),
    ],
    ids=["go", "approval", "choice"],
)
def test_people_take_their_time_where_they_are_asked(plan: Plan) -> None:
    made = fleet(40)
    watch = Watch(2, {"hw_rev": ["1", "2"]})
    at_once, later = (
        rehearse(Ask(plan, made, watch, T0, SIZE, [(None, None)], 12, 1, hours)).answers[0] for hours in (0.0, 5.0)
    )
    assert later.rings[1].opens.middle >= at_once.rings[1].opens.middle + 4.9


def test_a_service_that_looks_rarely_opens_its_rings_later() -> None:
    turn, watch = 0.2, Watch(2, {"hw_rev": ["1", "2"]})
    often, rarely = (
        rehearse(Ask(PLAN, fleet(40), watch, T0, SIZE, [(None, None)], 300, turn=one), levers=False).answers[0]
        for one in (0.0, turn)
    )
    late = rarely.rings[1].opens.middle - often.rings[1].opens.middle
    # The last of a ring's soaks goes unnoticed for a turn in the middle.
    assert 0.8 * turn < late < 1.2 * turn


# Answers -----------------------------------------------------------------------------------------------------------


def test_answers_are_quantiles_over_runs_with_reasons_and_levers() -> None:
    made = fleet(120, 40)
    fault = parse_fault("0.15 crashed")
    told: list[float] = []
    ask = Ask(
        replace(PLAN, harm=HarmBudget(15)),
        made,
        Watch(2, {"hw_rev": ["1", "2"]}),
        T0,
        SIZE,
        [(None, None), (fault, np.ones(120, np.bool_))],
        40,
        7,
    )
    found = rehearse(ask, told.append)
    good, bad = found.answers
    assert good.finishes == 1 and good.halts == 0 and good.hurt.high == 0 and good.served.low == 1
    assert good.done.low <= good.done.middle <= good.done.high < found.horizon
    assert bad.halts + sum(share for _, _, share in bad.stands) > 0.9
    assert 0 < bad.hurt.middle <= 15 and bad.exposed.middle < 120
    assert dict(bad.never)["its ring never opened"] > 0
    assert good.fan.good[-1].middle == 120 and bad.fan.hurt[-1].middle == bad.hurt.middle
    assert good.bytes.middle == 120 * SIZE and good.peak.middle <= good.bytes.middle
    assert told == sorted(told) and told[-1] == 1
    quickest = found.levers[0]
    assert quickest.key in ("harm", "rings.soak") and quickest.sooner > 1
    again = rehearse(ask)
    assert again == found


def test_where_it_runs_out_of_time_is_said() -> None:
    plan = replace(PLAN, calendar=Calendar(ends=T0 + timedelta(hours=1)))
    (answer,) = rehearse(Ask(plan, fleet(40), Watch(2, {}), T0, SIZE, [(None, None)], 12)).answers
    assert answer.exposed.middle == 5 and dict(answer.never) == {"its ring never opened": 35.0}
