"""Real time that does not jump: it goes by ticks, and follows the wall clock slowly where the two disagree.

A wall clock that is set forwards by an hour would run out every clearance and soak at once; set backwards, it would
make them last as much longer. So a difference is taken in by at most one part in a hundred of the time that passes.
"""

from collections.abc import Callable
from datetime import datetime, timedelta

# At most so many seconds a second faster or slower.
FASTEST = 0.01
# From here on a difference is a jump, and said; what is less is two clocks that drift.
JUMP = timedelta(seconds=5)


class SteadyTime:
    """``wall`` is a clock that may be set; ``ticks`` counts seconds and may not. It begins at ``start``, or with the
    wall clock."""

    def __init__(self, wall: Callable[[], datetime], ticks: Callable[[], float], start: datetime | None = None) -> None:
        self._wall, self._ticks = wall, ticks
        self._at, self._tick = start or wall(), ticks()

    def now(self) -> datetime:
        """The time."""
        return self._at + timedelta(seconds=self._ticks() - self._tick)

    def follow(self) -> timedelta:
        """Goes towards the wall clock by what may be taken in of the time since the last call; returns by how much that
        is ahead (behind, if negative) still."""
        now, tick = self.now(), self._ticks()
        most = timedelta(seconds=(tick - self._tick) * FASTEST)
        ahead = self._wall() - now
        step = max(-most, min(most, ahead))
        self._at, self._tick = now + step, tick
        return ahead - step
