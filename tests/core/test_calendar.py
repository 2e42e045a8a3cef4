from datetime import UTC, date, datetime, time, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.calendar import (
    Use,
    Window,
    after_open_time,
    end_of_day,
    is_open,
    local_moment,
    next_closing,
    next_opening,
    zone_named,
)
from mellow_herald.core.refusal import Refused

EVERY_DAY = frozenset(range(7))
DUBLIN, BERLIN, AZORES = zone_named("Europe/Dublin"), zone_named("Europe/Berlin"), zone_named("Atlantic/Azores")


def window(begin: str, end: str, days: frozenset[int] = EVERY_DAY, use: Use = Use.BOTH) -> tuple[Window, ...]:
    return (Window(days, time.fromisoformat(begin), time.fromisoformat(end), use),)


def utc(*when: int) -> datetime:
    return datetime(*when, tzinfo=UTC)


def test_a_window_over_midnight_belongs_to_the_day_on_which_it_begins() -> None:
    friday_night = window("22:00", "04:00", frozenset({4}))
    assert is_open(friday_night, Use.BOTH, DUBLIN, utc(2026, 11, 27, 23))
    assert is_open(friday_night, Use.BOTH, DUBLIN, utc(2026, 11, 28, 3, 59))
    assert not is_open(friday_night, Use.BOTH, DUBLIN, utc(2026, 11, 28, 4))
    assert not is_open(friday_night, Use.BOTH, DUBLIN, utc(2026, 11, 27, 3))
    assert next_opening(friday_night, Use.BOTH, DUBLIN, utc(2026, 11, 28, 4)) == utc(2026, 12, 4, 22)


def test_windows_for_fetching_and_for_switching_stand_beside_each_other() -> None:
    both = window("01:00", "02:00", use=Use.FETCH) + window("03:00", "04:00", use=Use.SWITCH)
    assert is_open(both, Use.FETCH, DUBLIN, utc(2026, 11, 23, 1, 30))
    assert not is_open(both, Use.SWITCH, DUBLIN, utc(2026, 11, 23, 1, 30))
    assert next_opening(both, Use.SWITCH, DUBLIN, utc(2026, 11, 23, 1, 30)) == utc(2026, 11, 23, 3)
    only_fetching = window("01:00", "02:00", use=Use.FETCH)
    assert is_open(only_fetching, Use.SWITCH, DUBLIN, utc(2026, 11, 23, 12)), "nothing is said about switching"


@pytest.mark.parametrize(
    ("zone", "at", "opens", "closes"),
    [
        # Clocks go forward at 01:00 UTC on 28 March 2027: in Dublin 01:00 → 02:00, in Berlin 02:00 → 03:00.
        (DUBLIN, utc(2027, 3, 28, 0, 0), utc(2027, 3, 28, 1, 0), utc(2027, 3, 28, 2, 0)),
        (BERLIN, utc(2027, 3, 27, 23, 0), utc(2027, 3, 28, 0, 30), utc(2027, 3, 28, 1, 0)),
        # They go back at 01:00 UTC on 25 October 2026: the hour from 01:00 (Dublin) or 02:00 (Berlin) comes twice.
        (DUBLIN, utc(2026, 10, 24, 23, 0), utc(2026, 10, 25, 0, 30), utc(2026, 10, 25, 1, 0)),
        (BERLIN, utc(2026, 10, 24, 22, 0), utc(2026, 10, 24, 23, 30), utc(2026, 10, 25, 2, 0)),
    ],
)
def test_both_clock_changes_in_two_zones(zone, at, opens, closes) -> None:  # type: ignore[no-untyped-def]
    """From 01:30 to 03:00 by the clock on the wall."""
    half_past_one = window("01:30", "03:00")
    assert next_opening(half_past_one, Use.BOTH, zone, at) == opens
    assert next_closing(half_past_one, Use.BOTH, zone, opens) == closes


