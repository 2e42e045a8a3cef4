"""What lets a device go on besides itself: pace, gateway, windows, its own restart."""

import random
from dataclasses import replace
from datetime import UTC, datetime, time, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.attempt import AT_RISK, FETCHING, Attempt, State, WaitingFor
from mellow_herald.core.calendar import Use, Window
from mellow_herald.core.leave import Family, Used, restart_missing, window_missing
from mellow_herald.core.plan import Calendar, Pace, Plan, Ring, Switch
from mellow_herald.core.release_name import parse_release_name

NOW = datetime(2026, 6, 1, 12, tzinfo=UTC)  # a Monday
PLAN = Plan("p", parse_release_name("b/l/1.0.0"), "all", (Ring("all", timedelta(hours=1)),))
WAY = (State.QUEUED, State.OFFERED, State.DOWNLOADING, State.STAGED, State.CLEARED, State.INSTALLING, State.PROVING)


@given(st.lists(st.integers(0, 9), max_size=80), st.integers(1, 3), st.integers(1, 3))
def test_whoever_asks_for_room_first_never_more_go_at_once_than_the_pace_says(
    turns: list[int], downloading: int, at_risk: int
) -> None:
    used, states = Used(Pace(downloading, at_risk), 0, 0), dict.fromkeys(range(10), 0)
    for device in turns:
        place = states[device]
        before, after = WAY[place], State.CONFIRMED if place + 1 == len(WAY) else WAY[place + 1]
        if after is State.CONFIRMED:
            states[device] = 0
        elif (after is State.OFFERED and not used.room_to_fetch) or (
            after is State.CLEARED and not used.room_to_switch
        ):
            continue
        else:
            states[device] += 1
        used.note(before, after)
        now = [WAY[one] for one in states.values()]
        assert used.downloading == sum(one in FETCHING for one in now) <= downloading
        assert used.at_risk == sum(one in AT_RISK for one in now) <= at_risk


def test_without_a_pace_there_is_always_room() -> None:
    used = Used(Pace(None, None), 10_000, 10_000)
    assert used.room_to_fetch and used.room_to_switch


@pytest.mark.parametrize("keep_reachable", [True, False])
@pytest.mark.parametrize("seed", range(20))
def test_a_gateway_and_what_is_behind_it_are_never_at_risk_together(keep_reachable: bool, seed: int) -> None:
    rng = random.Random(seed)
    gateway, behind = 1, [2, 3, 4]
    family = Family("g", gateway, undecided=set(behind))
    attempts = {device: Attempt(state=State.STAGED) for device in (gateway, *behind)}
    first_gateway_before_all = False
    for _ in range(200):
        device = rng.choice([gateway, *behind])
        state = attempts[device].state
        if state is State.STAGED:
            if family.missing_to_switch(device, keep_reachable=keep_reachable) is not None:
                continue
            attempts[device] = replace(attempts[device], state=State.CLEARED)
            if device == gateway:
                others = [attempts[one] for one in behind]
                first_gateway_before_all |= any(one.live for one in others)
        elif state is State.CLEARED:
            attempts[device] = replace(attempts[device], state=rng.choice([State.CONFIRMED, State.REVERTED]))
        else:
            continue
        family.note(device, attempts[device])
        assert not (attempts[gateway].at_risk and any(attempts[one].at_risk for one in behind))
    assert not any(one.live for one in attempts.values()), "nobody waits for ever"
    assert not (keep_reachable and first_gateway_before_all), "it goes after all behind it"


def test_each_is_told_whom_it_waits_for() -> None:
    family = Family("g", 1, at_risk={2}, undecided={2, 3})
    assert family.missing_to_switch(1, keep_reachable=False) == (WaitingFor.CHILDREN, None)
    assert family.missing_to_switch(3, keep_reachable=True) is None
    family = Family("g", 1, at_risk={1})
    assert family.missing_to_switch(3, keep_reachable=False) == (WaitingFor.GATEWAY, None)


def test_outside_of_its_windows_a_device_waits_for_the_next_one_in_its_own_time_zone() -> None:
    night = Window(frozenset(range(7)), time(2), time(4), Use.SWITCH)
    plan = replace(PLAN, calendar=Calendar(windows=(night,), device_zone=True))
    assert window_missing(plan, Use.FETCH, {}, NOW) is None, "they are for switching only"
    assert window_missing(plan, Use.SWITCH, {}, NOW) == (WaitingFor.WINDOW, NOW.replace(day=2, hour=2))
    assert window_missing(plan, Use.SWITCH, {}, NOW.replace(hour=3)) is None
    assert window_missing(plan, Use.SWITCH, {"tz": "Asia/Tokyo"}, NOW.replace(hour=18)) is None
    assert window_missing(PLAN, Use.SWITCH, {}, NOW) is None


def test_where_the_plan_switches_at_restarts_only_a_device_that_did_not_restart_waits() -> None:
    plan = replace(PLAN, switch=Switch.AT_RESTART)
    assert restart_missing(plan, after_restart=False) == (WaitingFor.WINDOW, None)
    assert restart_missing(plan, after_restart=True) is None and restart_missing(PLAN, after_restart=False) is None
