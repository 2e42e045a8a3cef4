"""Baselines that bring newly admitted and returning devices to them: off until somebody switches it on, never down."""

import asyncio
from collections import Counter

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.eligibility import PassedOver, Rules
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError, say_trouble
from mellow_herald.service.rollouts.life import start
from mellow_herald.service.rollouts.planning import rules_of
from mellow_herald.store import baselines, releases
from mellow_herald.store.baselines import BaselineRelease
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.store.gate import Lock, try_take
from mellow_herald.wire.baseline import BaselineOut, BaselinePreview
from mellow_herald.wire.plan import PlanDocument

EVERY_S = 60.0  # of service time
SOONEST_S = 1.0  # of real time, where time is sped up
AT_ONCE = 50  # serials in one selector, which must stay below the parser's limit however long they are
SHOWN = 20
BASELINE = "baseline"


async def show_all(context: Context) -> list[BaselineOut]:
    """All baselines."""
    async with context.engine.connect() as connection:
        return [_shown(row) for row in await baselines.list_baselines(connection)]


async def preview(context: Context, board: str, line: str) -> BaselinePreview:
    """What a baseline would do now if it brought devices."""
    now = context.clock.now()
    async with context.engine.connect() as connection:
        row = await _row(connection, board, line)
        rules = await _rules(connection, row)
        due = await baselines.list_arriving(connection, board, line, rules, now, 1_000_000)
        others = await baselines.count_others(connection, board, line, rules, now)
    brings = [one["serial"] for one in due if one["reason"] is None]
    passed = Counter(one["reason"] for one in due if one["reason"] is not None)
    return BaselinePreview(
        **_shown(row).model_dump(),
        would_bring=len(brings),
        first=brings[:SHOWN],
        passed_over=dict(passed),
        left_alone=others,
    )


async def switch(context: Context, board: str, line: str, brings: bool, by: str, why: str) -> None:
    """Lets a baseline bring devices, or no longer."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        row = await _row(connection, board, line)
        await baselines.switch_baseline(connection, board, line, brings)
        what = "baseline brings devices" if brings else "baseline brings nobody"
        await write_journal(connection, JournalEntry(now, by, what, _name(row), why))
        await publish(connection, [FeedEvent(now, "release", data={"what": what, "name": _name(row)})])


async def keep_bringing(context: Context) -> None:
    """Brings devices until cancelled."""
    while True:
        try:
            await bring(context)
        except Exception as error:
            say_trouble("a baseline could not be brought; trying again", error)
        await asyncio.sleep(max(SOONEST_S, EVERY_S / context.clock.scale))


async def bring(context: Context) -> list[int]:
    """Starts a rollout for the devices that are due, for each baseline that brings them; returns the rollouts."""
    started = []
    async with context.engine.begin() as connection:
        if not await try_take(connection, Lock.BASELINES):
            return []
        for row in await baselines.list_baselines(connection):
            if row["brings"]:
                started += await _bring_to(context, connection, row)
    return started


async def _bring_to(context: Context, connection: AsyncConnection, row: BaselineRelease) -> list[int]:
    now = context.clock.now()
    rules = await _rules(connection, row)
    due = await baselines.list_arriving(connection, row["board"], row["line"], rules, now, AT_ONCE)
    # Whoever is in a rollout already is looked at again when that is over.
    settled = [one["id"] for one in due if one["reason"] not in (None, PassedOver.IN_OTHER_ROLLOUT)]
    brought = [one for one in due if one["reason"] is None]
    started = []
    if brought:
        serials = ", ".join(f'"{one["serial"]}"' for one in brought)
        names = brought[0]["serial"] if len(brought) == 1 else f"{len(brought)} devices"
        plan = PlanDocument.model_validate(
            {
                "name": f"baseline {row['version']}: {names}",
                "release": _name(row),
                "target": f"serial in ({serials})",
                "rings": [{"name": "arrived", "soak": "0s"}],
            }
        )
        # Should this process die in between, they are found in a rollout, and then running the baseline.
        rollout_id, _ = await start(context, plan, BASELINE, None)
        started.append(rollout_id)
    await baselines.seen_to(connection, settled + [one["id"] for one in brought])
    return started


async def _rules(connection: AsyncConnection, row: BaselineRelease) -> Rules:
    (full,) = await releases.list_releases(connection, release_id=row["release_id"])
    return rules_of(full, full["components"])


async def _row(connection: AsyncConnection, board: str, line: str) -> BaselineRelease:
    rows = await baselines.list_baselines(connection, board, line)
    if not rows:
        raise ProblemError(
            404, "not-found", f"{line} on {board} has no baseline. Make one with `herald release baseline`."
        )
    return rows[0]


def _name(row: BaselineRelease) -> str:
    return f"{row['board']}/{row['line']}/{row['version']}"


def _shown(row: BaselineRelease) -> BaselineOut:
    return BaselineOut(
        board=row["board"],
        line=row["line"],
        release=_name(row),
        brings=row["brings"],
        set_at=row["set_at"],
        set_by=row["set_by"],
    )
