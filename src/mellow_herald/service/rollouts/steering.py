"""What engineers do with a rollout that runs: let a ring open, change what is to come, see to single devices."""

from collections.abc import Sequence
from datetime import datetime

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import RETRIED, CallOff, OneMore, Refusal, advance
from mellow_herald.core.rollout import ENDED, RingState, RolloutState
from mellow_herald.core.say import Asks
from mellow_herald.core.selector import parse_selector
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.rollouts import comparing
from mellow_herald.service.rollouts.budget import stands
from mellow_herald.service.rollouts.ending import apply_to, go_on_without
from mellow_herald.service.rollouts.opening import open_at_once
from mellow_herald.service.rollouts.people_say import load_say
from mellow_herald.service.rollouts.planning import add_exception, plan_of
from mellow_herald.service.rollouts.record import record_decision, renew_orders, stored_rollout
from mellow_herald.store import attempts, rollouts
from mellow_herald.store.feed import JournalEntry, write_journal
from mellow_herald.store.gate import Lock, close_gate, take
from mellow_herald.store.rollouts import RolloutOfRelease
from mellow_herald.store.rows import StoredAttempt, StoredRing
from mellow_herald.wire.rollout import GoIn, LeaveOutIn, RetryIn

MOST_AT_ONCE = 1_000_000


async def go(context: Context, rollout_id: int, asked: GoIn, by: str) -> None:
    """Lets the ring open that awaits go, or the ring go on that stands still."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        await take(connection, Lock.CONDUCTOR, rollout_id)
        row = await stored_rollout(connection, rollout_id)
        rings = (await rollouts.list_rings(connection, [rollout_id]))[rollout_id]
        runs = row["state"] == RolloutState.RUNNING
        waiting = [r for r in rings if r["state"] == RingState.AWAITING_GO or (runs and _stands_still(r))]
        ring = next((one for one in waiting if asked.ring in (None, one["position"])), None)
        if ring is None or row["state"] in ENDED:
            asks = f"ring {waiting[0]['position'] + 1} does" if waiting else "none does"
            raise ProblemError(
                409, "nothing-awaits-go", f"That ring of rollout {rollout_id} does not await go; {asks}."
            )
        position = ring["position"]
        if ring["state"] == RingState.AWAITING_GO:
            await _people_have_spoken(connection, row, rings, position)
            what, data = f"go for ring {position + 1}", {}
            await rollouts.move_ring(connection, rollout_id, position, RingState.AWAITING_GO, go_at=now)
        else:
            await _budget_is_left(connection, row, now)
            what = f"ring {position + 1} goes on all the same"
            bad = await rollouts.count_bad_in_ring(connection, rollout_id, position, row["round_at"])
            # It holds for what was seen: once another device goes bad, somebody must look again.
            data = {"shown": ring["stands_why"], "round": row["round"], "bad": bad}
            await rollouts.change_ring(
                connection, rollout_id, position, anyway_bad=bad, anyway_round=row["round"], stands_why=None
            )
        await record_decision(connection, rollout_id, what, by, asked.reason, now, data)
        await renew_orders(connection, rollout_id, what, now)
    await open_at_once(context, rollout_id)


async def _people_have_spoken(
    connection: AsyncConnection, row: RolloutOfRelease, rings: Sequence[StoredRing], position: int
) -> None:
    """A problem where a ring asks for more than a go."""
    plan, rollout_id = plan_of(row), row["id"]
    asks = (await load_say(connection, row, plan, rings)).still_asks(position, plan.approval)
    if asks is None:
        return
    what, why = asks
    how = {Asks.APPROVAL: "approve", Asks.EVIDENCE: "evidence list", Asks.CHOICE: "compare"}[what]
    raise ProblemError(
        409, f"needs-{what}", f"A go is not enough for that ring: {why}. See `herald rollout {how} {rollout_id}`."
    )


async def _budget_is_left(connection: AsyncConnection, row: RolloutOfRelease, now: datetime) -> None:
    """A problem where a ring stands still because nobody may be hurt any more: a go would change nothing."""
    budget = await stands(connection, row, 0, now)
    if budget is not None and budget.used_up:
        raise ProblemError(
            409,
            "harm-budget-used-up",
            f"The harm budget of rollout {row['id']} is used up: {budget.hurt} of at most {budget.at_most} were hurt. "
            f"Allow more with `herald rollout edit {row['id']} --harm-at-most N`, halt it, or cancel it.",
        )


def _stands_still(ring: StoredRing) -> bool:
    return ring["state"] in (RingState.OPEN, RingState.SOAKING) and ring["stands_why"] is not None


async def call_off(context: Context, attempt_id: int, by: str, why: str) -> None:
    """Stops one device's attempt before it switches."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        row = await _attempt(connection, attempt_id)
        if not await apply_to(connection, [row], CallOff("by-hand"), now, why):
            raise ProblemError(
                409, "too-late", f"The attempt is {row['state']}: only what has no clearance yet can be called off."
            )
        await _record_of_device(connection, row, "attempt called off", by, why, now)
    context.memory.epoch += 1


