"""Rollouts, their rings, and who is passed over."""

from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import Text, and_, cast, func, literal, or_, select, update
from sqlalchemy.dialects.postgresql import JSONB, insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import BAD, UNDER_WAY, State
from mellow_herald.core.decide import RingProgress, Unheard
from mellow_herald.core.placement import PassedOver, Rules
from mellow_herald.core.plan import Plan
from mellow_herald.core.presence import LATE_AFTER
from mellow_herald.core.rollout import RingState, RolloutState
from mellow_herald.core.selector import Node
from mellow_herald.store.selector_sql import compile_reason, compile_selector
from mellow_herald.store.tables import (
    AttemptRow,
    Device,
    PassedOverRow,
    Pulse,
    Release,
    ReleaseImage,
    RingRow,
    Rollout,
)

Row = Mapping[str, Any]
SLICE = 10_000


async def add_rollout(connection: AsyncConnection, values: dict[str, Any], rings: list[str]) -> int:
    """Adds a rollout with its rings, all closed; returns its id."""
    done = await connection.execute(insert(Rollout).values(**values).returning(Rollout.id))
    rollout_id = int(done.scalar_one())
    rows = [{"rollout_id": rollout_id, "position": n, "name": name, "state": "closed"} for n, name in enumerate(rings)]
    await connection.execute(insert(RingRow), rows)
    return rollout_id


async def find_by_request(connection: AsyncConnection, request_key: str) -> int | None:
    """The rollout that a request with this idempotency key made."""
    return await connection.scalar(select(Rollout.id).where(Rollout.request_key == request_key))


async def list_rollouts(
    connection: AsyncConnection,
    *,
    rollout_id: int | None = None,
    live: bool = False,
    after: int | None = None,
    limit: int = 50,
) -> list[Row]:
    """Rollouts, newest first, with the name of their release (``board``, ``line``, ``version``) and the
    digests of its ``app`` images."""
    app = (
        select(func.array_agg(ReleaseImage.digest))
        .where(ReleaseImage.release_id == Release.id, ReleaseImage.component == "app")
        .scalar_subquery()
    )
    statement = (
        select(
            Rollout.__table__,
            Release.board,
            Release.line,
            Release.version,
            Release.floor,
            Release.hw_rev_min,
            Release.hw_rev_max,
            Release.needs,
            Release.manifest_digest,
            app.label("digests"),
        )
        .join(Release, Release.id == Rollout.release_id)
        .order_by(Rollout.id.desc())
        .limit(limit)
    )
    if rollout_id is not None:
        statement = statement.where(Rollout.id == rollout_id)
    if live:
        statement = statement.where(Rollout.ended_at.is_(None))
    if after is not None:
        statement = statement.where(Rollout.id < after)
    return list((await connection.execute(statement)).mappings())


async def rollout_states(connection: AsyncConnection, ids: set[int]) -> dict[int, str]:
    """The state of each of these rollouts; true for as long as the caller holds their gates."""
    statement = select(Rollout.id, Rollout.state).where(Rollout.id.in_(sorted(ids)))
    return {row.id: row.state for row in await connection.execute(statement)}


async def move_rollout(connection: AsyncConnection, rollout_id: int, state: RolloutState, **values: Any) -> None:
    """Writes a rollout's new state; the caller holds its gate exclusively."""
    await connection.execute(update(Rollout).where(Rollout.id == rollout_id).values(state=state.value, **values))


async def list_rings(connection: AsyncConnection, ids: list[int]) -> dict[int, list[Row]]:
    """The rings of these rollouts in order."""
    statement = select(RingRow.__table__).where(RingRow.rollout_id.in_(ids)).order_by(RingRow.position)
    rings: dict[int, list[Row]] = {rollout_id: [] for rollout_id in ids}
    for row in (await connection.execute(statement)).mappings():
        rings[row["rollout_id"]].append(row)
    return rings


async def move_ring(
    connection: AsyncConnection, rollout_id: int, position: int, state: RingState, **values: Any
) -> None:
    """Writes a ring's new state."""
    statement = update(RingRow).where(RingRow.rollout_id == rollout_id, RingRow.position == position)
    await connection.execute(statement.values(state=state.value, **values))


