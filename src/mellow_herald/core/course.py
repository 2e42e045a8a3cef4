"""States of a rollout over time, from the moves between them."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime

from mellow_herald.core.attempt import State


@dataclass(frozen=True, slots=True)
class Move:
    """So many devices left ``left`` (None: they were queued, unless ``first`` says that they only begin) for
    ``state``."""

    at: datetime
    left: State | None
    state: State
    devices: int
    first: bool = False


def course(moves: Iterable[Move], end: datetime) -> list[tuple[datetime, dict[State, int]]]:
    """Counts by state after each time at which something moved, and at ``end``; states without devices are left out."""
    counts: dict[State, int] = {}
    points: list[tuple[datetime, dict[State, int]]] = []
    # Who begins and moves on within one step must be there before it can leave.
    for move in sorted(moves, key=lambda m: (m.at, not m.first)):
        if not move.first:
            left = move.left or State.QUEUED
            counts[left] = counts.get(left, 0) - move.devices
        counts[move.state] = counts.get(move.state, 0) + move.devices
        shown = {state: n for state, n in counts.items() if n > 0}
        if points and points[-1][0] == move.at:
            points[-1] = (move.at, shown)
        else:
            points.append((move.at, shown))
    if points and points[-1][0] < end:
        points.append((end, points[-1][1]))
    return points


def stacked(points: Sequence[tuple[datetime, dict[State, int]]], order: Sequence[State]) -> list[list[int]]:
    """For a chart of areas: at every point the running sums of the states in ``order``."""
    sums = []
    for _, counts in points:
        total, row = 0, [0]
        for state in order:
            total += counts.get(state, 0)
            row.append(total)
        sums.append(row)
    return sums