def test_an_hour_that_comes_twice_opens_twice_and_one_that_is_left_out_does_not() -> None:
    only_then = window("01:30", "02:00")
    first = next_opening(only_then, Use.BOTH, DUBLIN, utc(2026, 10, 25, 0))
    assert first == utc(2026, 10, 25, 0, 30)
    assert next_closing(only_then, Use.BOTH, DUBLIN, first) == utc(2026, 10, 25, 1, 0)
    assert next_opening(only_then, Use.BOTH, DUBLIN, utc(2026, 10, 25, 1, 0)) == utc(2026, 10, 25, 1, 30)
    skipped = next_opening(only_then, Use.BOTH, DUBLIN, utc(2027, 3, 28, 0))
    assert skipped == utc(2027, 3, 29, 0, 30), "that night the clock jumps over it"


def test_the_same_window_in_three_zones_opens_three_times() -> None:
    two = window("02:00", "05:00")
    openings = {zone.key: next_opening(two, Use.BOTH, zone, utc(2026, 11, 23, 12)) for zone in (DUBLIN, BERLIN, AZORES)}
    assert openings == {
        "Europe/Dublin": utc(2026, 11, 24, 2),
        "Europe/Berlin": utc(2026, 11, 24, 1),
        "Atlantic/Azores": utc(2026, 11, 24, 3),
    }


def test_work_goes_on_only_while_a_window_is_open() -> None:
    nightly = window("02:00", "04:00")
    begun = utc(2026, 11, 23, 3)
    assert after_open_time(nightly, Use.BOTH, DUBLIN, begun, timedelta(hours=1)) == utc(2026, 11, 23, 4)
    assert after_open_time(nightly, Use.BOTH, DUBLIN, begun, timedelta(hours=4)) == utc(2026, 11, 25, 3)
    assert after_open_time((), Use.BOTH, DUBLIN, begun, timedelta(hours=4)) == utc(2026, 11, 23, 7)


def test_dates_without_an_offset_are_meant_in_the_zone() -> None:
    assert local_moment(datetime(2026, 7, 1, 9), DUBLIN) == utc(2026, 7, 1, 8)  # noqa: DTZ001
    assert local_moment(datetime(2026, 7, 1, 9, tzinfo=UTC), DUBLIN) == utc(2026, 7, 1, 9)
    assert end_of_day(date(2026, 10, 25), BERLIN) == utc(2026, 10, 25, 23)


def test_a_slip_in_a_zone_names_the_nearest() -> None:
    with pytest.raises(Refused, match="Did you mean Europe/Dublin"):
        zone_named("Europe/Dubln")
    with pytest.raises(Refused, match="IANA name"):
        zone_named("../etc/passwd")


CLOCKS = st.times().map(lambda t: t.replace(second=0, microsecond=0))
MOMENTS = st.datetimes(datetime(2026, 1, 1), datetime(2028, 1, 1), timezones=st.just(UTC))  # noqa: DTZ001


@given(
    windows=st.lists(
        st.builds(Window, st.frozensets(st.integers(0, 6), min_size=1), CLOCKS, CLOCKS, st.sampled_from(Use)),
        min_size=1,
        max_size=3,
    ).map(tuple),
    zone=st.sampled_from([DUBLIN, BERLIN, AZORES, zone_named("Australia/Lord_Howe"), zone_named("UTC")]),
    at=MOMENTS,
    use=st.sampled_from([Use.FETCH, Use.SWITCH]),
)
def test_the_next_opening_is_open_and_a_moment_before_it_was_not(windows, zone, at, use) -> None:  # type: ignore[no-untyped-def]
    opens = next_opening(windows, use, zone, at)
    assert opens is not None and opens >= at, "a weekly window always comes"
    assert is_open(windows, use, zone, opens)
    if opens > at:
        assert not is_open(windows, use, zone, opens - timedelta(seconds=1))
        middle = at + (opens - at) / 2
        assert not is_open(windows, use, zone, middle)