async def count_attempts(connection: AsyncConnection, ids: list[int]) -> list[Row]:
    """Attempts of these rollouts counted by ring, state and reason: ``attempts``, ``exposed``, ``live``."""
    statement = (
        select(
            AttemptRow.rollout_id,
            AttemptRow.ring,
            AttemptRow.state,
            AttemptRow.reason,
            func.count().label("attempts"),
            func.count(AttemptRow.exposed_at).label("exposed"),
            func.count().filter(AttemptRow.live).label("live"),
        )
        .where(AttemptRow.rollout_id.in_(ids))
        .group_by(AttemptRow.rollout_id, AttemptRow.ring, AttemptRow.state, AttemptRow.reason)
    )
    return list((await connection.execute(statement)).mappings())


async def count_passed_over(connection: AsyncConnection, ids: list[int]) -> list[Row]:
    """Devices passed over by these rollouts, counted by reason."""
    statement = (
        select(PassedOverRow.rollout_id, PassedOverRow.reason, func.count().label("devices"))
        .where(PassedOverRow.rollout_id.in_(ids))
        .group_by(PassedOverRow.rollout_id, PassedOverRow.reason)
    )
    return list((await connection.execute(statement)).mappings())


async def count_target(connection: AsyncConnection, target: Node, rules: Rules, now: datetime) -> dict[str | None, int]:
    """How many targeted devices are eligible (key None) and how many are passed over, by reason."""
    reason = compile_reason(rules, now).label("reason")
    inner = select(reason).where(compile_selector(target, now)).subquery()
    statement = select(inner.c.reason, func.count().label("devices")).group_by(inner.c.reason)
    return {row.reason: row.devices for row in await connection.execute(statement)}


async def open_slice(
    connection: AsyncConnection, rollout_id: int, position: int, plan: Plan, target: Node, rules: Rules, now: datetime
) -> int:
    """Gives up to 10,000 of the targeted devices their attempt, or their reason to be passed over.

    Returns how many devices were placed; 0 means that none is left. Set-based; safe to repeat.
    """
    placed = or_(
        select(1).where(AttemptRow.rollout_id == rollout_id, AttemptRow.device_id == Device.id).exists(),
        select(1).where(PassedOverRow.rollout_id == rollout_id, PassedOverRow.device_id == Device.id).exists(),
    )
    chosen = (
        select(Device.id, compile_reason(rules, now).label("reason"))
        .where(and_(compile_selector(target, now), ~placed))
        .order_by(Device.id)
        .limit(SLICE)
        .cte("chosen")
    )
    ring = plan.rings[position]
    values = {
        "rollout_id": rollout_id,
        "ring": position,
        "created_at": now,
        "changed_at": now,
        "live": True,
        "state": State.QUEUED.value,
        "waiting_for": "next-check-in",
        "try_number": 1,
        "tries": plan.retries + 1,
        "soak_s": int(ring.soak.total_seconds()),
        "retry_pause_s": int(plan.retry_pause.total_seconds()),
        "ever_bad": False,
        "closed": False,
    }
    facts = func.jsonb_build_object("hw_rev", Device.hw_rev).concat(Device.labels)
    source = (
        select(
            Device.id, Device.version, Device.digest, cast(facts, JSONB),
            *(literal(value, AttemptRow.__table__.c[name].type) for name, value in values.items()),
        )
        .join(chosen, chosen.c.id == Device.id)
        .where(chosen.c.reason.is_(None))
    )  # fmt: skip
    columns = ["device_id", "from_version", "from_digest", "facts", *values]
    given = insert(AttemptRow).from_select(columns, source).on_conflict_do_nothing().returning(AttemptRow.device_id)
    given_cte = given.cte("given")
    # Who was eligible and still got no attempt has become part of another rollout in this very moment.
    other = literal(PassedOver.IN_OTHER_ROLLOUT.value, Text)
    left_over = select(literal(rollout_id), chosen.c.id, func.coalesce(chosen.c.reason, other)).where(
        or_(chosen.c.reason.is_not(None), chosen.c.id.not_in(select(given_cte.c.device_id)))
    )
    passed = (
        insert(PassedOverRow)
        .from_select(["rollout_id", "device_id", "reason"], left_over)
        .on_conflict_do_nothing()
        .returning(PassedOverRow.device_id)
        .cte("passed")
    )
    statement = select(
        select(func.count()).select_from(given_cte).scalar_subquery()
        + select(func.count()).select_from(passed).scalar_subquery()
    )
    return int(await connection.scalar(statement) or 0)


