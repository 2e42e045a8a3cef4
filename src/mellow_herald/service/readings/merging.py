"""Putting readings together minute by minute, and letting old ones go, by whichever process has the lock."""

import asyncio
from datetime import datetime, timedelta

from sqlalchemy import text

from mellow_herald.service.context import Context
from mellow_herald.service.problems import say_trouble
from mellow_herald.service.readings.recordings import give_up
from mellow_herald.store.gate import Lock, try_take
from mellow_herald.store.readings import merging, partitions, recordings

EVERY_S, SOONEST_S = 5.0, 0.5
SWEEP_S = 3600.0


async def keep_merging(context: Context) -> None:
    """Until cancelled: puts together what has landed, and once an hour lets go of what is kept no longer."""
    swept: datetime | None = None
    while True:
        try:
            while await merge_once(context) >= merging.AT_ONCE:
                pass
            now = context.clock.now()
            if swept is None or (now - swept).total_seconds() > SWEEP_S:
                await sweep(context)
                await give_up(context)
                swept = now
        except Exception as error:
            say_trouble("readings could not be put together; trying again", error)
        await asyncio.sleep(max(SOONEST_S, EVERY_S / context.clock.scale))


async def merge_once(context: Context) -> int:
    """Puts together what has landed, so much at once; returns how many rows that were."""
    async with context.engine.begin() as connection:
        if not await try_take(connection, Lock.READINGS):
            return 0
        return await merging.merge_landed(connection, context.clock.now())


async def sweep(context: Context) -> list[str]:
    """Lets go of readings that are kept no longer: whole days, and the values of signals that are kept less long,
    and recordings. Returns the partitions that went."""
    now, settings = context.clock.now(), context.settings
    oldest = {
        "reading_chunk": now - timedelta(days=settings.readings_days),
        "reading_minute": now - timedelta(days=settings.rollups_days),
        "reading_hour": now - timedelta(days=settings.rollups_days),
    }
    gone = [name for table, at in oldest.items() for name in await partitions.drop_before(context.engine, table, at)]
    async with context.engine.begin() as connection:
        await connection.execute(
            text(
                "DELETE FROM reading_chunk USING signal WHERE signal.id = signal_id AND keep_s IS NOT NULL"
                " AND at < CAST(:now AS timestamptz) - keep_s * interval '1 second'"
            ),
            {"now": now},
        )
        await recordings.drop_before(connection, oldest["reading_chunk"])
    return gone
