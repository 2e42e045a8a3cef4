"""Tasks that run as long as the process: how they wait, and how they end."""

import asyncio
from collections.abc import Iterable
from contextlib import suppress

AGAIN_SECONDS = 0.5


async def woken(signal: asyncio.Event, seconds: float) -> None:
    """Waits for a signal, at most so long.

    Not by :func:`asyncio.wait_for`: up to Python 3.11 that loses the cancellation of a task whose signal comes in the
    same moment, and the task goes on for ever.
    """
    with suppress(TimeoutError):
        async with asyncio.timeout(seconds):
            await signal.wait()


async def end(tasks: Iterable[asyncio.Task[object]]) -> None:
    """Cancels tasks until all have ended: one may be within a library that takes the cancellation for its own."""
    left = set(tasks)
    while left:
        for task in left:
            task.cancel()
        _, left = await asyncio.wait(left, timeout=AGAIN_SECONDS)
