"""What the parts of a process tell each other, and whoever follows the feed."""

import asyncio
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

SUBSCRIBER_BACKLOG = 10_000


class Signals:
    """Wake-ups for those who move rollouts on and halt them, and queues for those who follow the feed."""

    def __init__(self) -> None:
        self.conductor = asyncio.Event()
        self.begun = asyncio.Event()
        self.harm = asyncio.Event()
        self._harmed: set[int] = set()
        self.stopping = asyncio.Event()
        self._followers: set[asyncio.Queue[Any]] = set()

    def spread(self, events: list[Any]) -> None:
        """Hands sealed events to all followers; one that cannot keep up is told to read the store again."""
        for queue in self._followers:
            for event in events:
                if queue.qsize() >= SUBSCRIBER_BACKLOG:
                    while not queue.empty():
                        queue.get_nowait()
                    queue.put_nowait(None)
                    break
                queue.put_nowait(event)

    def begin(self) -> None:
        """Somebody waits for a ring to open: the conductor is not to rest."""
        self.begun.set()
        self.conductor.set()

    def note_harm(self, rollouts: set[int]) -> None:
        """Devices of these rollouts have gone bad just now."""
        if rollouts:
            self._harmed |= rollouts
            self.harm.set()

    def take_harmed(self) -> set[int]:
        """The rollouts in which devices have gone bad since this was asked last."""
        taken, self._harmed = self._harmed, set()
        self.harm.clear()
        return taken

    def stop(self) -> None:
        """Lets all followers go."""
        self.stopping.set()
        for queue in self._followers:
            queue.put_nowait(None)

    @contextmanager
    def follow(self) -> Iterator[asyncio.Queue[Any]]:
        """A queue of sealed events from now on; None in it means: read the store again, then go on."""
        queue: asyncio.Queue[Any] = asyncio.Queue()
        self._followers.add(queue)
        try:
            yield queue
        finally:
            self._followers.discard(queue)

    @property
    def followers(self) -> int:
        """How many follow the feed in this process."""
        return len(self._followers)
