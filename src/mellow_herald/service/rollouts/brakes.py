"""What the brakes of a rollout show: now, over time, and beside devices that are not updated yet."""

from datetime import datetime, timedelta

import numpy as np
import numpy.typing as npt
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.arms import ARM
from mellow_herald.core.brake import (
    MOST_FORESEEN,
    Reading,
    Tally,
    Watch,
    evidence_over_time,
    halts_at,
    read_brake,
    stream_name,
)
from mellow_herald.core.plan import BrakeKind, Plan
from mellow_herald.core.rollout import ENDED
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.rollouts.planning import plan_of
from mellow_herald.store import brakes, rings, rollouts
from mellow_herald.store.brakes import Signals
from mellow_herald.store.rollouts import RolloutOfRelease
from mellow_herald.wire.brake import BrakeOut, BrakesOut, ControlOut, EvidencePoint, ReadingBeside, StreamOut

Counts = npt.NDArray[np.float64]
POINTS = 120
SHOWN_STREAMS = 12
FINEST = timedelta(seconds=1)


def limit_of(plan: Plan, kind: BrakeKind) -> float:
    """A brake's limit (0–1)."""
    return plan.brake.firmware_limit if kind is BrakeKind.FIRMWARE else plan.brake.delivery_limit


def watch_of(row: RolloutOfRelease) -> Watch:
    """How a stored rollout divides its evidence."""
    return Watch.from_dict(row["watch"])


async def foresee_watch(connection: AsyncConnection, plan: Plan, target: rings.Target, now: datetime) -> Watch:
    """How evidence is to be divided in a rollout that begins now: fixed from here on."""
    shares = await rings.share_of_values(connection, target, plan.brake.watch_by, now, MOST_FORESEEN)
    foreseen = {name: list(values) for name, values in shares.items()}
    return Watch(len(plan.rings), foreseen | ({ARM: [arm.name for arm in plan.arms]} if plan.arms else {}))


async def read_brakes(connection: AsyncConnection, row: RolloutOfRelease, plan: Plan) -> tuple[Reading, ...]:
    """What both brakes of a stored rollout show in its present round; nothing before it began."""
    since = row["round_at"]
    if since is None:
        return ()
    watch, facts, found = watch_of(row), list(row["watch"]["foreseen"]), []
    for kind in BrakeKind:
        tallies = [
            Tally(one.ring, dict(zip(facts, one.values, strict=True)), one.seen, one.bad, one.first_at, one.later_good)
            for one in await brakes.tally(connection, row["id"], kind, facts, since)
        ]
        found.append(read_brake(kind, tallies, watch, limit_of(plan, kind), halts_at(row["round"], plan.brake.alpha)))
    return tuple(found)


async def show(context: Context, rollout_id: int) -> BrakesOut:
    """Both brakes with their history, and the control beside them."""
    now = context.clock.now()
    async with context.engine.connect() as connection:
        rows = await rollouts.list_rollouts(connection, rollout_id=rollout_id)
        if not rows:
            raise ProblemError(404, "not-found", f"There is no rollout {rollout_id}. See `herald rollout list`.")
        (row,) = rows
        plan, since = plan_of(row), row["round_at"]
        if since is None:
            return BrakesOut(round=row["round"], round_at=None, alpha=plan.brake.alpha, brakes=[], control=None)
        until = row["ended_at"] or now
        readings = await read_brakes(connection, row, plan)
        shown = [_as_shown(one, plan, await _history(connection, row, one, since, until)) for one in readings]
        control = None
        if row["state"] not in ENDED:
            control = await _control(connection, row, plan, since, now)
    return BrakesOut(round=row["round"], round_at=since, alpha=plan.brake.alpha, brakes=shown, control=control)


