"""Notes how many devices run which version whenever that has changed, so that a line's past can be drawn."""

import asyncio

from mellow_herald.core.version import parse_version
from mellow_herald.service.context import Context
from mellow_herald.service.problems import say_trouble
from mellow_herald.store import lineage
from mellow_herald.store.gate import Lock, try_take
from mellow_herald.wire.release import LineageOut

EVERY_S = 60.0  # of service time
SOONEST_S = 3.0  # of real time, where time is sped up


async def keep_sampling(context: Context) -> None:
    """Samples until cancelled."""
    while True:
        try:
            await sample(context)
        except Exception as error:
            say_trouble("the lineage could not be sampled; trying again", error)
        await asyncio.sleep(max(SOONEST_S, EVERY_S / context.clock.scale))


async def sample(context: Context) -> int:
    """Adds a sample of every line and board whose counts changed; returns how many. One process does it for all."""
    added = 0
    async with context.engine.begin() as connection:
        if not await try_take(connection, Lock.LINEAGE):
            return 0
        now, before = context.clock.now(), await lineage.newest_samples(connection)
        counts = await lineage.count_now(connection)
        for board, line in counts.keys() | before.keys():
            found = counts.get((board, line), {})
            if found != before.get((board, line), {}):
                await lineage.add_sample(connection, board, line, now, found)
                added += 1
        present, present_before = await lineage.presence_now(connection, now), await lineage.newest_presence(connection)
        for board in present.keys() | present_before.keys():
            if present.get(board, {}) != present_before.get(board, {}):
                await lineage.add_presence(connection, board, now, present.get(board, {}))
                added += 1
    return added


async def show(context: Context, board: str, line: str) -> LineageOut:
    """A line's versions over time on one board, up to the last sample (a minute ago at most)."""
    async with context.engine.connect() as connection:
        samples = await lineage.list_samples(connection, board, line, None)
        crossings = await lineage.rollouts_of_line(connection, board, line)
    names = {name for row in samples for name in row["counts"]}
    words = {lineage.UNKNOWN_BUILD, lineage.BENCH_BUILD, lineage.NOTHING_KNOWN}
    versions = [*sorted(names & words), *sorted(names - words, key=parse_version)]
    known = {"board": board, "line": line, "now": context.clock.now(), "versions": versions}
    return LineageOut.model_validate({**known, "samples": samples, "crossings": crossings})
