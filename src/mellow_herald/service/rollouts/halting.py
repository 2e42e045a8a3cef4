"""Halting at once what a bad report has tipped, whatever the conductor is busy with, and what no good key signed.

The conductor would halt it as well, on its next look; but a look at everything takes its time, and the opening of a
large ring takes many seconds.
"""

import asyncio

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.decide import Halt, halt_due
from mellow_herald.core.key_status import KeyStatus
from mellow_herald.core.keys import KeyList
from mellow_herald.core.rollout import RolloutState
from mellow_herald.service.context import Context
from mellow_herald.service.problems import say_trouble
from mellow_herald.service.releases.offering import release_name
from mellow_herald.service.rollouts.brakes import read_brakes
from mellow_herald.service.rollouts.life import halt_within
from mellow_herald.service.rollouts.planning import plan_of
from mellow_herald.store import brakes, releases, rollouts
from mellow_herald.store.gate import close_gate

CONDUCTOR = "conductor"
SHORTEST_LOOK = 0.05
STOPPABLE = frozenset({RolloutState.RUNNING, RolloutState.HELD})


async def keep_halting(context: Context) -> None:
    """Works until cancelled."""
    signals = context.signals
    while True:
        await signals.harm.wait()
        for rollout_id in sorted(signals.take_harmed()):
            try:
                await halt_if_due(context, rollout_id)
            except Exception as error:
                say_trouble("the brakes could not be read; the conductor will", error, rollout=rollout_id)
                signals.conductor.set()
        await asyncio.sleep(SHORTEST_LOOK)  # many may go bad at once, and one look sees them all


async def halt_if_due(context: Context, rollout_id: int) -> bool:
    """Halts a rollout if its brakes say so; tells whether it did."""
    async with context.engine.connect() as connection:
        if await _due(connection, rollout_id) is None:
            return False
    async with context.engine.begin() as connection:
        # Again under the gate: a person may have halted and resumed it meanwhile, and a new round counts anew.
        await close_gate(connection, rollout_id)
        due = await _due(connection, rollout_id)
        if due is None or not await halt_within(connection, context, rollout_id, CONDUCTOR, due.why):
            return False
    context.memory.epoch += 1  # this process at once, the others by the feed
    context.signals.conductor.set()
    return True


async def _due(connection: AsyncConnection, rollout_id: int) -> Halt | None:
    (row,) = await rollouts.list_rollouts(connection, rollout_id=rollout_id)
    bad = await brakes.count_bad(connection, rollout_id, row["round_at"])
    if row["state"] not in STOPPABLE or not bad:
        return None
    plan = plan_of(row)
    return halt_due(plan, await read_brakes(connection, row, plan), bad)


async def halt_untrusted(connection: AsyncConnection, context: Context, trusted_now: KeyList, by: str) -> list[int]:
    """Halts the running rollouts of everything that no good key of a list signed; returns their ids.

    The caller holds ``Lock.KEYS``. A key that is revoked, or not on the list at all, is no good key.
    """
    good = [key.fingerprint for key in trusted_now.keys if key.status is not KeyStatus.REVOKED]
    signed = {row["id"]: row for row in await releases.signed_by_others(connection, good)}
    halted = []
    for one in await releases.live_rollouts_of(connection, signed):
        row = signed[one["release_id"]]
        why = "was revoked" if trusted_now.find(row["kid"]) else f"is not on key list {trusted_now.number}"
        reason = f"{release_name(row)} is signed by key {row['kid']}, which {why}"
        if await halt_within(connection, context, one["id"], by, reason):
            halted.append(one["id"])
    return halted