def _as_shown(reading: Reading, plan: Plan, history: list[EvidencePoint]) -> BrakeOut:
    names, whole = [ring.name for ring in plan.rings], reading.whole
    streams = sorted(reading.streams, key=lambda stream: -stream.contribution)[:SHOWN_STREAMS]
    return BrakeOut(
        kind=reading.kind,
        limit=reading.limit,
        halts_at=reading.halts_at,
        evidence=reading.evidence,
        near=reading.near,
        halts=reading.halts,
        bad=whole.bad,
        seen=whole.seen,
        words=reading.summary(names),
        strongest=stream_name(reading.strongest, names) or None if reading.strongest.bad else None,
        streams=[
            StreamOut(
                name=stream_name(s, names) or "the whole rollout",
                weight=s.weight,
                seen=s.seen,
                bad=s.bad,
                evidence=float(np.exp(min(s.log_evidence, 690.0))),
            )
            for s in streams
        ],
        history=history,
    )


async def _history(
    connection: AsyncConnection, row: RolloutOfRelease, reading: Reading, since: datetime, until: datetime
) -> list[EvidencePoint]:
    facts = list(row["watch"]["foreseen"])
    step = max(FINEST, (until - since) / POINTS)
    counted = await brakes.tally_over_time(connection, row["id"], reading.kind, facts, since, step)
    if not counted:
        return []
    moments = sorted({one.at for one in counted if one.at is not None})
    place = {at: n for n, at in enumerate(moments)}
    sums: dict[tuple[int, tuple[str, ...]], tuple[Counts, Counts, datetime]] = {}
    for one in counted:
        assert one.at is not None
        none_yet = (np.zeros(len(moments)), np.zeros(len(moments)), one.first_at)
        seen, bad, _ = sums.setdefault((one.ring, one.values), none_yet)
        seen[place[one.at]] += one.seen
        bad[place[one.at]] += one.bad
    tallies = [
        Tally(ring, dict(zip(facts, values, strict=True)), np.cumsum(seen), np.cumsum(bad), first_at)
        for (ring, values), (seen, bad, first_at) in sums.items()
    ]
    logs = evidence_over_time(tallies, watch_of(row), reading.limit)
    seen = np.cumsum(np.sum([one for one, _, _ in sums.values()], axis=0))
    bad = np.cumsum(np.sum([one for _, one, _ in sums.values()], axis=0))
    return [
        EvidencePoint(at=min(at + step, until), evidence=float(np.exp(min(log, 690.0))), seen=int(n), bad=int(f))
        for at, log, n, f in zip(moments, logs, seen, bad, strict=True)
    ]


async def _control(
    connection: AsyncConnection, row: RolloutOfRelease, plan: Plan, since: datetime, now: datetime
) -> ControlOut:
    within = plan.answer_within
    others = await brakes.control(connection, row["id"], since, now, within)
    own = await brakes.updated(connection, row["id"], since, now, within)
    readings = []
    for rule in plan.brake.readings:
        beside = await brakes.readings_beside(connection, row["id"], rule.name, since)
        mine, theirs = beside.get(True, (0, None)), beside.get(False, (0, None))
        readings.append(
            ReadingBeside(
                name=rule.name, updated=mine[1], updated_devices=mine[0], others=theirs[1], other_devices=theirs[0]
            )
        )
    return ControlOut(
        devices=others["devices"],
        restarted=others["restarted"],
        fell_silent=others["fell_silent"],
        bad=others["bad"],
        updated_devices=own["devices"],
        updated_restarted=own["restarted"],
        updated_fell_silent=own["fell_silent"],
        updated_bad=own["bad"],
        readings=readings,
        words=_control_summary(others, own),
    )


def _control_summary(others: Signals, own: Signals) -> str:
    if not others["devices"]:
        return "no device of this rollout is left to compare with"

    def share(row: Signals) -> str:
        return f"{100 * row['bad'] / row['devices']:.1f} %" if row["devices"] else "none yet"

    return (
        f"control: in the same time {others['bad']} of {others['devices']} devices not yet updated restarted or fell "
        f"silent ({share(others)}); of those updated {own['bad']} of {own['devices']} ({share(own)})"
    )
