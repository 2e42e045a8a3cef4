"""Rehearsals as they are asked for, followed and cancelled."""

import asyncio
import os
import sys
from datetime import UTC, datetime, timedelta

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.duration import parse_duration
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.rehearsals.process import DATABASE
from mellow_herald.service.rollouts.conductor import TURN_SECONDS
from mellow_herald.service.rollouts.planning import prepare
from mellow_herald.service.rollouts.record import stored_rollout
from mellow_herald.store import rehearsals
from mellow_herald.store.rehearsals import StoredRehearsal
from mellow_herald.store.tables import RehearsalState
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.rehearsal import RehearsalIn, RehearsalOut

UNDER_WAY = (RehearsalState.WAITING, RehearsalState.RUNNING)
# A process that was not heard of for so long has ended.
GONE_AFTER = timedelta(minutes=5)
MOST_WAITING = 10
ENDS_WITHIN_S = 5.0


async def ask(context: Context, asked: RehearsalIn, by: str) -> RehearsalOut:
    """Has a plan rehearsed, in a process of its own."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        # What is wrong with the plan is said at once, and not when its turn has come.
        await prepare(connection, asked.plan, now)
        waiting = [row for row in await rehearsals.list_some(connection) if _state(row) in UNDER_WAY]
        if len(waiting) >= MOST_WAITING:
            detail = f"{len(waiting)} rehearsals are waiting. Cancel one, or wait."
            raise ProblemError(429, "too-many-rehearsals", detail, {"Retry-After": "30"})
        row = {
            "name": asked.plan.name,
            "plan": asked.plan.model_dump(mode="json"),
            "plan_digest": asked.plan.digest,
            "faults": asked.faults,
            "runs": asked.runs,
            "seed": asked.seed,
            "people_s": round(parse_duration(asked.people_after).total_seconds()),
            "asked_by": by,
            "asked_at": now,
            "state": RehearsalState.WAITING.value,
            "progress": 0.0,
            "beat_at": datetime.now(UTC),
        }
        number = await rehearsals.add(connection, row)
    await _start(context, number)
    return await show(context, number)


async def _start(context: Context, number: int) -> None:
    url = context.pools.work.url.render_as_string(hide_password=False)
    turn = timedelta(seconds=TURN_SECONDS * context.clock.scale)
    command = (sys.executable, "-m", "mellow_herald.service.rehearsals.process", str(number), str(turn.total_seconds()))
    # By the environment: a command line is everybody's to read.
    process = await asyncio.create_subprocess_exec(*command, env={**os.environ, DATABASE: url})
    context.rehearsals.add(task := asyncio.create_task(_reap(process)))
    task.add_done_callback(context.rehearsals.discard)


async def _reap(process: "asyncio.subprocess.Process") -> None:
    try:
        await process.wait()
    except asyncio.CancelledError:
        process.terminate()  # it writes down why it ends
        try:
            await asyncio.wait_for(process.wait(), ENDS_WITHIN_S)
        except TimeoutError:
            process.kill()
            await process.wait()
        raise


async def show(context: Context, number: int) -> RehearsalOut:
    """One rehearsal."""
    async with context.engine.connect() as connection:
        row = await rehearsals.find(connection, number)
    if row is None:
        raise ProblemError(404, "not-found", f"There is no rehearsal {number}. See `herald rollout rehearsals`.")
    return as_shown(row)


async def list_all(context: Context) -> list[RehearsalOut]:
    """The newest rehearsals."""
    async with context.engine.connect() as connection:
        return [as_shown(row) for row in await rehearsals.list_some(connection)]


async def cancel(context: Context, number: int, by: str) -> RehearsalOut:
    """Ends a rehearsal that is under way."""
    values = {"state": RehearsalState.CANCELLED.value, "why": f"cancelled by {by}", "beat_at": datetime.now(UTC)}
    async with context.engine.begin() as connection:
        if not await rehearsals.move(connection, number, UNDER_WAY, **values):
            row = await rehearsals.find(connection, number)
            if row is None:
                raise ProblemError(404, "not-found", f"There is no rehearsal {number}.")
            raise ProblemError(409, "over", f"Rehearsal {number} is {row['state']} already.")
    return await show(context, number)


async def of_rollout(connection: AsyncConnection, rollout_id: int) -> list[RehearsalOut]:
    """The rehearsals of the plan that a rollout was started with, done before it was, the newest first."""
    row = await stored_rollout(connection, rollout_id)
    rows = await rehearsals.list_some(connection, plan_digest=row["plan_digest"], before=row["created_at"], limit=5)
    return [as_shown(one) for one in rows if one["state"] == RehearsalState.DONE] if row["plan_digest"] else []


def brief(one: RehearsalOut) -> str:
    """What a rehearsal found, in a sentence."""
    faults = one.result.faults if one.result is not None else []
    told = []
    for fault in faults:
        hurt = f"hurt {fault.hurt.middle:.0f} ({fault.hurt.low:.0f} … {fault.hurt.high:.0f})"
        told.append(f"{fault.named}: done in {fault.finishes:.0%} of all runs, halted in {fault.halts:.0%}, {hurt}")
    return f"rehearsal {one.id}: {'; '.join(told)}"


def as_shown(row: StoredRehearsal) -> RehearsalOut:
    """A rehearsal as it stands; one whose process is gone has failed."""
    state = _state(row)
    why = row["why"]
    if state is RehearsalState.FAILED and why is None:
        why = "its process has ended without a word; ask for it again"
    plan = PlanDocument.model_validate(row["plan"])
    return RehearsalOut.model_validate({**row, "state": state, "why": why, "plan": plan, "release": plan.release})


def _state(row: StoredRehearsal) -> RehearsalState:
    state = RehearsalState(row["state"])
    gone = state in UNDER_WAY and datetime.now(UTC) - row["beat_at"] > GONE_AFTER
    return RehearsalState.FAILED if gone else state
