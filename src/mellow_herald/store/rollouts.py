"""Rollouts and their rings; whom they take is in ``store.placing``."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import and_, case, cast, delete, func, or_, select, update
from sqlalchemy.dialects.postgresql import INTERVAL, insert
from sqlalchemy.ext.asyncio import AsyncConnection
from sqlalchemy.orm import aliased

from mellow_herald.core.attempt import AT_RISK, BAD, UNDER_WAY, State
from mellow_herald.core.decide import RingProgress, Unheard
from mellow_herald.core.presence import LATE_AFTER
from mellow_herald.core.rollout import RingState, RolloutState
from mellow_herald.store.tables import (
    AttemptRow,
    Device,
    ImageRow,
    PassedOverRow,
    Pulse,
    Release,
    ReleaseImage,
    RingRow,
    Rollout,
)

Row = Mapping[str, Any]


async def add_rollout(connection: AsyncConnection, values: dict[str, Any], rings: Sequence[str]) -> int:
    """Adds a rollout with its rings, all closed; returns its id."""
    done = await connection.execute(insert(Rollout).values(**values).returning(Rollout.id))
    rollout_id = int(done.scalar_one())
    await add_rings(connection, rollout_id, rings)
    return rollout_id


async def add_rings(connection: AsyncConnection, rollout_id: int, names: Sequence[str], first: int = 0) -> None:
    """Adds rings from position ``first`` on, all closed; closed ones that stood there before are replaced."""
    await connection.execute(delete(RingRow).where(RingRow.rollout_id == rollout_id, RingRow.position >= first))
    rows = [
        {"rollout_id": rollout_id, "position": n, "name": name, "state": "closed", "planned": 0}
        for n, name in enumerate(names, first)
    ]
    if rows:
        await connection.execute(insert(RingRow), rows)


async def find_by_request(connection: AsyncConnection, request_key: str | None) -> int | None:
    """The rollout that a request with this idempotency key made; None without a key."""
    if request_key is None:
        return None
    return await connection.scalar(select(Rollout.id).where(Rollout.request_key == request_key))


async def list_rollouts(
    connection: AsyncConnection,
    *,
    rollout_id: int | None = None,
    live: bool = False,
    after: int | None = None,
    limit: int = 50,
) -> list[Row]:
    """Rollouts, newest first, with the name of their release (``board``, ``line``, ``version``) and its ``images``:
    name of the component, digest, version and size."""
    images = (
        select(
            func.jsonb_agg(
                func.jsonb_build_object(
                    "name", ReleaseImage.component, "digest", ReleaseImage.digest, "version", ReleaseImage.version,
                    "position", ReleaseImage.position, "size", ImageRow.size,
                )
            )
        )
        .join(ImageRow, ImageRow.digest == ReleaseImage.digest)
        .where(ReleaseImage.release_id == Release.id)
        .scalar_subquery()
    )  # fmt: skip
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
            Release.independent,
            Release.manifest_digest,
            images.label("images"),
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


async def rollbacks_of(connection: AsyncConnection, ids: Sequence[int]) -> dict[int, list[int]]:
    """The rollbacks of each of these rollouts."""
    statement = select(Rollout.rolls_back, Rollout.id).where(Rollout.rolls_back.in_(list(ids))).order_by(Rollout.id)
    found: dict[int, list[int]] = {}
    for row in await connection.execute(statement):
        found.setdefault(row.rolls_back, []).append(row.id)
    return found


async def count_harm(connection: AsyncConnection, ids: Sequence[int]) -> dict[int, dict[str, int]]:
    """For each of these rollouts, its attempts that were ever bad, by why they first were."""
    why = func.coalesce(AttemptRow.harmed_why, AttemptRow.undelivered_why)
    ever = or_(AttemptRow.harmed_at.is_not(None), AttemptRow.undelivered_at.is_not(None))
    statement = (
        select(AttemptRow.rollout_id, why.label("why"), func.count().label("devices"))
        .where(AttemptRow.rollout_id.in_(list(ids)), ever)
        .group_by(AttemptRow.rollout_id, why)
    )
    found: dict[int, dict[str, int]] = {}
    for row in await connection.execute(statement):
        found.setdefault(row.rollout_id, {})[row.why] = row.devices
    return found


async def rollout_states(connection: AsyncConnection, ids: set[int]) -> dict[int, str]:
    """The state of each of these rollouts; true for as long as the caller holds their gates."""
    statement = select(Rollout.id, Rollout.state).where(Rollout.id.in_(sorted(ids)))
    return {row.id: row.state for row in await connection.execute(statement)}


async def move_rollout(connection: AsyncConnection, rollout_id: int, state: RolloutState, **values: Any) -> None:
    """Writes a rollout's new state; the caller holds its gate exclusively."""
    await connection.execute(update(Rollout).where(Rollout.id == rollout_id).values(state=state.value, **values))


