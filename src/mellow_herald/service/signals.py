"""What the parts of a process tell each other, and whoever follows the feed."""

import asyncio
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

SUBSCRIBER_BACKLOG = 10_000
# In a follower's queue: readings have come.
READINGS = object()


@dataclass(eq=False, slots=True)
class Follower:
    """Somebody who follows the feed: by which credential, with which roles then, and whether they may no longer.
    ``readings``: they want to hear when some have come, and ``told`` that they have not taken that in yet."""

    credential_id: int
    roles: frozenset[str]
    readings: bool = False
    queue: asyncio.Queue[Any] = field(default_factory=asyncio.Queue)
    ended: bool = False
    told: bool = False

    def end(self) -> None:
        """Lets them go."""
        self.ended = True
        self.queue.put_nowait(None)


class Signals:
    """Wake-ups for those who move rollouts on and halt them, and queues for those who follow the feed."""

    def __init__(self) -> None:
        self.conductor = asyncio.Event()
        self.moved: set[int] = set()
        self.begun = asyncio.Event()
        self.harm = asyncio.Event()
        self._harmed: set[int] = set()
        self.stopping = asyncio.Event()
        self._followers: set[Follower] = set()

    def spread(self, events: list[Any]) -> None:
        """Hands sealed events to all followers; one that cannot keep up is told to read the store again."""
        for follower in self._followers:
            queue = follower.queue
            for event in events:
                if queue.qsize() >= SUBSCRIBER_BACKLOG:
                    while not queue.empty():
                        queue.get_nowait()
                    follower.told = False
                    queue.put_nowait(None)
                    break
                queue.put_nowait(event)

    def spread_readings(self) -> None:
        """Tells followers who want to know that readings have come."""
        for follower in self._followers:
            if follower.readings and not follower.told:
                follower.told = True
                follower.queue.put_nowait(READINGS)

    def begin(self) -> None:
        """Somebody waits for a ring to open: the conductor is not to rest."""
        self.begun.set()
        self.conductor.set()

    def take_moved(self) -> set[int]:
        """The rollouts in which something has happened since this was asked last."""
        taken, self.moved = self.moved, set()
        return taken

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
        for follower in self._followers:
            follower.queue.put_nowait(None)

    @contextmanager
    def follow(self, credential_id: int, roles: frozenset[str], *, readings: bool = False) -> Iterator[Follower]:
        """A queue of sealed events from now on; None in it means: read the store again, then go on. With ``readings``
        ``READINGS`` is in it whenever some have come."""
        follower = Follower(credential_id, roles, readings)
        self._followers.add(follower)
        try:
            yield follower
        finally:
            self._followers.discard(follower)

    def check(self, roles: Mapping[int, frozenset[str]]) -> None:
        """Lets those go whose credential no longer stands for the roles that it had; ``roles`` are what credentials
        stand for now, none if they are good no more."""
        for follower in self._followers:
            if roles.get(follower.credential_id, follower.roles) != follower.roles and not follower.ended:
                follower.end()

    @property
    def credentials(self) -> set[int]:
        """The credentials by which the feed is followed."""
        return {follower.credential_id for follower in self._followers}

    @property
    def followers(self) -> int:
        """How many follow the feed in this process."""
        return len(self._followers)

    @property
    def hearing(self) -> bool:
        """Whether anybody here wants to know of readings."""
        return any(follower.readings for follower in self._followers)
