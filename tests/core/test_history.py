from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest

from mellow_herald.core.history import Happening, LastHeard, Standing, happenings, is_odd, odd_after

NOW = datetime(2026, 6, 1, tzinfo=UTC)
LAST = Standing(boots=5, seq=40, digest="a" * 64, version="2.4.0", slot="a", settings_digest="s" * 64)
KNOWN = LastHeard(LAST, NOW - timedelta(minutes=1))
INTERVAL = timedelta(minutes=15)


def what(known: LastHeard, said: Standing, now: datetime = NOW) -> list[Happening]:
    return [event.what for event in happenings(known, said, now)]


def test_the_first_word_of_a_device_is_no_change() -> None:
    assert what(LastHeard(None, None), LAST) == []
    assert what(KNOWN, replace(LAST, seq=41)) == []


def test_restarts_are_counted() -> None:
    (event,) = happenings(KNOWN, replace(LAST, boots=9, seq=1), NOW)
    assert (event.what, event.count) == (Happening.RESTARTED, 4)


@pytest.mark.parametrize(
    ("known", "words"),
    [
        (replace(KNOWN, wanted=frozenset({"b" * 64})), "2.4.0 → 2.5.0"),
        (replace(KNOWN, from_digest="b" * 64), "2.4.0 → 2.5.0"),
        (KNOWN, "2.4.0 → 2.5.0, not by a rollout"),
    ],
)
def test_a_change_of_version_says_whether_a_rollout_brought_it(known: LastHeard, words: str) -> None:
    said = replace(LAST, boots=6, seq=1, digest="b" * 64, version="2.5.0")
    assert [event.detail for event in happenings(known, said, NOW) if event.what is Happening.VERSION] == [words]


@pytest.mark.parametrize(
    "known",
    [
        replace(KNOWN, lost=True),
        replace(KNOWN, last=replace(LAST, slot="recovery")),
        replace(KNOWN, seen_at=NOW - timedelta(days=9)),
    ],
)
def test_who_was_lost_and_comes_back_with_something_else_was_rescued(known: LastHeard) -> None:
    said = replace(LAST, boots=6, seq=1, digest="b" * 64, version="2.5.0")
    assert Happening.RESCUED in what(known, said)
    assert Happening.RESCUED not in what(replace(known, wanted=frozenset({"b" * 64})), said), "a rollout did it"
    assert Happening.RESCUED not in what(KNOWN, said), "it was never lost"


def test_recovery_and_wiped_settings_are_noticed() -> None:
    assert Happening.RECOVERY in what(KNOWN, replace(LAST, boots=6, seq=1, digest="r" * 64, slot="recovery"))
    assert Happening.SETTINGS in what(KNOWN, replace(LAST, boots=6, seq=1, settings_digest="t" * 64))
    assert Happening.SETTINGS not in what(KNOWN, replace(LAST, seq=41, settings_digest="t" * 64)), "somebody set it"


def test_older_words_that_go_on_show_two_units() -> None:
    said = replace(LAST, boots=2, seq=7)
    assert is_odd(KNOWN, said) and what(KNOWN, said) == []
    first = odd_after(KNOWN, said, NOW)
    known, later = replace(KNOWN, odd=first, interval=INTERVAL), NOW + INTERVAL
    assert what(known, said, later) == [], "the same call, sent again"
    assert what(known, replace(said, seq=8), later) == [Happening.CLONED]
    assert what(known, replace(said, seq=6), later) == []
    # Its own good words in between do not hide the other unit.
    assert odd_after(replace(known, last=replace(LAST, boots=9)), replace(said, seq=8), later) == first


def test_calls_that_were_all_late_are_one_units() -> None:
    """After an outage several calls of one device may come at once, in any order."""
    first = odd_after(KNOWN, replace(LAST, boots=2, seq=7), NOW)
    known, moment = replace(KNOWN, odd=first, interval=INTERVAL), NOW + timedelta(seconds=2)
    assert what(known, replace(LAST, boots=2, seq=8), moment) == []
    assert odd_after(known, replace(LAST, boots=2, seq=8), moment) == first
    # And one that is late now and then, each time behind the word before.
    on = replace(known, last=replace(LAST, seq=60))
    late = replace(LAST, seq=59)
    assert what(on, late, NOW + 5 * INTERVAL) == []
    assert odd_after(on, late, NOW + 5 * INTERVAL).heard == (LAST.boots, 59)
