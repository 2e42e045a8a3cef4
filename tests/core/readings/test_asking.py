"""Who is asked for what, and into which buckets an answer is divided."""

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.readings.buckets import Level, divide
from mellow_herald.core.readings.listening import NOTHING, Wish, asked_of

NOW = datetime(2026, 5, 2, 8, 0, tzinfo=UTC)
HOUR = timedelta(hours=1)


def test_several_wishes_are_one_and_the_shortest_period_wins() -> None:
    slow = Wish(("battery", "weight"), 60.0, NOW + 5 * HOUR)
    fast = Wish(("weight",), 10.0, NOW + HOUR)
    asked = asked_of([slow, fast], NOW)
    assert asked.signals == {"weight": (10.0, NOW + HOUR), "battery": (60.0, NOW + 5 * HOUR)}
    assert asked.number == asked_of([fast, slow], NOW).number, "the order in which they were asked is nothing"
    assert asked.number not in (0, asked_of([slow], NOW).number)
    assert asked_of([fast], NOW + HOUR) == NOTHING, "what is over is asked for no more"


@pytest.mark.parametrize(
    ("span", "points", "step_s", "level"),
    [
        (HOUR, 3600, 1, Level.EACH),
        (HOUR, 360, 10, Level.EACH),
        (HOUR, 100, 60, Level.MINUTE),
        (24 * HOUR, 1000, 120, Level.MINUTE),
        (30 * 24 * HOUR, 720, 3600, Level.HOUR),
        (366 * 24 * HOUR, 400, 86_400, Level.HOUR),
    ],
)
def test_the_finest_division_that_fits(span: timedelta, points: int, step_s: int, level: Level) -> None:
    division = divide(NOW, NOW + span, points)
    assert (division.step_s, division.level) == (step_s, level)


@given(st.integers(1, 10**8), st.integers(1, 5000), st.integers(0, 10**9))
def test_no_division_has_more_buckets_than_were_asked_for(span_s: int, points: int, begin_s: int) -> None:
    begin = datetime.fromtimestamp(begin_s, UTC)
    end = begin + timedelta(seconds=span_s)
    division = divide(begin, end, points)
    assert division.begin <= begin < end <= division.end
    assert division.begin.timestamp() % division.step_s == 0 == division.end.timestamp() % division.step_s
    # A stretch that lies across a border has two buckets, however few were asked for.
    assert (division.end - division.begin).total_seconds() / division.step_s <= max(2, points)


def test_a_stretch_that_ends_before_it_begins_is_none() -> None:
    with pytest.raises(ValueError, match="ends before"):
        divide(NOW, NOW, 10)
