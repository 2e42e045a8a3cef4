"""Room for so many at once, and for so many more to wait for it."""

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from random import uniform

from mellow_herald.service.problems import ProblemError

# Who is sent away comes back after so many seconds, not all in the same moment.
SOONEST_S, LATEST_S = 2, 15


class Room:
    """What takes a connection of the database, where many may want it in the same moment."""

    def __init__(self, at_once: int, queue: int) -> None:
        self._places, self._queue, self._inside = asyncio.Semaphore(at_once), at_once + queue, 0

    @asynccontextmanager
    async def place(self) -> AsyncIterator[None]:
        """A place, as soon as there is one; a 503 problem if too many wait for one already."""
        if self._inside >= self._queue:
            wait = str(round(uniform(SOONEST_S, LATEST_S)))
            raise ProblemError(503, "busy", f"Too many call at once; try again in {wait} s.", {"Retry-After": wait})
        self._inside += 1
        try:
            async with self._places:
                yield
        finally:
            self._inside -= 1
