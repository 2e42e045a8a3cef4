"""An event loop whose clock jumps to whatever is due next: hours pass in a moment, and always in the same order."""

import asyncio
import heapq
from typing import Any


class VirtualLoop(asyncio.SelectorEventLoop):
    """Starts at second 0."""

    def __init__(self) -> None:
        super().__init__()
        self._virtual = 0.0

    def time(self) -> float:
        """Virtual seconds."""
        return self._virtual

    def _run_once(self) -> None:
        timers: list[Any] = self._scheduled  # type: ignore[attr-defined]
        while timers and timers[0]._cancelled:
            self._timer_cancelled_count -= 1  # type: ignore[attr-defined]
            heapq.heappop(timers)._scheduled = False
        if not self._ready and timers:  # type: ignore[attr-defined]
            self._virtual = max(self._virtual, timers[0]._when)
        super()._run_once()  # type: ignore[misc]

    def pass_time(self, seconds: float) -> None:
        """Lets so many seconds pass."""
        self.run_until_complete(asyncio.sleep(seconds))
