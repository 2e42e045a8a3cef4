"""What one service process holds: handed to every part, made once at start."""

import asyncio
from collections.abc import Awaitable, Callable, Hashable
from dataclasses import dataclass, field, replace
from typing import TypeVar

from fastapi import Request
from sqlalchemy.ext.asyncio import AsyncEngine

from mellow_herald.core import limits
from mellow_herald.service.calls.memory import Memory
from mellow_herald.service.clock import Clock
from mellow_herald.service.figures import Figures
from mellow_herald.service.kept import Kept
from mellow_herald.service.readings.wishes import Wishes
from mellow_herald.service.settings import Settings
from mellow_herald.service.signals import Signals
from mellow_herald.service.waiting import Waiting
from mellow_herald.store.database import Pools
from mellow_herald.store.images import ImageStore

# Each takes two connections and, over a large fleet, seconds of the processor. Devices need theirs.
PREVIEWS_AT_ONCE = 4
Answer = TypeVar("Answer")


@dataclass
class Context:
    """The shared parts of a service process. ``engine`` is the pool that this kind of caller uses. ``unhealthy`` names
    images whose bytes are not what they should be; ``previews`` are waited for, so many of them may go on at once.
    ``wishes`` is what devices are asked to send as readings, ``rehearsals`` the processes that rehearse plans."""

    settings: Settings
    engine: AsyncEngine
    clock: Clock
    images: ImageStore
    memory: Memory
    signals: Signals
    pools: Pools
    waiting: Waiting = field(default_factory=Waiting)
    figures: Figures = field(default_factory=Figures)
    kept: Kept = field(default_factory=Kept)
    wishes: Wishes = field(default_factory=Wishes)
    unhealthy: set[str] = field(default_factory=set)
    rehearsals: "set[asyncio.Task[None]]" = field(default_factory=set)
    previews: asyncio.Semaphore = field(default_factory=lambda: asyncio.Semaphore(PREVIEWS_AT_ONCE))

    async def counted(self, question: Hashable, count: Callable[[], Awaitable[Answer]]) -> Answer:
        """What was counted over all devices. In a large fleet, where that is costly, it is kept for a while; in a small
        one whoever has done something sees it at once."""
        if len(self.memory.generations) < limits.LARGE:
            return await count()
        return await self.kept.get(question, count)

    def let_go(self) -> None:
        """Ends what is held open for people and devices: this process stops."""
        self.signals.stop()
        self.waiting.stop()
        for rehearsal in self.rehearsals:
            rehearsal.cancel()

    def through(self, engine: AsyncEngine) -> "Context":
        """The same for another kind of caller, which has connections of its own."""
        return replace(self, engine=engine)


def context_of(request: Request) -> Context:
    """The context of the process that serves this request."""
    context: Context = request.app.state.context
    return context
