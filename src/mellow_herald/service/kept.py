"""What is costly to count is counted once for all who ask within a while."""

import asyncio
import time
from collections.abc import Awaitable, Callable, Hashable
from dataclasses import dataclass
from math import inf
from typing import Any, TypeVar

Value = TypeVar("Value")
# An answer is good for so many times as long as it took to find, and never for longer than this (real seconds).
TIMES, MOST_S = 20, 10.0
# So many different questions are kept at most.
MOST = 100


@dataclass(frozen=True, slots=True)
class _Counted:
    value: Any
    until: float


class Kept:
    """The answers of one process, by what was asked."""

    def __init__(self) -> None:
        self._counted: dict[Hashable, _Counted] = {}
        self._counting: dict[Hashable, asyncio.Task[Any]] = {}

    async def get(self, question: Hashable, count: Callable[[], Awaitable[Value]], *, for_good: bool = False) -> Value:
        """The answer to a question: one that was found at most ``MOST_S`` ago, or at any time where it is good ``for
        good``; or else a new one. Who asks while somebody counts waits for the same count."""
        before = self._counted.get(question)
        if before is not None and time.monotonic() < before.until:
            return before.value  # type: ignore[no-any-return]
        counting = self._counting.get(question)
        if counting is None:
            counting = self._counting[question] = asyncio.create_task(self._count(question, count, for_good))
            counting.add_done_callback(lambda _: self._counting.pop(question, None))
        # Whoever asked first may hang up; the others go on waiting.
        return await asyncio.shield(counting)

    async def _count(self, question: Hashable, count: Callable[[], Awaitable[Any]], for_good: bool) -> Any:
        began = time.monotonic()
        value = await count()
        ended = time.monotonic()
        if len(self._counted) >= MOST:
            self._counted.clear()
        good_for = inf if for_good else min(MOST_S, (ended - began) * TIMES)
        self._counted[question] = _Counted(value, ended + good_for)
        return value
