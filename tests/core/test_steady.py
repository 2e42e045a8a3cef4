from datetime import UTC, datetime, timedelta

import pytest

from mellow_herald.core.steady import FASTEST, SteadyTime

START = datetime(2026, 11, 23, 6, tzinfo=UTC)


class Machine:
    """A wall clock and ticks."""

    def __init__(self) -> None:
        self.wall, self.ticks = START, 1000.0
        self.time = SteadyTime(lambda: self.wall, lambda: self.ticks)

    def pass_time(self, seconds: float) -> None:
        self.wall += timedelta(seconds=seconds)
        self.ticks += seconds


@pytest.mark.parametrize("jump", [timedelta(hours=1), -timedelta(hours=1)])
def test_a_clock_that_is_set_is_followed_slowly(jump: timedelta) -> None:
    machine = Machine()
    machine.pass_time(10)
    machine.time.follow()
    before = machine.time.now()
    machine.wall += jump
    assert machine.time.now() == before, "nothing jumps"
    for second in range(1, 601):
        machine.pass_time(1)
        ahead = machine.time.follow()
        passed = (machine.time.now() - before).total_seconds()
        assert second * (1 - FASTEST) <= passed + 1e-6 and passed - 1e-6 <= second * (1 + FASTEST)
    assert ahead == jump * (1 - 600 * FASTEST / 3600)


def test_small_differences_are_taken_in_and_then_it_is_the_wall_clock() -> None:
    machine = Machine()
    machine.wall += timedelta(milliseconds=50)
    for _ in range(10):
        machine.pass_time(1)
        ahead = machine.time.follow()
    assert ahead == timedelta() and machine.time.now() == machine.wall


def test_it_goes_on_from_where_others_are() -> None:
    machine = Machine()
    later = SteadyTime(lambda: machine.wall, lambda: machine.ticks, START + timedelta(hours=1))
    machine.pass_time(2)
    assert later.now() == START + timedelta(hours=1, seconds=2)