async def ring_progress(connection: AsyncConnection, rollout_id: int, now: datetime) -> list[RingProgress]:
    """The counts ``decide`` needs, ring by ring."""
    undecided = and_(AttemptRow.live, AttemptRow.offered_at.is_not(None), AttemptRow.state != State.QUEUED.value)
    asked = or_(AttemptRow.offered_at.is_not(None), Pulse.seen_at >= RingRow.opened_at)
    grace = func.make_interval(0, 0, 0, 0, 0, 0, Pulse.interval_s * LATE_AFTER)
    expected = and_(
        AttemptRow.state == State.QUEUED.value,
        AttemptRow.live,
        func.greatest(Pulse.seen_at, RingRow.opened_at) + grace > now,
    )
    statement = (
        select(
            RingRow.position,
            RingRow.state,
            func.count().filter(undecided).label("undecided"),
            func.count().filter(expected).label("expected"),
            func.count(AttemptRow.id).filter(asked).label("asked"),
            func.count().filter(AttemptRow.state == State.CONFIRMED.value).label("good"),
            func.max(AttemptRow.soak_until).filter(AttemptRow.state == State.CONFIRMED.value).label("soak_until"),
        )
        .outerjoin(AttemptRow, and_(AttemptRow.rollout_id == RingRow.rollout_id, AttemptRow.ring == RingRow.position))
        .outerjoin(Pulse, Pulse.device_id == AttemptRow.device_id)
        .where(RingRow.rollout_id == rollout_id)
        .group_by(RingRow.position, RingRow.state)
        .order_by(RingRow.position)
    )
    return [
        RingProgress(RingState(r.state), r.undecided, r.expected, r.asked, r.good, r.soak_until)
        for r in await connection.execute(statement)
    ]


async def unheard(
    connection: AsyncConnection, rollout_id: int, now: datetime, answer_within: timedelta, limit: int = 5000
) -> tuple[Unheard, ...]:
    """Attempts offered … proving, or bad with tries left, whose device has not called within ``answer_within``."""
    states = [state.value for state in (UNDER_WAY | BAD) if state is not State.QUEUED]
    statement = (
        select(AttemptRow.id, Pulse.seen_at)
        .join(Pulse, Pulse.device_id == AttemptRow.device_id)
        .where(
            AttemptRow.rollout_id == rollout_id,
            AttemptRow.state.in_(states),
            AttemptRow.live,
            Pulse.seen_at < now - answer_within,
        )
        .order_by(AttemptRow.id)
        .limit(limit)
    )
    return tuple(Unheard(row.id, row.seen_at) for row in await connection.execute(statement))


async def count_at_risk(connection: AsyncConnection, rollout_id: int) -> int:
    """Devices exposed, not yet confirmed or bad."""
    states = [State.CLEARED.value, State.INSTALLING.value, State.PROVING.value]
    statement = select(func.count()).where(AttemptRow.rollout_id == rollout_id, AttemptRow.state.in_(states))
    return int(await connection.scalar(statement) or 0)


async def end_tries(connection: AsyncConnection, rollout_id: int) -> None:
    """Ends the remaining tries of all bad attempts of a rollout."""
    statement = update(AttemptRow).where(
        AttemptRow.rollout_id == rollout_id,
        AttemptRow.state.in_([state.value for state in BAD]),
        AttemptRow.live,
    )
    await connection.execute(statement.values(tries=AttemptRow.try_number, live=False, retry_at=None))


async def close_attempts(connection: AsyncConnection, rollout_id: int) -> None:
    """Closes all attempts of a rollout that has ended; those at risk must be decided before."""
    statement = update(AttemptRow).where(AttemptRow.rollout_id == rollout_id, AttemptRow.closed.is_(False))
    await connection.execute(statement.values(closed=True, live=False))