async def retry(context: Context, attempt_id: int, by: str, why: str) -> None:
    """Gives one device one more try."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        row = await _attempt(connection, attempt_id)
        rollout = await stored_rollout(connection, row["rollout_id"])
        if row["left_out"]:
            raise ProblemError(
                409,
                "left-out",
                "The rollout goes on without this device (--except, or leave-out); it is not tried again.",
            )
        if rollout["state"] not in (RolloutState.RUNNING, RolloutState.HELD):
            raise ProblemError(
                409, "wrong-state", f"Rollout {rollout['id']} is {rollout['state']}: it tries nothing more."
            )
        if not row["live"] and await attempts.live_elsewhere(connection, [row["device_id"]]):
            raise ProblemError(409, "in-other-rollout", "The device is in another rollout by now.")
        if not comparing.brings_the_chosen(rollout, row):
            raise ProblemError(
                409, "not-chosen", "The device got the release that was not chosen; it is not tried again."
            )
        outcome = advance(attempts.to_attempt(row), OneMore(), now)
        if isinstance(outcome, Refusal):
            raise ProblemError(
                409, "nothing-to-retry", f"The attempt is {row['state']}: there is nothing to try again."
            )
        await apply_to(connection, [row], OneMore(), now, why)
        await _record_of_device(connection, row, "attempt tried again", by, why, now)
        await renew_orders(connection, row["rollout_id"], "retry", now)
    context.memory.epoch += 1


async def retry_bad(context: Context, rollout_id: int, asked: RetryIn, by: str) -> None:
    """Gives all bad devices of a ring (or of all rings) one more try, but for those that were left out or are in
    another rollout by now."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        row = await stored_rollout(connection, rollout_id)
        if row["state"] not in (RolloutState.RUNNING, RolloutState.HELD):
            raise ProblemError(409, "wrong-state", f"Rollout {rollout_id} is {row['state']}: it tries nothing more.")
        rows = await attempts.lock_slice(connection, rollout_id, RETRIED, MOST_AT_ONCE)
        elsewhere = await attempts.live_elsewhere(connection, [one["device_id"] for one in rows if not one["live"]])
        again = [
            one
            for one in rows
            if asked.ring in (None, one["ring"])
            and not one["left_out"]
            and one["device_id"] not in elsewhere
            and comparing.brings_the_chosen(row, one)
        ]
        if not again:
            raise ProblemError(
                409, "nothing-to-retry", f"No bad device of rollout {rollout_id} can be tried again. See its failures."
            )
        await apply_to(connection, again, OneMore(), now, asked.reason)
        data = {"devices": len(again), "ring": None if asked.ring is None else asked.ring + 1}
        await rollouts.look_again(connection, rollout_id)
        await record_decision(connection, rollout_id, "bad devices tried again", by, asked.reason, now, data)
        await renew_orders(connection, rollout_id, "retry", now)
    context.memory.epoch += 1
    context.signals.conductor.set()


async def leave_out(context: Context, rollout_id: int, asked: LeaveOutIn, by: str) -> None:
    """Goes on without some devices: they hold no ring, are not tried again, and what they had not switched to is called
    off. With a selector, rings that open later go without them too."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        await take(connection, Lock.CONDUCTOR, rollout_id)
        await close_gate(connection, rollout_id)
        row = await stored_rollout(connection, rollout_id)
        if row["state"] not in (RolloutState.RUNNING, RolloutState.HELD):
            hint = "; resume it with --except" if row["state"] == RolloutState.HALTED else ""
            raise ProblemError(409, "wrong-state", f"Rollout {rollout_id} is {row['state']}{hint}.")
        if asked.where is None:
            rings = (await rollouts.list_rings(connection, [rollout_id]))[rollout_id]
            ring = next((one for one in rings if _stands_still(one)), None)
            if ring is None:
                raise ProblemError(
                    409,
                    "nothing-stands-still",
                    f"No ring of rollout {rollout_id} stands still. Say with a selector which devices to leave out.",
                )
            devices = await attempts.in_the_way(connection, rollout_id, ring["position"])
        else:
            devices = await attempts.picked(connection, rollout_id, parse_selector(asked.where), now)
            await add_exception(connection, row, asked.where)
        left, off = await go_on_without(connection, rollout_id, devices, now, asked.reason)
        data = {"devices": left, "called_off": off, "where": asked.where}
        await rollouts.look_again(connection, rollout_id)
        await record_decision(connection, rollout_id, "devices left out", by, asked.reason, now, data)
        await renew_orders(connection, rollout_id, "left out", now)
    context.memory.epoch += 1
    context.signals.conductor.set()


async def _attempt(connection: AsyncConnection, attempt_id: int) -> StoredAttempt:
    rows = await attempts.lock_some(connection, [attempt_id])
    if not rows:
        raise ProblemError(404, "not-found", f"There is no attempt {attempt_id}.")
    return rows[0]


async def _record_of_device(
    connection: AsyncConnection, row: StoredAttempt, what: str, by: str, why: str, now: datetime
) -> None:
    data = {"rollout": row["rollout_id"], "attempt": row["id"]}
    serial = await attempts.serial_of(connection, row["device_id"])
    await write_journal(connection, JournalEntry(now, by, what, serial, why, data))
