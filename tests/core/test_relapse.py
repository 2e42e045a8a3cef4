"""Whether a confirmed device goes bad within its soak."""

from dataclasses import replace

import pytest

from mellow_herald.core.relapse import Quiet, ReadingRule, Worse, relapse

MEMORY = ReadingRule("free_memory", Worse.LOWER, by=0.3, at_least=2000)
HEAT = ReadingRule("temperature", Worse.HIGHER, by=0.1, at_least=5)
QUIET = Quiet(7, {"free_memory": 40_000, "temperature": 20}, [{}, {}])


def test_running_quietly_is_no_relapse() -> None:
    assert relapse(QUIET, 7, [MEMORY, HEAT]) is None
    assert relapse(QUIET, 9, [MEMORY]) is None, "two restarts may be anything"


def test_restarting_over_and_over_is() -> None:
    assert relapse(QUIET, 10, []) == ("crash-looping", "3 restarts since it confirmed")


@pytest.mark.parametrize(
    ("readings", "worse"),
    [
        ([{"free_memory": 20_000}, {"free_memory": 19_000}], True),
        ([{"free_memory": 39_000}, {"free_memory": 19_000}], False),  # one dip
        ([{"free_memory": 19_000}], False),  # heard only once
        ([{"free_memory": 20_000}, {}], False),
        ([{"free_memory": 28_500}, {"free_memory": 28_500}], False),  # less than 30 % lower
        ([{"free_memory": 60_000}, {"free_memory": 60_000}], False),
        ([{"temperature": 26}, {"temperature": 27}], True),
        ([{"temperature": 24}, {"temperature": 24}], False),  # 20 % higher, but not by 5
    ],
)
def test_readings_are_held_against_the_same_device_before(readings: list[dict[str, float]], worse: bool) -> None:
    found = relapse(replace(QUIET, readings=readings), 7, [MEMORY, HEAT])
    assert (found is not None and found[0] == "readings-worse") is worse


def test_without_a_reading_from_before_there_is_nothing_to_compare() -> None:
    unknown = replace(QUIET, before={}, readings=[{"free_memory": 1.0}, {"free_memory": 1.0}])
    assert relapse(unknown, 7, [MEMORY]) is None


def test_a_reading_that_was_nothing_gets_worse_by_what_is_said() -> None:
    errors = ReadingRule("errors", Worse.HIGHER, by=0.5, at_least=10)
    known = replace(QUIET, before={"errors": 0}, readings=[{"errors": 12}, {"errors": 15}])
    assert relapse(known, 7, [errors]) == ("readings-worse", "errors 15, before the update 0")
    assert relapse(replace(known, readings=[{"errors": 9}, {"errors": 9}]), 7, [errors]) is None
