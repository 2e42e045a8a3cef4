"""What is costly to count is counted once for all who ask within a while."""

import asyncio
import time
from collections.abc import Awaitable, Callable, Hashable
from dataclasses import dataclass
from typing import Any, TypeVar

Value = TypeVar("Value")
# What takes less is counted anew for everybody: who has just done something looks whether it shows.
CHEAP_S = 0.1
# A count is good for so many times as long as it took, and never for longer than this.
TIMES, MOST_S = 20, 10.0
# So many different questions are kept at most.
MOST = 100


@dataclass(frozen=True, slots=True)
class _Counted:
    value: Any
    took: float
    until: float


class Kept:
    """The answers of one process, by what was asked."""

    def __init__(self) -> None:
        self._counted: dict[Hashable, _Counted] = {}
        self._counting: dict[Hashable, asyncio.Task[_Counted]] = {}

    async def get(self, question: Hashable, count: Callable[[], Awaitable[Value]]) -> Value:
        """The answer to a question: one that was counted at most ``MOST_S`` (real seconds) ago, or a new one."""
        before = self._counted.get(question)
        if before is not None and time.monotonic() < before.until:
            return before.value  # type: ignore[no-any-return]
        if before is None or before.took < CHEAP_S:
            return (await self._count(question, count)).value  # type: ignore[no-any-return]
        counting = self._counting.get(question)
        if counting is None:
            counting = self._counting[question] = asyncio.create_task(self._count(question, count))
            counting.add_done_callback(lambda _: self._counting.pop(question, None))
        # Whoever asked first may hang up; the others go on waiting.
        return (await asyncio.shield(counting)).value  # type: ignore[no-any-return]

    async def _count(self, question: Hashable, count: Callable[[], Awaitable[Any]]) -> _Counted:
        began = time.monotonic()
        value = await count()
        ended = time.monotonic()
        took = ended - began
        good_for = min(MOST_S, took * TIMES) if took >= CHEAP_S else 0.0
        if len(self._counted) >= MOST:
            self._counted.clear()
        counted = self._counted[question] = _Counted(value, took, ended + good_for)
        return counted
