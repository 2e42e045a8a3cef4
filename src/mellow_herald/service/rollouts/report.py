"""What happened in a rollout: states over time, and the report."""

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import State
from mellow_herald.core.course import Move
from mellow_herald.core.course import course as course_of
from mellow_herald.service.context import Context
from mellow_herald.service.rehearsals import asking
from mellow_herald.service.rollouts import approvals, brakes, budget, comparing, evidence, radio_sessions, suspects
from mellow_herald.service.rollouts.planning import plan_of
from mellow_herald.service.rollouts.record import stored_rollout
from mellow_herald.service.rollouts.shown import assemble
from mellow_herald.store import alarms
from mellow_herald.store import course as store
from mellow_herald.store.failures import FailedTry, failed_tries
from mellow_herald.store.rollouts import RolloutOfRelease
from mellow_herald.wire.event import JournalEntry
from mellow_herald.wire.report import CourseOut, CoursePoint, FailureOut, ReportOut, RingReport, Spent
from mellow_herald.wire.rollout import RolloutOut
from mellow_herald.wire.topology import AlarmOut

STEPS = 160
MOST_FAILURES = 200
MOST_ALARMS = 100
# Of each log, in a report: `herald rollout failures --logs` has them all.
MOST_LINES = 30


async def course(context: Context, rollout_id: int) -> CourseOut:
    """States over time."""
    async with context.engine.connect() as connection:
        row = await stored_rollout(connection, rollout_id)
    return (await _past(context, row)).course


def failure_as_shown(row: FailedTry, most_lines: int | None = None) -> FailureOut:
    """A failed try with at most the last so many lines of its log: what came right before is what tells."""
    lines = row["log"].splitlines()
    last = lines if most_lines is None else lines[-most_lines:]
    return FailureOut.model_validate({**row, "log": "\n".join(last), "log_lines": len(lines)})


async def report(context: Context, rollout_id: int) -> ReportOut:
    """What was planned, what happened, who decided what, and where the time went. ``now`` says of when it is: over a
    large fleet that may be a few seconds ago, but never before the last decision."""
    async with context.engine.connect() as connection:
        row = await stored_rollout(connection, rollout_id)
        decided = len(await store.decisions(connection, rollout_id))
    question = ("report", rollout_id, row["state"], row["revision"], decided)
    return await context.counted(question, lambda: _report(context, row))


async def _report(context: Context, row: RolloutOfRelease) -> ReportOut:
    now, rollout_id = context.clock.now(), row["id"]
    async with context.engine.connect() as connection:
        (shown,) = await assemble(connection, [row], now)
        failures = await failed_tries(connection, rollout_id, limit=MOST_FAILURES)
        decisions = await store.decisions(connection, rollout_id)
        waves = await budget.waves(connection, row)
        heard = await evidence.show(connection, rollout_id)
        approved = await approvals.list_given(connection, rollout_id)
        rehearsed = await asking.of_rollout(connection, rollout_id)
        compared = await comparing.of_rollout(connection, row, plan_of(row), now)
        noticed = await alarms.list_alarms(connection, rollout_id=rollout_id, limit=MOST_ALARMS)
    past = await _past(context, row)
    shown_brakes, found = (
        await brakes.show(context, rollout_id),
        await suspects.find(context, rollout_id, None, excepted=True),
    )
    return ReportOut(
        now=now,
        rollout=shown,
        rings=[_ring(shown, position, past.spent) for position in range(len(shown.rings))],
        course=past.course,
        brakes=shown_brakes,
        suspects=found,
        failures=[failure_as_shown(one, MOST_LINES) for one in failures],
        decisions=[JournalEntry.model_validate(dict(one)) for one in decisions],
        alarms=[AlarmOut.model_validate(dict(one)) for one in noticed],
        sessions=await radio_sessions.list_sessions(context, rollout_id),
        waves=waves,
        evidence=heard if heard.items else None,
        approvals=approved,
        rehearsals=rehearsed,
        comparison=compared,
    )


@dataclass(frozen=True, slots=True)
class _Past:
    """What is read from all that devices said in a rollout."""

    course: CourseOut
    spent: list[store.Leg]


async def _past(context: Context, row: RolloutOfRelease) -> _Past:
    """Kept for a while where the fleet is large; for good once the rollout has ended, since nothing is added to it."""

    async def read() -> _Past:
        async with context.engine.connect() as connection:
            return _Past(await _course(connection, row, context.clock.now()), await store.spent(connection, row["id"]))

    question = ("past", row["id"], row["ended_at"])
    if row["ended_at"] is None:
        return await context.counted(question, read)
    return await context.kept.get(question, read, for_good=True)


def _ring(shown: RolloutOut, position: int, spent: list[store.Leg]) -> RingReport:
    ring = shown.rings[position]
    went = [
        Spent.model_validate({name: value for name, value in one.items() if name in Spent.model_fields})
        for one in spent
        if one["ring"] == position and one["devices"]
    ]
    return RingReport(
        position=position,
        name=ring.name,
        opened_at=ring.opened_at,
        done_at=ring.done_at,
        devices=sum(ring.states.values()),
        good=ring.states.get(State.CONFIRMED, 0),
        bad=ring.ever_bad,
        spent=[one for one in went if one.leg in store.LEGS],
        phases=[one for one in went if one.leg in store.PHASES],
    )


async def _course(connection: AsyncConnection, row: RolloutOfRelease, now: datetime) -> CourseOut:
    since, end = row["started_at"] or row["created_at"], row["ended_at"] or now
    step = max(timedelta(seconds=1), (end - since) / STEPS)
    first = [
        Move(one["at"], None, State.QUEUED, one["devices"], first=True)
        for one in await store.begun(connection, row["id"], since, step)
    ]
    moved = [
        Move(one["at"], None if one["left"] is None else State(one["left"]), State(one["state"]), one["devices"])
        for one in await store.moves(connection, row["id"], since, step)
    ]
    points = course_of([*first, *moved], end)
    return CourseOut(points=[CoursePoint(at=at, states=states) for at, states in points])
