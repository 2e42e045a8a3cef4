"""What engineers do with rollouts: start, hold, resume, halt, cancel."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import Resume, State
from mellow_herald.core.eligibility import PassedOver, lone_reason
from mellow_herald.core.plan import Plan
from mellow_herald.core.rollout import Outcome, RolloutKind, RolloutState, may_move
from mellow_herald.core.selector import parse_selector
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.releases.offering import check_offerable
from mellow_herald.service.rollouts.brakes import foresee_watch
from mellow_herald.service.rollouts.ending import apply_to, finish, go_on_without
from mellow_herald.service.rollouts.opening import open_at_once
from mellow_herald.service.rollouts.planning import Drawn, add_exception, brought, draw, lots, prepare
from mellow_herald.service.rollouts.radio_forecast import forecast_rings
from mellow_herald.service.rollouts.record import record_decision, renew_orders, stored_rollout
from mellow_herald.store import attempts, releases, rings, rollouts
from mellow_herald.store.gate import Lock, close_gate, share
from mellow_herald.store.rollouts import RolloutOfRelease
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.rollout import ResumeIn


@dataclass(frozen=True, slots=True)
class Agreed:
    """What whoever starts a rollout has seen and agrees to: the devices of each ring, and by what share (0–1) they may
    have changed since."""

    counts: Sequence[int]
    within: float = 0.05


async def start(
    context: Context,
    document: PlanDocument,
    by: str,
    request_key: str | None,
    *,
    agreed: Agreed | None = None,
    overtake: bool = False,
    scratch: int | None = None,
    alone: str | None = None,
) -> tuple[int, bool]:
    """Starts a rollout, or schedules it; returns its id and whether it is new. The same ``request_key`` starts it only
    once. ``scratch`` is the scratch image that it brings instead of a release; ``alone`` is the serial of the one
    device that it is for: a refusal speaks of that."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        if (known := await rollouts.find_by_request(connection, request_key)) is not None:
            return known, False
        prepared = await prepare(connection, document, now, overtake=overtake, scratch=scratch)
        plan = prepared.plan
        drawn = await draw(connection, plan, prepared.target, now)
        if not any(drawn.counts) and alone is not None:
            reason = next((PassedOver(one) for one in drawn.passed_over), None)
            kind = "not-found" if reason is None else reason.value
            raise ProblemError(409, kind, lone_reason(alone, str(plan.release), reason))
        if not any(drawn.counts):
            reasons = ", ".join(f"{n} {reason}" for reason, n in drawn.passed_over.items())
            raise ProblemError(
                422,
                "nobody-to-serve",
                f"No device would get {plan.release}: {reasons or 'the target matches no device'}. "
                "Check the plan's target and rings.",
            )
        if agreed is not None:
            _check_agreed(plan, agreed, drawn)
        # What cannot be sent to devices on narrow radio, or not so soon, is not begun.
        await forecast_rings(connection, prepared, drawn, [None] * len(plan.rings), plan.calendar.start or now)
        later = plan.calendar.start is not None and plan.calendar.start > now
        rollout_id = await rollouts.add_rollout(
            connection,
            {
                "name": plan.name,
                "release_id": prepared.release["id"],
                "second_release_id": None if prepared.second is None else prepared.second["id"],
                "plan": document.model_dump(mode="json"),
                "target": prepared.target_text,
                "revision": 1,
                "plan_digest": document.digest,
                "overtakes": overtake,
                "state": (RolloutState.SCHEDULED if later else RolloutState.RUNNING).value,
                "created_by": by,
                "created_at": now,
                "started_at": None if later else now,
                "round_at": None if later else now,
                "round": 1,
                "watch": (await foresee_watch(connection, plan, prepared.target, now)).as_dict(),
                "kind": RolloutKind.FORWARD.value,
                "scope": {},
                "targeted": drawn.targeted,
                "request_key": request_key,
            },
            [ring.name for ring in plan.rings],
        )
        await rings.keep_drawn(connection, rollout_id, plan.rings, drawn.placed, lots=lots(plan, drawn))
        seen = {"targeted": drawn.targeted, "rings": drawn.counts, "passed_over": drawn.passed_over}
        what = "scheduled" if later else "started"
        await record_decision(connection, rollout_id, what, by, f"plan {plan.name!r}", now, seen)
        await renew_orders(connection, rollout_id, what, now)
    await open_at_once(context, rollout_id)
    return rollout_id, True


def _check_agreed(plan: Plan, agreed: Agreed, drawn: Drawn) -> None:
    if len(agreed.counts) != len(drawn.counts):
        raise ProblemError(
            422,
            "bad-counts",
            f"The plan has {len(drawn.counts)} rings, but {len(agreed.counts)} counts were agreed to.",
        )
    moved = [
        f"{ring.name}: {then} then, {now} now"
        for ring, then, now in zip(plan.rings, agreed.counts, drawn.counts, strict=True)
        if abs(now - then) > agreed.within * max(then, 1)
    ]
    if moved:
        raise ProblemError(
            409,
            "numbers-changed",
            f"The fleet has changed since the preview by more than {agreed.within:.0%} ({'; '.join(moved)}). "
            "Look at the preview again and start with its numbers.",
        )


async def hold(context: Context, rollout_id: int, by: str, why: str) -> None:
    """No further offers or clearances; attempts stay live."""
    await _act(context, rollout_id, RolloutState.HELD, by, why)


async def halt(context: Context, rollout_id: int, by: str, why: str) -> None:
    """Stops a rollout: committed first, with a number drawn under its gate; the conductor calls off in slices."""
    await _act(context, rollout_id, RolloutState.HALTED, by, why)
    context.signals.conductor.set()


