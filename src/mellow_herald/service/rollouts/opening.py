"""Rings open in the same breath in which somebody lets them: a device that calls just then is not to wait for its next
call, and nobody is to wonder why it got nothing."""

import asyncio
import time

from mellow_herald.core.plan import Opens
from mellow_herald.core.rollout import RingState, RolloutState
from mellow_herald.core.say import Asks
from mellow_herald.service.context import Context
from mellow_herald.service.rollouts.people_say import load_say
from mellow_herald.service.rollouts.planning import plan_of
from mellow_herald.store import rollouts

# A ring of hundreds of thousands takes longer; whoever asked for it is answered before it is done.
OPENS_WITHIN = 5.0
LOOK_EVERY = 0.02


async def open_at_once(context: Context, rollout_id: int) -> None:
    """Has the conductor look at a rollout now, and waits until the ring whose turn it is has opened; not for one that
    waits for somebody's go or for its time."""
    context.signals.begin()
    deadline = time.monotonic() + OPENS_WITHIN
    # Looked up and not told: another process may be the one that opens it.
    while time.monotonic() < deadline and await _is_to_open(context, rollout_id):  # noqa: ASYNC110
        await asyncio.sleep(LOOK_EVERY)
    context.memory.epoch += 1  # who had nothing to do may have something now


async def _is_to_open(context: Context, rollout_id: int) -> bool:
    async with context.engine.connect() as connection:
        (row,) = await rollouts.list_rollouts(connection, rollout_id=rollout_id)
        rings = (await rollouts.list_rings(connection, [rollout_id]))[rollout_id]
        plan, now = plan_of(row), context.clock.now()
        said = await load_say(connection, row, plan, rings)
    turn = next((ring for ring in rings if ring["state"] != RingState.DONE), None)
    if row["state"] != RolloutState.RUNNING or turn is None:
        return False
    if turn["state"] == RingState.AWAITING_GO and turn["asks"] in (None, Asks.GO):
        return turn["go_at"] is not None
    if turn["state"] == RingState.AWAITING_GO:
        by_hand = plan.rings[turn["position"]].opens is Opens.BY_HAND and turn["go_at"] is None
        return not by_hand and said.still_asks(turn["position"], plan.approval) is None
    not_before = plan.rings[turn["position"]].not_before
    return turn["state"] == RingState.CLOSED and (not_before is None or not_before <= now)
