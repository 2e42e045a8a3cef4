"""Check-ins that are held open until an order stands (``Prefer: wait``, RFC 7240).

A held call costs a future and nothing else. When the feed says that orders may have changed, one query finds out which
of the waiting devices have something live; only they are asked about again.
"""

import asyncio
from collections.abc import Iterator
from contextlib import contextmanager

from sqlalchemy.ext.asyncio import AsyncEngine

from mellow_herald.store.attempts import live_elsewhere

LONGEST_S = 60
SLICE = 10_000


def preferred_wait(header: str) -> int:
    """The seconds a ``Prefer`` header asks to wait, at most a minute; 0 if it does not."""
    for part in header.lower().split(","):
        name, _, value = part.partition(";")[0].partition("=")
        if name.strip() == "wait" and value.strip().isdigit():
            return min(int(value.strip()[:6]), LONGEST_S)
    return 0


class Waiting:
    """The devices whose call is held open in this process."""

    def __init__(self) -> None:
        self._words: dict[int, asyncio.Event] = {}
        self._superseded: set[asyncio.Event] = set()
        self._over = False

    @property
    def count(self) -> int:
        """How many calls are held open."""
        return len(self._words)

    @contextmanager
    def expect(self, device_id: int) -> Iterator[asyncio.Event]:
        """An event that is set when an order may stand. A device's newer call lets its older one go."""
        self.let_go(device_id)
        word = self._words[device_id] = asyncio.Event()
        if self._over:
            self._let_go(word)
        try:
            yield word
        finally:
            if self._words.get(device_id) is word:
                del self._words[device_id]
            self._superseded.discard(word)

    def let_go(self, device_id: int) -> None:
        """Ends the wait of a device's older call, for it has made a newer one."""
        older = self._words.get(device_id)
        if older is not None:
            self._let_go(older)

    def superseded(self, word: asyncio.Event) -> bool:
        """Whether a newer call of the device took the place of the one that holds ``word``."""
        return word in self._superseded

    async def wake(self, engine: AsyncEngine) -> None:
        """Wakes the devices that have a live attempt."""
        waiting = sorted(self._words)
        for at in range(0, len(waiting), SLICE):
            async with engine.connect() as connection:
                found = await live_elsewhere(connection, waiting[at : at + SLICE])
            for device_id in found:
                if device_id in self._words:
                    self._words[device_id].set()

    def stop(self) -> None:
        """Lets all of them go, and holds nobody any more."""
        self._over = True
        for word in self._words.values():
            self._let_go(word)

    def _let_go(self, word: asyncio.Event) -> None:
        self._superseded.add(word)
        word.set()