async def resume(context: Context, rollout_id: int, by: str, asked: ResumeIn) -> None:
    """Goes on with a held or halted rollout; what a halt called off is queued again, but for the devices that are left
    out from now on. After a halt a new round begins."""
    await _act(context, rollout_id, RolloutState.RUNNING, by, asked.reason, leave_out=asked.leave_out)
    context.signals.conductor.set()


async def cancel(context: Context, rollout_id: int, by: str, why: str) -> None:
    """Ends a rollout for good; refused while devices are at risk."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        row = await stored_rollout(connection, rollout_id)
        _check_move(row, RolloutState.CANCELLED)
        await close_gate(connection, rollout_id)
        at_risk = await rollouts.count_at_risk(connection, rollout_id)
        if at_risk:
            raise ProblemError(
                409,
                "devices-at-risk",
                f"{at_risk} devices have clearance and are not decided yet. Halt, wait until they are, then cancel.",
            )
        allowed = {state for state in RolloutState if may_move(state, RolloutState.CANCELLED)}
        # What was stopped on evidence of harm and is then given up came to a halt: that stays.
        halted = row["state"] == RolloutState.HALTED
        outcome = Outcome.HALTED if halted else Outcome.CUT_SHORT
        if not await finish(connection, rollout_id, RolloutState.CANCELLED, now, allowed, outcome, reason=why):
            raise ProblemError(409, "wrong-state", f"Rollout {rollout_id} has ended already.")
        await record_decision(connection, rollout_id, "cancelled", by, why, now)


async def halt_within(connection: AsyncConnection, context: Context, rollout_id: int, by: str, why: str) -> bool:
    """Halts a rollout in the caller's transaction, if it can be halted; tells whether it was."""
    number = await close_gate(connection, rollout_id)
    row = await stored_rollout(connection, rollout_id)
    if not may_move(RolloutState(row["state"]), RolloutState.HALTED):
        return False
    await _move(connection, row, RolloutState.HALTED, by, why, number, context.clock.now())
    return True


async def _act(
    context: Context, rollout_id: int, to: RolloutState, by: str, why: str, *, leave_out: str | None = None
) -> None:
    async with context.engine.begin() as connection:
        if to is RolloutState.RUNNING:
            await share(connection, Lock.KEYS)
        number = await close_gate(connection, rollout_id)
        row = await stored_rollout(connection, rollout_id)
        _check_move(row, to)
        if to is RolloutState.RUNNING and row["kind"] == RolloutKind.FORWARD:
            await _check_brought(connection, row)
        if leave_out is not None:
            row = await add_exception(connection, row, leave_out)
        await _move(connection, row, to, by, why, number, context.clock.now(), leave_out=leave_out)
    context.memory.epoch += 1  # this process at once, the others by the feed


async def _check_brought(connection: AsyncConnection, row: RolloutOfRelease) -> None:
    """A problem where a rollout may bring nobody what it would bring, or, of two releases, one of them."""
    for one in brought(row):
        release = await releases.find_release(connection, one["board"], one["line"], one["version"])
        assert release is not None
        await check_offerable(connection, release)


async def _move(
    connection: AsyncConnection,
    row: RolloutOfRelease,
    to: RolloutState,
    by: str,
    why: str,
    number: int,
    now: datetime,
    *,
    leave_out: str | None = None,
) -> None:
    halted = to is RolloutState.HALTED
    values: dict[str, Any] = {
        "reason": None if to is RolloutState.RUNNING else why,
        "outcome": Outcome.HALTED.value if halted else None,
    }
    if to is RolloutState.RUNNING and row["state"] == RolloutState.HALTED:
        values |= {"round_at": now, "round": row["round"] + 1}
    if halted:
        values |= {"halt_number": number, "halted_why": why}
    await rollouts.move_rollout(connection, row["id"], to, **values)
    if to is RolloutState.RUNNING and row["state"] == RolloutState.HALTED:
        await _requeue(connection, row["id"], now, leave_out)
    elif leave_out is not None:
        devices = await attempts.picked(connection, row["id"], parse_selector(leave_out), now)
        await go_on_without(connection, row["id"], devices, now, why)
    what = {RolloutState.RUNNING: "resumed", RolloutState.HELD: "held", RolloutState.HALTED: "halted"}[to]
    data: dict[str, Any] = {"number": number}
    if "round" in values:
        data |= {"round": values["round"], "counts": "devices first exposed from now on"}
    if leave_out is not None:
        data["leave_out"] = leave_out
    await record_decision(connection, row["id"], what, by, why, now, data)
    await renew_orders(connection, row["id"], what, now)


async def _requeue(connection: AsyncConnection, rollout_id: int, now: datetime, leave_out: str | None) -> None:
    rows = await attempts.lock_slice(connection, rollout_id, [State.CALLED_OFF], 1_000_000)
    devices = [row["device_id"] for row in rows]
    not_now = await attempts.live_elsewhere(connection, devices)
    if leave_out is not None:
        left_out = await attempts.picked(connection, rollout_id, parse_selector(leave_out), now)
        await attempts.leave_out(connection, rollout_id, left_out)
        not_now |= left_out
    again = [row for row in rows if row["device_id"] not in not_now]
    await apply_to(connection, again, Resume(), now, "the rollout was resumed")


def _check_move(row: RolloutOfRelease, to: RolloutState) -> None:
    if not may_move(RolloutState(row["state"]), to):
        raise ProblemError(
            409, "wrong-state", f"Rollout {row['id']} is {row['state']}; it cannot become {to.value} from there."
        )
