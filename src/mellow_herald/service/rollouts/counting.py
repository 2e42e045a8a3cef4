"""The counts that are kept as attempts move: folded, and held against the attempts themselves."""

import asyncio
import time

from mellow_herald.service.context import Context
from mellow_herald.service.problems import say_trouble
from mellow_herald.store import tallies
from mellow_herald.store.feed import JournalEntry, write_journal

FOLD_SECONDS, AUDIT_SECONDS = 10.0, 3600.0


async def keep_counting(context: Context) -> None:
    """Folds what was added up, and once an hour counts everything anew, until cancelled."""
    audited = time.monotonic()
    while True:
        await asyncio.sleep(FOLD_SECONDS)
        try:
            await tallies.fold(context.engine)
            if time.monotonic() - audited > AUDIT_SECONDS:
                audited = time.monotonic()
                await audit(context)
        except Exception as error:
            say_trouble("the counts of attempts could not be looked after; trying again", error)


async def audit(context: Context) -> set[int]:
    """Holds the counts of all rollouts against their attempts; those that did not agree are put right, named in the
    journal, and returned."""
    amiss = await tallies.mend(context.engine)
    if amiss:
        names = ", ".join(f"rollout {rollout_id}" for rollout_id in sorted(amiss))
        why = "what was added up as attempts moved was not what there is; it was counted anew. Tell the developers."
        async with context.engine.begin() as connection:
            await write_journal(
                connection, JournalEntry(context.clock.now(), "service", "counts put right", names, why)
            )
    return amiss
