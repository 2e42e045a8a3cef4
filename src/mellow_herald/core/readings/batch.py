"""What a device sends as its readings: read, placed in service time, and cut into minutes."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mellow_herald.core.readings.signal import SignalKind

AHEAD_S, BEHIND_S = 300.0, 30 * 86_400.0
MINUTE_S = 60
LONGEST_TEXT = 500
LARGEST = 1e300
NUMBERS = frozenset({int, float})
MOST_UNDECLARED = 50
# A device's clock that is off by no more than this is taken for right: what the way took is no fault of the clock.
CLOCK_RIGHT_S, CLOCK_MOVED_S = 5.0, 5.0


class Refusal(StrEnum):
    """Why a value was not taken."""

    AHEAD = "ahead"
    TOO_OLD = "too-old"
    NOT_A_NUMBER = "not-a-number"
    WRONG_KIND = "wrong-kind"
    TOO_MANY_NAMES = "too-many-names"


@dataclass(frozen=True, slots=True)
class Refused:
    """One value that was not taken: which of its signal's values in the call, from nought, and why."""

    signal: str
    index: int
    why: Refusal


@dataclass(frozen=True, slots=True)
class Piece:
    """Values of one signal within one minute, in the order of their time: ``minute`` is its beginning (service time, s
    since 1970), ``offsets`` are ms after it, of which no two are the same. ``values`` are numbers, or ``texts``."""

    signal: str
    minute: int
    offsets: NDArray[np.int32]
    values: NDArray[np.float64]
    texts: tuple[str, ...] = ()


@dataclass(slots=True)
class Taken:
    """What came of a call."""

    pieces: list[Piece]
    refused: list[Refused]
    known: int = 0

    @property
    def count(self) -> int:
        """How many values were taken."""
        return sum(len(one.offsets) for one in self.pieces)


def clock_offset(sent_at: float | None, now: float, before: float) -> float:
    """By how much (s) a device's clock is behind ours. ``sent_at`` is what it showed when it sent; the offset that is
    known from ``before`` stands until the clock was moved, so that the same word sent twice has the same time."""
    if sent_at is None:
        return before
    offset = now - sent_at
    if abs(offset) <= CLOCK_RIGHT_S:
        return 0.0
    return before if abs(offset - before) <= CLOCK_MOVED_S else offset


def split(
    times: NDArray[np.float64],
    columns: Mapping[str, Sequence[Any]],
    kinds: Mapping[str, SignalKind],
    now: float,
    beyond: frozenset[str] = frozenset(),
) -> Taken:
    """Cuts columns into minutes. ``times`` are in service time (s since 1970), ``columns`` have a value or None for
    each of them, ``kinds`` say what the known names are; who is ``beyond`` is a name too many."""
    taken = Taken([], [])
    ahead, old = times > now + AHEAD_S, times < now - BEHIND_S
    # Whole milliseconds from the beginning of 1970, so that a time has one way of being written.
    stamps = np.round(np.where(np.isfinite(times), times, 0.0) * 1000).astype(np.int64)
    for name, column in columns.items():
        if name in beyond:
            first = next((at for at, value in enumerate(column) if value is not None), 0)
            taken.refused.append(Refused(name, first, Refusal.TOO_MANY_NAMES))
            continue
        _column(taken, name, column, kinds.get(name), (stamps, ahead, old))
    return taken


def _column(
    taken: Taken,
    name: str,
    column: Sequence[Any],
    kind: SignalKind | None,
    when: tuple[NDArray[np.int64], NDArray[np.bool_], NDArray[np.bool_]],
) -> None:
    stamps, ahead, old = when
    kind = kind or kind_of(column)
    numeric = kind is SignalKind.NUMBER
    values = np.zeros(len(column))
    if numeric and set(map(type, column)) <= NUMBERS:  # nearly always, and a tenth of the work
        present = right = np.ones(len(column), bool)
        values = _reals(column)
    elif numeric:
        present = _present(column)
        right = np.fromiter((type(value) in NUMBERS for value in column), bool, len(column))
        values = _reals([value if fits else 0.0 for value, fits in zip(column, right, strict=True)])
    else:
        present = _present(column)
        right = np.fromiter(
            (isinstance(value, str) and len(value) <= LONGEST_TEXT and "\0" not in value for value in column),
            bool,
            len(column),
        )
    # What is larger would overflow what is reckoned of an hour; it is how some firmware says that it has no value.
    finite = np.isfinite(values) & (np.abs(values) <= LARGEST)
    good = present & right & finite & ~ahead & ~old
    for index in np.flatnonzero(present & ~good).tolist():
        if not right[index]:
            why = Refusal.WRONG_KIND
        elif not finite[index]:
            why = Refusal.NOT_A_NUMBER
        else:
            why = Refusal.AHEAD if ahead[index] else Refusal.TOO_OLD
        taken.refused.append(Refused(name, index, why))
    chosen = np.flatnonzero(good)
    if not len(chosen):
        return
    # The first of the same time is kept: a stable order, and then the first of each.
    chosen = chosen[np.argsort(stamps[chosen], kind="stable")]
    stamped = stamps[chosen]
    first = np.concatenate(([True], stamped[1:] != stamped[:-1]))
    chosen, stamped = chosen[first], stamped[first]
    taken.known += int((~first).sum())
    minutes = stamped // (MINUTE_S * 1000)
    bounds = np.flatnonzero(np.concatenate(([True], minutes[1:] != minutes[:-1]))).tolist()
    for begin, end in zip(bounds, [*bounds[1:], len(minutes)], strict=True):
        minute = int(minutes[begin]) * MINUTE_S
        offsets = (stamped[begin:end] - minute * 1000).astype(np.int32)
        within = chosen[begin:end]
        texts = () if numeric else tuple(column[at] for at in within.tolist())
        taken.pieces.append(Piece(name, minute, offsets, values[within], texts))


def _reals(column: Sequence[Any]) -> NDArray[np.float64]:
    """Numbers; a whole one that no float can be is infinite."""
    try:
        return np.array(column, np.float64)
    except OverflowError:
        return np.array([value if abs(value) <= LARGEST else np.inf for value in column], np.float64)


def _present(column: Sequence[Any]) -> NDArray[np.bool_]:
    return np.fromiter((value is not None for value in column), bool, len(column))


def kind_of(column: Sequence[Any]) -> SignalKind:
    """What an undeclared signal's values are taken for: the first one decides."""
    first = next((value for value in column if value is not None), 0.0)
    return SignalKind.TEXT if isinstance(first, str) else SignalKind.NUMBER
