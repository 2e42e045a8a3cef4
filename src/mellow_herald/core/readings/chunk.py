"""A minute of one signal of one device as it is kept, and what is rolled up of it."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True, slots=True)
class Rollup:
    """What is kept of the values of a minute or an hour: how many, the least, the most, the mean and the last."""

    count: int
    least: float
    most: float
    mean: float
    last: float


Numbers = tuple[NDArray[np.int32], NDArray[np.float64]]
Texts = tuple[NDArray[np.int32], Sequence[str]]


def merge(parts: Sequence[Numbers]) -> Numbers:
    """One minute out of several parts of it, which may overlap: offsets (ms) and values in the order of time. Of two
    values of one time the one of the earlier part is kept."""
    if len(parts) == 1:
        return parts[0]
    offsets = np.concatenate([part[0] for part in parts])
    values = np.concatenate([part[1] for part in parts])
    first = _first_of_each(offsets)
    return offsets[first], values[first]


def merge_texts(parts: Sequence[Texts]) -> Texts:
    """The same for words."""
    offsets = np.concatenate([part[0] for part in parts])
    texts = [text for part in parts for text in part[1]]
    first = _first_of_each(offsets)
    return offsets[first], [texts[at] for at in first.tolist()]


def _first_of_each(offsets: NDArray[np.int32]) -> NDArray[np.intp]:
    order = np.argsort(offsets, kind="stable")
    ordered = offsets[order]
    kept: NDArray[np.intp] = order[np.concatenate(([True], ordered[1:] != ordered[:-1]))]
    return kept


def roll_up(values: NDArray[np.float64]) -> Rollup:
    """What is kept of a minute's values, which are in the order of time."""
    return Rollup(len(values), float(values.min()), float(values.max()), float(values.mean()), float(values[-1]))
