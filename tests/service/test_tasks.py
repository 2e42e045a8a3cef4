"""Tasks of the process end when they are told to."""

import asyncio

from mellow_herald.service.tasks import end, woken


async def test_a_signal_in_the_moment_of_the_end_loses_nothing() -> None:
    signal = asyncio.Event()

    async def work() -> None:
        while True:
            await woken(signal, 60)
            signal.clear()

    task = asyncio.create_task(work())
    await asyncio.sleep(0.01)
    signal.set()
    await asyncio.sleep(0)
    task.cancel()
    async with asyncio.timeout(5):
        await asyncio.wait([task])
    assert task.cancelled()


async def test_a_cancellation_that_somebody_took_for_his_own_is_given_again() -> None:
    taken = 0

    async def work() -> None:
        nonlocal taken
        while True:
            try:
                await asyncio.sleep(60)
            except asyncio.CancelledError:
                taken += 1
                if taken > 1:
                    raise

    task = asyncio.create_task(work())
    await asyncio.sleep(0.01)
    async with asyncio.timeout(5):
        await end([task])
    assert task.cancelled() and taken == 2
