"""Room for so many at once, and for so many more to wait for it; the others are told when to come again."""

import asyncio
import time
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from math import ceil
from random import uniform

from mellow_herald.service.problems import ProblemError

# Seconds; how many a second are served is a guess until it was seen.
SOONEST_S, LATEST_S = 2.0, 180.0
GUESS, SLOWEST = 100.0, 20.0
# Somewhat more are told to come than were served, so that there is always somebody inside.
EAGER = 1.25


class Turns:
    """When those are to come again for whom there is no room: one after the other, as fast as others were served of
    late. Told to come at any time, so many would come back so soon that sending them away is all there is time for."""

    def __init__(self, now: Callable[[], float] = time.monotonic) -> None:
        self._now, self._next, self._rate = now, now(), GUESS
        self._since, self._served = now(), 0

    def served(self, count: int, *, waiting: bool) -> None:
        """So many were served. It counts while others are ``waiting`` inside: how fast it could go is not seen
        otherwise."""
        now = self._now()
        if not waiting:
            self._since, self._served = now, 0
            return
        self._served += count
        if now - self._since >= 1:
            self._rate = max(SLOWEST, (self._rate + self._served / (now - self._since)) / 2)
            self._since, self._served = now, 0

    def later(self) -> ProblemError:
        """What the next is told for whom there is no room."""
        now = self._now()
        self._next = min(now + LATEST_S, max(now + SOONEST_S, self._next) + 1 / self._rate / EAGER)
        # Nobody is sent away for longer; of those whose turn is later not all come in the same moment.
        ahead = self._next - now if self._next < now + LATEST_S else uniform(LATEST_S / 2, LATEST_S)
        wait = str(ceil(ahead + uniform(0, 1)))
        return ProblemError(503, "busy", f"Too many call at once; try again in {wait} s.", {"Retry-After": wait})


class Room:
    """What takes a connection of the database, where many may want it in the same moment."""

    def __init__(self, at_once: int, queue: int) -> None:
        self._places, self._queue, self._inside = asyncio.Semaphore(at_once), at_once + queue, 0
        self._turns = Turns()

    @asynccontextmanager
    async def place(self) -> AsyncIterator[None]:
        """A place, as soon as there is one; a 503 problem if too many wait for one already."""
        if self._inside >= self._queue:
            raise self._turns.later()
        self._inside += 1
        try:
            async with self._places:
                yield
        finally:
            self._inside -= 1
            self._turns.served(1, waiting=self._places.locked())
