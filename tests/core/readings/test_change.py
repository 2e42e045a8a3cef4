"""What an update did to a reading."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.readings.change import LEAST_SPAN_S, drift, effect, trend, worsened
from mellow_herald.core.relapse import Measure, ReadingRule, Worse

HOUR = 3600.0
BATTERY = ReadingRule("battery", Worse.LOWER, by=0.5, at_least=1.0, measure=Measure.PER_DAY)


def course(per_day: float, hours: float = 6, noise: float = 0.02, seed: int = 1) -> tuple[np.ndarray, np.ndarray]:
    times = np.arange(0, hours * HOUR, 60)
    values = 80 + per_day * times / 86_400 + np.random.default_rng(seed).normal(0, noise, len(times))
    return times, values


@given(st.floats(-50, 50), st.floats(1, 40))
def test_a_straight_line_is_found_again(per_day: float, hours: float) -> None:
    found = trend(*course(per_day, hours, noise=0.0))
    assert found is not None and found.per_day == pytest.approx(per_day, abs=1e-6) and found.error < 1e-3


def test_a_trend_is_within_its_error_of_what_is_so() -> None:
    found = [trend(*course(-3.0, seed=seed)) for seed in range(300)]
    within = [abs(one.per_day + 3.0) < 1.96 * one.error for one in found if one is not None]
    assert 0.90 < sum(within) / 300 < 0.99


def test_too_little_says_nothing() -> None:
    times, values = course(-3.0)
    assert trend(times[:7], values[:7]) is None, "too few"
    brief = times < LEAST_SPAN_S / 2
    assert trend(times[brief], values[brief]) is None, "over too short a time"


def test_a_third_of_the_battery_is_seen_and_what_is_usual_is_not() -> None:
    before, after = trend(*course(-1.0, seed=2)), trend(*course(-3.0, seed=3))
    assert worsened(BATTERY, before, after) is not None
    assert worsened(BATTERY, before, trend(*course(-1.0, seed=4))) is None
    assert worsened(BATTERY, before, trend(*course(1.0, seed=5))) is None, "better is not worse"
    assert worsened(BATTERY, None, after) is None and worsened(BATTERY, before, None) is None
    assert worsened(BATTERY, before, trend(*course(-3.0, 0.7, noise=2.0, seed=6))) is None, "noise is no trend"


def test_what_befalls_those_that_were_not_updated_is_no_fault_of_the_release() -> None:
    """By day the sun charges, by night it does not: a good release is not blamed for dusk."""
    day, night = trend(*course(8.0, seed=8)), trend(*course(-4.0, seed=9))
    assert worsened(BATTERY, day, night) is not None
    dusk = [-12.1, -11.9, -12.0, -0.1, 0.0, 0.1]  # of the others, half have a panel
    assert worsened(BATTERY, day, night, drift(BATTERY, dusk)) is None
    assert worsened(BATTERY, day, trend(*course(-12.0, seed=10)), drift(BATTERY, dusk)) is not None
    assert drift(BATTERY, dusk[:2]) == 0.0, "two tell nothing"


def test_of_good_devices_hardly_any_is_ever_taken_for_worse() -> None:
    rule = ReadingRule("battery", Worse.LOWER, by=0.0, at_least=0.0, measure=Measure.PER_DAY)
    found = [
        worsened(rule, trend(*course(-1, seed=2 * one)), trend(*course(-1, seed=2 * one + 1))) for one in range(500)
    ]
    assert sum(one is not None for one in found) <= 2


def test_the_control_is_taken_off() -> None:
    rng = np.random.default_rng(7)
    before, after = -1 + rng.normal(0, 0.1, 12), -3.1 + rng.normal(0, 0.1, 12)
    night = rng.normal(-0.5, 0.1, 20)  # the weather does that to everybody
    control = -1 + rng.normal(0, 0.1, 20)
    told = effect(before, after - 0.5, control, control + night)
    assert told.difference is not None and told.low is not None and told.high is not None
    assert told.low < -2.1 < told.high and told.high - told.low < 0.3
    assert told.before is not None and told.before.low <= told.before.median <= told.before.high
    assert (told.before.devices, told.control_after and told.control_after.devices) == (12, 20)


def test_the_interval_holds_what_is_so_nineteen_times_of_twenty() -> None:
    rng, held = np.random.default_rng(11), 0
    for _ in range(400):
        own, other = rng.normal(0, 1, 8), rng.normal(0, 3, 5)
        told = effect(np.zeros(8), own, np.zeros(5), other)
        held += told.low is not None and told.low <= 0 <= (told.high or 0)
    assert 0.92 < held / 400 < 0.98


def test_one_device_has_no_interval_and_none_has_nothing() -> None:
    told = effect([1.0], [3.0], [], [])
    assert (told.difference, told.low, told.control_before) == (2.0, None, None)
    assert effect([], [], [], []).difference is None
