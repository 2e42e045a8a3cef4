"""What engineers do with a rollout that runs: let a ring open, change what is to come, see to single devices."""

from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import CallOff, OneMore, Refusal, advance
from mellow_herald.core.rollout import ENDED, RingState, RolloutKind, RolloutState
from mellow_herald.service.context import Context
from mellow_herald.service.ending import apply_to
from mellow_herald.service.planning import draw, target_of
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.rollouts import row_of, say
from mellow_herald.store import attempts, placing, rollouts
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.store.gate import Lock, close_gate, take
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.rollout import GoIn, PlanEdit


async def go(context: Context, rollout_id: int, said: GoIn, by: str) -> None:
    """Lets the ring open that awaits go."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        await take(connection, Lock.CONDUCTOR, rollout_id)
        row = await row_of(connection, rollout_id)
        rings = (await rollouts.list_rings(connection, [rollout_id]))[rollout_id]
        waiting = [ring["position"] for ring in rings if ring["state"] == RingState.AWAITING_GO]
        position = waiting[0] if said.ring is None and waiting else said.ring
        if position is None or position not in waiting or row["state"] in ENDED:
            asks = f"ring {waiting[0] + 1} does" if waiting else "none does"
            raise ProblemError(
                409, "nothing-awaits-go", f"That ring of rollout {rollout_id} does not await go; {asks}."
            )
        await rollouts.move_ring(connection, rollout_id, position, RingState.AWAITING_GO, go_at=now)
        await say(connection, rollout_id, f"go for ring {position + 1}", by, said.reason, now)
    context.signals.conductor.set()


async def edit(context: Context, rollout_id: int, said: PlanEdit, revision: int | None, by: str) -> None:
    """Changes pace and rings that are not open yet; with ``revision`` only if nobody changed the plan since."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        # No ring may open while its successor's devices are drawn anew.
        await take(connection, Lock.CONDUCTOR, rollout_id)
        await close_gate(connection, rollout_id)
        row = await row_of(connection, rollout_id)
        if row["state"] in ENDED:
            raise ProblemError(409, "wrong-state", f"Rollout {rollout_id} is {row['state']}; nothing is to come.")
        if revision is not None and revision != row["revision"]:
            raise ProblemError(
                412, "plan-changed",
                f"The plan has been changed meanwhile (revision {row['revision']}, not {revision}). Look at it again.",
            )  # fmt: skip
        before = PlanDocument.model_validate(row["plan"])
        rings = (await rollouts.list_rings(connection, [rollout_id]))[rollout_id]
        first = _first_to_come(rings)
        changes: dict[str, Any] = {}
        if said.pace is not None:
            changes["pace"] = said.pace
        if said.rings is not None:
            if row["kind"] != RolloutKind.FORWARD:
                raise ProblemError(409, "no-rings", f"A {row['kind']} has no rings to change; its pace may be.")
            if said.rings[:first] != before.rings[:first] or len(said.rings) < first:
                opened = ", ".join(repr(ring.name) for ring in before.rings[:first])
                raise ProblemError(
                    409, "ring-opened", f"Rings that are open stay as they are: {opened}. Send them unchanged."
                )
            changes["rings"] = said.rings
        after = PlanDocument.model_validate(before.model_copy(update=changes).model_dump())
        plan = after.to_plan()
        stored = {"plan": after.model_dump(mode="json"), "revision": row["revision"] + 1}
        await rollouts.change_rollout(connection, rollout_id, **stored)
        if said.rings is not None and said.rings[first:] != before.rings[first:]:
            counts = await rollouts.count_attempts(connection, [rollout_id])
            given = sum(count["attempts"] for count in counts)
            await rollouts.add_rings(connection, rollout_id, [ring.name for ring in plan.rings[first:]], first)
            drawn = await draw(
                connection, plan, target_of(row, plan), now, rollout_id=rollout_id, first=first, given=given
            )
            await placing.keep_drawn(connection, rollout_id, plan.rings, drawn.placed, first)
        data = {"before": _changed(before, after), "after": _changed(after, before)}
        await say(connection, rollout_id, "plan changed", by, said.reason, now, data)
    context.signals.conductor.set()


async def call_off(context: Context, attempt_id: int, by: str, why: str) -> None:
    """Stops one device's attempt before it switches."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        row = await _attempt(connection, attempt_id)
        if not await apply_to(connection, [row], CallOff("by-hand"), now, why):
            raise ProblemError(
                409, "too-late", f"The attempt is {row['state']}: only what has no clearance yet can be called off."
            )
        await _say_of_device(connection, row, "attempt called off", by, why, now)
    context.memory.epoch += 1


async def retry(context: Context, attempt_id: int, by: str, why: str) -> None:
    """Gives one device one more try."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        row = await _attempt(connection, attempt_id)
        rollout = await row_of(connection, row["rollout_id"])
        if rollout["state"] not in (RolloutState.RUNNING, RolloutState.HELD):
            raise ProblemError(
                409, "wrong-state", f"Rollout {rollout['id']} is {rollout['state']}: it tries nothing more."
            )
        if not row["live"] and await attempts.live_elsewhere(connection, [row["device_id"]]):
            raise ProblemError(409, "in-other-rollout", "The device is in another rollout by now.")
        outcome = advance(attempts.to_attempt(row), OneMore(), now)
        if isinstance(outcome, Refusal):
            raise ProblemError(
                409, "nothing-to-retry", f"The attempt is {row['state']}: there is nothing to try again."
            )
        await apply_to(connection, [row], OneMore(), now, why)
        await _say_of_device(connection, row, "attempt tried again", by, why, now)
        await publish(connection, [FeedEvent(now, "orders", row["rollout_id"], data={"what": "retry"})])
    context.memory.epoch += 1


def _first_to_come(rings: Any) -> int:
    """The position of the first ring that is not open yet."""
    to_come = (RingState.CLOSED, RingState.AWAITING_GO)
    return next((ring["position"] for ring in rings if ring["state"] in to_come), len(rings))


def _changed(one: PlanDocument, other: PlanDocument) -> dict[str, Any]:
    mine, theirs = one.model_dump(mode="json"), other.model_dump(mode="json")
    return {name: mine[name] for name in ("pace", "rings") if mine[name] != theirs[name]}


async def _attempt(connection: AsyncConnection, attempt_id: int) -> Any:
    rows = await attempts.lock_some(connection, [attempt_id])
    if not rows:
        raise ProblemError(404, "not-found", f"There is no attempt {attempt_id}.")
    return rows[0]


async def _say_of_device(connection: AsyncConnection, row: Any, what: str, by: str, why: str, now: Any) -> None:
    data = {"rollout": row["rollout_id"], "attempt": row["id"]}
    serial = await attempts.serial_of(connection, row["device_id"])
    await write_journal(connection, JournalEntry(now, by, what, serial, why, data))