async def change_rollout(connection: AsyncConnection, rollout_id: int, **values: Any) -> None:
    """Writes other columns of a rollout; the caller holds its gate exclusively."""
    await connection.execute(update(Rollout).where(Rollout.id == rollout_id).values(**values))


async def note_targeted(connection: AsyncConnection, rollout_id: int, targeted: int) -> None:
    """Writes down how many devices a rollout is for."""
    await connection.execute(update(Rollout).where(Rollout.id == rollout_id).values(targeted=targeted))


async def standing(connection: AsyncConnection, ids: set[int]) -> dict[int, tuple[str, int]]:
    """State and revision of each of these rollouts; true for as long as the caller holds their gates."""
    statement = select(Rollout.id, Rollout.state, Rollout.revision).where(Rollout.id.in_(sorted(ids)))
    return {row.id: (row.state, row.revision) for row in await connection.execute(statement)}


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
    """Attempts of these rollouts counted by ring, state, reason and what they wait for: ``attempts``, ``exposed``,
    ``live``, ``ever_bad``, and ``percents``, the sum of how much of its image each device has, in %."""
    has_it = [
        s.value for s in (State.STAGED, *AT_RISK, State.CONFIRMED, State.REVERTED, State.RELAPSED, State.ROLLED_BACK)
    ]
    percent = case((AttemptRow.state.in_(has_it), 100), else_=func.coalesce(AttemptRow.percent, 0))
    ever_bad = or_(AttemptRow.harmed_at.is_not(None), AttemptRow.undelivered_at.is_not(None))
    keys = (AttemptRow.rollout_id, AttemptRow.ring, AttemptRow.state, AttemptRow.reason, AttemptRow.waiting_for)
    statement = (
        select(
            *keys,
            func.count().label("attempts"),
            func.count(AttemptRow.exposed_at).label("exposed"),
            func.count().filter(AttemptRow.live).label("live"),
            func.count().filter(ever_bad).label("ever_bad"),
            func.sum(percent).label("percents"),
        )
        .where(AttemptRow.rollout_id.in_(ids))
        .group_by(*keys)
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


async def ring_progress(
    connection: AsyncConnection, rollout_id: int, now: datetime, serving_since: datetime, answer_within: timedelta
) -> list[RingProgress]:
    """The counts ``decide`` needs, ring by ring.

    A soak is over once its time is and the device has called since; one that does not is waited for until it counts
    as silent."""
    undecided = and_(AttemptRow.live, AttemptRow.offered_at.is_not(None), AttemptRow.state != State.QUEUED.value)
    asked = or_(AttemptRow.offered_at.is_not(None), Pulse.seen_at >= RingRow.opened_at)
    grace = func.make_interval(0, 0, 0, 0, 0, 0, Pulse.interval_s * LATE_AFTER)
    expected = and_(
        AttemptRow.state == State.QUEUED.value,
        AttemptRow.live,
        func.greatest(Pulse.seen_at, RingRow.opened_at) + grace > now,
    )
    heard = func.greatest(Pulse.seen_at, cast(serving_since, AttemptRow.__table__.c.soak_until.type))
    witnessed = or_(AttemptRow.soak_s == 0, Pulse.seen_at >= AttemptRow.soak_until)
    soaks = case(
        (witnessed, AttemptRow.soak_until),
        else_=func.greatest(AttemptRow.soak_until, heard + cast(answer_within, INTERVAL)),
    )
    statement = (
        select(
            RingRow.position,
            RingRow.state,
            func.count().filter(undecided).label("undecided"),
            func.count().filter(expected).label("expected"),
            func.count(AttemptRow.id).filter(asked).label("asked"),
            func.count().filter(AttemptRow.state == State.CONFIRMED.value).label("good"),
            func.count().filter(AttemptRow.live).label("live"),
            func.max(soaks).filter(AttemptRow.state == State.CONFIRMED.value).label("soak_until"),
            func.count(AttemptRow.id).label("targeted"),
        )
        .outerjoin(AttemptRow, and_(AttemptRow.rollout_id == RingRow.rollout_id, AttemptRow.ring == RingRow.position))
        .outerjoin(Pulse, Pulse.device_id == AttemptRow.device_id)
        .where(RingRow.rollout_id == rollout_id)
        .group_by(RingRow.position, RingRow.state)
        .order_by(RingRow.position)
    )
    return [
        RingProgress(RingState(r.state), r.undecided, r.expected, r.asked, r.good, r.soak_until, r.live, r.targeted)
        for r in await connection.execute(statement)
    ]


async def unheard(
    connection: AsyncConnection, rollout_id: int, now: datetime, answer_within: timedelta, limit: int = 5000
) -> tuple[Unheard, ...]:
    """Attempts offered … proving, or bad with tries left, whose device has not called within ``answer_within``.

    Behind a gateway that is being updated itself nobody can call: for those behind it the clock starts anew with every
    step of the gateway's attempt, and as long as the gateway itself is not heard of it stands still, for twice
    ``answer_within`` at the most.
    """
    states = [state.value for state in (UNDER_WAY | BAD) if state is not State.QUEUED]
    gateway, heard, moving = aliased(Device), aliased(Pulse), aliased(AttemptRow)
    stepped = (
        select(func.max(moving.changed_at))
        .where(moving.device_id == gateway.id, moving.exposed_at.is_not(None))
        .correlate(gateway)
        .scalar_subquery()
    )
    since = func.greatest(Pulse.seen_at, stepped)
    statement = (
        select(AttemptRow.id, since.label("heard_at"))
        .join(Pulse, Pulse.device_id == AttemptRow.device_id)
        .join(Device, Device.id == AttemptRow.device_id)
        .outerjoin(gateway, gateway.serial == Device.gateway)
        .outerjoin(heard, heard.device_id == gateway.id)
        .where(
            AttemptRow.rollout_id == rollout_id,
            AttemptRow.state.in_(states),
            AttemptRow.live,
            since < now - answer_within,
            # A gateway that stays away so long does not restart: what is behind it is silent, together.
            or_(
                heard.seen_at.is_(None),
                heard.seen_at >= now - answer_within,
                heard.seen_at < now - 2 * answer_within,
            ),
        )
        .order_by(AttemptRow.id)
        .limit(limit)
    )
    return tuple(Unheard(row.id, row.heard_at) for row in await connection.execute(statement))


async def under_way(connection: AsyncConnection, rollouts: Iterable[int]) -> dict[int, tuple[int, int]]:
    """How many devices of each of these rollouts are downloading (or told to), and how many are at risk."""
    states = [state.value for state in (State.OFFERED, State.DOWNLOADING, *AT_RISK)]
    at_risk = AttemptRow.state.in_([state.value for state in AT_RISK])
    statement = (
        select(
            AttemptRow.rollout_id,
            func.count().filter(~at_risk).label("downloading"),
            func.count().filter(at_risk).label("at_risk"),
        )
        .where(AttemptRow.rollout_id.in_(sorted(set(rollouts))), AttemptRow.state.in_(states))
        .group_by(AttemptRow.rollout_id)
    )
    found = {row.rollout_id: (row.downloading, row.at_risk) for row in await connection.execute(statement)}
    return {rollout_id: found.get(rollout_id, (0, 0)) for rollout_id in rollouts}


async def rings_with_go(connection: AsyncConnection, rollout_id: int) -> frozenset[int]:
    """The positions of the rings for which somebody said go."""
    statement = select(RingRow.position).where(RingRow.rollout_id == rollout_id, RingRow.go_at.is_not(None))
    return frozenset((await connection.execute(statement)).scalars())


async def count_at_risk(connection: AsyncConnection, rollout_id: int) -> int:
    """Devices exposed, not yet confirmed or bad."""
    states = [state.value for state in AT_RISK]
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
