"""What comes in as readings: placed in time, cut into minutes, and what of it is not taken."""

import math
from typing import Any

import numpy as np
import pytest

from mellow_herald.core.readings.batch import Refusal, clock_offset, split
from mellow_herald.core.readings.chunk import merge, merge_texts, roll_up
from mellow_herald.core.readings.signal import SignalKind, bytes_a_day

NOW = 1_800_000_000.0


def taken(times: list[float], **columns: list[Any]) -> Any:
    kinds = {"t": SignalKind.NUMBER, "words": SignalKind.STATE}
    return split(np.array(times), columns, kinds, NOW)


def test_values_are_cut_into_minutes_in_the_order_of_their_time() -> None:
    got = taken([NOW - 1, NOW - 130, NOW - 61.5, NOW - 2], t=[4.0, 1, 2.5, 3.0])
    assert not got.refused and got.count == 4
    flat = [
        (piece.minute + offset / 1000, value)
        for piece in got.pieces
        for offset, value in zip(piece.offsets, piece.values, strict=True)
    ]
    assert flat == [(NOW - 130, 1), (NOW - 61.5, 2.5), (NOW - 2, 3.0), (NOW - 1, 4.0)]
    assert all(
        piece.minute % 60 == 0 and 0 <= piece.offsets.min() <= piece.offsets.max() < 60_000 for piece in got.pieces
    )


def test_of_one_time_the_first_is_kept() -> None:
    got = taken([NOW, NOW, NOW - 1, NOW], t=[1.0, 2.0, 0.0, 3.0])
    assert [piece.values.tolist() for piece in got.pieces] in ([[0.0, 1.0]], [[0.0], [1.0]])
    assert got.known == 2


@pytest.mark.parametrize(
    ("at", "value", "why"),
    [
        (NOW + 301, 1.0, Refusal.AHEAD),
        (NOW - 30 * 86_400 - 1, 1.0, Refusal.TOO_OLD),
        (NOW, math.nan, Refusal.NOT_A_NUMBER),
        (NOW, math.inf, Refusal.NOT_A_NUMBER),
        (NOW, "warm", Refusal.WRONG_KIND),
        (NOW, True, Refusal.WRONG_KIND),
        (NOW, [1], Refusal.WRONG_KIND),
        (math.nan, 1.0, Refusal.AHEAD),
    ],
)
def test_one_bad_value_is_refused_with_its_index_and_the_others_are_taken(at: float, value: Any, why: Refusal) -> None:
    if math.isnan(at):
        pytest.skip("a time that is no number is refused before, with its whole call")
    got = taken([NOW - 1, at, NOW - 2], t=[1.0, value, 2.0])
    assert [(one.signal, one.index, one.why) for one in got.refused] == [("t", 1, why)]
    assert got.count == 2


def test_on_the_edge_it_is_taken() -> None:
    assert taken([NOW + 300, NOW - 30 * 86_400], t=[1.0, 2.0]).count == 2


def test_none_is_no_value_and_words_are_words() -> None:
    got = taken([NOW - 1, NOW], t=[None, 1.0], words=["up", None])
    assert got.count == 2 and not got.refused
    assert {piece.signal: piece.texts for piece in got.pieces} == {"t": (), "words": ("up",)}
    assert taken([NOW], words=["x" * 501]).refused[0].why is Refusal.WRONG_KIND


def test_of_a_signal_that_nobody_knows_the_first_value_says_the_kind() -> None:
    got = split(np.array([NOW - 1, NOW]), {"new": ["a", 1.0]}, {}, NOW)
    assert got.pieces[0].texts == ("a",) and got.refused[0].why is Refusal.WRONG_KIND


def test_names_that_are_too_many_are_told_once_each() -> None:
    got = split(np.array([NOW - 1, NOW]), {"a": [1.0, 2.0], "b": [None, 2.0]}, {}, NOW, frozenset({"b"}))
    assert [(one.signal, one.index, one.why) for one in got.refused] == [("b", 1, Refusal.TOO_MANY_NAMES)]
    assert [piece.signal for piece in got.pieces].count("a") >= 1


def test_a_wrong_clock_is_mended_and_stays_mended_the_same_way() -> None:
    assert clock_offset(NOW - 3, NOW, 0.0) == 0.0, "what the way took is no fault of the clock"
    first = clock_offset(NOW - 3600, NOW, 0.0)
    assert first == 3600
    assert clock_offset(NOW - 3600 - 2, NOW, first) == first, "the same word sent once more has the same time"
    assert clock_offset(NOW - 7200, NOW, first) == 7200, "somebody moved the clock"
    assert clock_offset(None, NOW, 17.0) == 17.0
    assert clock_offset(NOW, NOW, 17.0) == 0.0, "it was set right"


def test_parts_of_a_minute_become_one_and_the_earlier_part_stands() -> None:
    first = (np.array([0, 2000], np.int32), np.array([1.0, 2.0]))
    later = (np.array([1000, 2000], np.int32), np.array([1.5, 99.0]))
    offsets, values = merge([first, later])
    assert (offsets.tolist(), values.tolist()) == ([0, 1000, 2000], [1.0, 1.5, 2.0])
    texts = merge_texts([(np.array([5], np.int32), ["x"]), (np.array([1, 5], np.int32), ["y", "z"])])
    assert (texts[0].tolist(), list(texts[1])) == ([1, 5], ["y", "x"])
    rolled = roll_up(values)
    assert (rolled.count, rolled.least, rolled.most, rolled.mean, rolled.last) == (3, 1.0, 2.0, 1.5, 2.0)


def test_what_listening_costs_a_day() -> None:
    # Three signals of 4 bytes every 10 s: 8,640 times with 12 bytes and a time of 3, and a call a minute.
    assert bytes_a_day([(4, 10.0)] * 3) == 8640 * 15 + 1440 * 400
    assert bytes_a_day([(4, 3600.0)]) == 24 * (4 + 3 + 400)
    assert bytes_a_day([]) == 0
