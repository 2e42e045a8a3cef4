"""A rehearsal beside what happened: what is told to lie outside of its fan."""

from datetime import UTC, datetime, timedelta

import pytest

from mellow_herald.service.rollouts.report_rehearsal import outside
from mellow_herald.wire.rehearsal import TimeSpread

NOON = datetime(2026, 12, 1, 12, 0, 30, tzinfo=UTC)
LATER = timedelta(hours=1)


@pytest.mark.parametrize(
    ("after", "told"),
    [(-61, True), (-20, False), (0, False), (3600, False), (3620, False), (3691, True), (None, True)],
)
def test_what_is_told_by_the_minute_of_an_end_is_not_outside(after: float | None, told: bool) -> None:
    fan = TimeSpread(low=NOON, middle=NOON + LATER / 2, high=NOON + LATER)
    moved = timedelta(days=1)
    at = None if after is None else NOON + moved + timedelta(seconds=after)
    assert outside(at, fan, moved) is told


def test_never_lies_within_a_fan_that_is_open_upwards() -> None:
    fan = TimeSpread(low=NOON, middle=NOON + LATER, high=None)
    assert not outside(None, fan, timedelta())
    assert not outside(NOON + 9 * LATER, fan, timedelta())
