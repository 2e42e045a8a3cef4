"""What the brakes count: devices of a round by ring and watched facts, with one vote for each cluster."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, TypedDict

from sqlalchemy import (
    ColumnElement,
    Double,
    Select,
    SQLColumnExpression,
    String,
    and_,
    case,
    cast,
    exists,
    func,
    or_,
    select,
)
from sqlalchemy.dialects.postgresql import INTERVAL
from sqlalchemy.ext.asyncio import AsyncConnection
from sqlalchemy.orm import aliased

from mellow_herald.core.attempt import State
from mellow_herald.core.decide import Unheard
from mellow_herald.core.plan import BrakeKind
from mellow_herald.store.database import fetch_all
from mellow_herald.store.hurt import HURT_AT, IS_HURT
from mellow_herald.store.rings import NO_VALUE
from mellow_herald.store.tables import AttemptRow, Device, DeviceEvent, Pulse, RingSlice


@dataclass(frozen=True, slots=True)
class CountedAlike:
    """Devices of a ring with the same ``values`` of the watched facts: how many count (``seen``) and are ``bad``, and
    when the first began to count; ``later_good`` are those of the bad that came through on a later try; ``at`` is the
    step of time, where it is counted by steps."""

    ring: int
    values: tuple[str, ...]
    seen: int
    bad: int
    first_at: datetime
    later_good: int = 0
    at: datetime | None = None


class Signals(TypedDict):
    """How many ``devices`` were heard of, and how many of them ``restarted``, ``fell_silent`` or either (``bad``)."""

    devices: int
    restarted: int
    fell_silent: int
    bad: int


# When a device begins to count for a brake, and when it first went bad for it.
COUNTED = {
    BrakeKind.FIRMWARE: (AttemptRow.exposed_at, HURT_AT),
    BrakeKind.DELIVERY: (AttemptRow.offered_at, AttemptRow.undelivered_at),
}
# Whether it did, as an index can answer it.
IS_BAD = {BrakeKind.FIRMWARE: IS_HURT, BrakeKind.DELIVERY: AttemptRow.undelivered_at.is_not(None)}


# Who was bad for a brake and came through all the same: delivered is who was exposed or has it staged by now.
CAME_THROUGH = {
    # Whom people complain about has not come through, whatever the device says.
    BrakeKind.FIRMWARE: and_(AttemptRow.state == State.CONFIRMED.value, AttemptRow.evidence_at.is_(None)),
    BrakeKind.DELIVERY: or_(AttemptRow.exposed_at.is_not(None), AttemptRow.state == State.STAGED.value),
}


def fact_key(name: str) -> str:
    """Under which key an attempt keeps a fact."""
    return {"from_version": "version"}.get(name, name.removeprefix("label."))


async def count_bad(connection: AsyncConnection, rollout_id: int, since: datetime | None) -> int:
    """Devices of a rollout that were ever bad, of those that count in the round that began ``since``."""
    if since is None:
        return 0
    rounds = [and_(begins >= since, IS_BAD[kind]) for kind, (begins, _) in COUNTED.items()]
    statement = select(func.count()).where(AttemptRow.rollout_id == rollout_id, or_(*rounds))
    return int(await connection.scalar(statement) or 0)


async def tally(
    connection: AsyncConnection, rollout_id: int, kind: BrakeKind, facts: Sequence[str], since: datetime
) -> list[CountedAlike]:
    """Devices that count for a brake since the round began, grouped by ring and watched facts."""
    begins, _ = COUNTED[kind]
    voting = _voting(rollout_id, kind, since)
    keys: list[SQLColumnExpression[Any]] = [AttemptRow.ring, *fact_columns(facts)]
    statement = (
        select(
            *keys,
            func.count().label("seen"),
            func.count(voting.c.id).label("bad"),
            func.min(begins).label("first_at"),
            func.count(voting.c.id).filter(CAME_THROUGH[kind]).label("later_good"),
        )
        .outerjoin(voting, voting.c.id == AttemptRow.id)
        .where(AttemptRow.rollout_id == rollout_id, begins >= since)
        .group_by(*keys)
    )
    return [
        CountedAlike(row.ring, fact_values(row, facts), row.seen, row.bad, row.first_at, row.later_good)
        for row in await connection.execute(statement)
    ]


async def tally_over_time(
    connection: AsyncConnection,
    rollout_id: int,
    kind: BrakeKind,
    facts: Sequence[str],
    since: datetime,
    step: timedelta,
) -> list[CountedAlike]:
    """The same by steps of time: in which step (``at``) how many began to count (``seen``) and went bad (``bad``)."""
    begins, went_bad = COUNTED[kind]
    voting = _voting(rollout_id, kind, since)
    keys: list[SQLColumnExpression[Any]] = [AttemptRow.ring, *fact_columns(facts)]
    width = cast(step, INTERVAL)
    counted: list[CountedAlike] = []
    for name, at in (("seen", begins), ("bad", went_bad)):
        bin_ = func.date_bin(width, at, since).label("at")
        statement: Select[Any] = select(*keys, bin_, func.count().label("devices"), func.min(begins).label("first_at"))
        if name == "bad":
            statement = statement.join(voting, voting.c.id == AttemptRow.id)
        statement = statement.where(AttemptRow.rollout_id == rollout_id, begins >= since).group_by(*keys, bin_)
        for row in await connection.execute(statement):
            seen, bad = (row.devices, 0) if name == "seen" else (0, row.devices)
            counted.append(CountedAlike(row.ring, fact_values(row, facts), seen, bad, row.first_at, at=row.at))
    return counted


def fact_values(row: Any, facts: Sequence[str]) -> tuple[str, ...]:
    """The values of the watched facts in a row that has ``fact_columns``."""
    return tuple(row._mapping[f"fact{n}"] for n in range(len(facts)))


def fact_columns(facts: Sequence[str]) -> list[ColumnElement[str]]:
    """Columns of the watched facts, as attempts have kept them."""
    return [
        func.coalesce(AttemptRow.facts[fact_key(name)].astext, NO_VALUE).label(f"fact{n}")
        for n, name in enumerate(facts)
    ]


def _voting(rollout_id: int, kind: BrakeKind, since: datetime) -> Any:
    """The bad devices with a vote: of a cluster the one that went bad first."""
    begins, went_bad = COUNTED[kind]
    own = func.concat("#", cast(AttemptRow.id, String))
    turn = func.row_number().over(
        partition_by=func.coalesce(AttemptRow.cluster, own), order_by=(went_bad, AttemptRow.id)
    )
    bad = (
        select(AttemptRow.id, turn.label("turn"))
        .where(AttemptRow.rollout_id == rollout_id, begins >= since, IS_BAD[kind])
        .subquery()
    )
    return select(bad.c.id).where(bad.c.turn == 1).subquery()


async def quiet(
    connection: AsyncConnection, rollout_id: int, now: datetime, answer_within: timedelta, limit: int = 5000
) -> tuple[Unheard, ...]:
    """Confirmed attempts whose device was last heard within its soak, longer ago than ``answer_within``."""
    statement = (
        select(AttemptRow.id, Pulse.seen_at)
        .join(Pulse, Pulse.device_id == AttemptRow.device_id)
        .where(
            AttemptRow.rollout_id == rollout_id,
            AttemptRow.state == State.CONFIRMED.value,
            AttemptRow.closed.is_(False),
            AttemptRow.soak_s > 0,
            Pulse.seen_at < AttemptRow.soak_until,
            Pulse.seen_at < now - answer_within,
        )
        .order_by(AttemptRow.id)
        .limit(limit)
    )
    return tuple(Unheard(row.id, row.seen_at) for row in await connection.execute(statement))


async def silent_gateways(connection: AsyncConnection, attempts: Sequence[int], before: datetime) -> dict[int, str]:
    """Which of these attempts' devices are behind a gateway that was itself not heard since ``before``."""
    gateway, heard = Device.__table__.alias(), Pulse.__table__.alias()
    statement = (
        select(AttemptRow.id, Device.gateway)
        .join(Device, Device.id == AttemptRow.device_id)
        .join(gateway, gateway.c.serial == Device.gateway)
        .join(heard, heard.c.device_id == gateway.c.id)
        .where(AttemptRow.id.in_(list(attempts)), heard.c.seen_at < before)
    )
    return {row.id: row.gateway for row in await connection.execute(statement)}


async def control(
    connection: AsyncConnection, rollout_id: int, since: datetime, now: datetime, answer_within: timedelta
) -> Signals:
    """The same signals among devices of the rollout that were not exposed, in the same hours."""
    given = select(AttemptRow.device_id).where(AttemptRow.rollout_id == rollout_id, AttemptRow.exposed_at.is_(None))
    drawn = select(func.unnest(RingSlice.devices)).where(RingSlice.rollout_id == rollout_id, RingSlice.given.is_(False))
    return await signals_among(connection, or_(Device.id.in_(given), Device.id.in_(drawn)), since, now, answer_within)


async def updated(
    connection: AsyncConnection, rollout_id: int, since: datetime, now: datetime, answer_within: timedelta
) -> Signals:
    """These signals among exposed devices that have confirmed: restarts are those after that. Who switched once more
    since, back or to something else, restarted for that."""
    later = aliased(AttemptRow)
    switched_again = exists(
        select(1).where(
            later.device_id == AttemptRow.device_id, later.id > AttemptRow.id, later.exposed_at.is_not(None)
        )
    )
    given = select(AttemptRow.device_id).where(
        AttemptRow.rollout_id == rollout_id,
        AttemptRow.exposed_at >= since,
        AttemptRow.confirmed_at.is_not(None),
        ~switched_again,
    )
    after = select(AttemptRow.confirmed_at).where(
        AttemptRow.rollout_id == rollout_id, AttemptRow.device_id == Device.id
    )
    return await signals_among(
        connection, Device.id.in_(given), since, now, answer_within, after.correlate(Device).scalar_subquery()
    )


async def signals_among(
    connection: AsyncConnection,
    who: ColumnElement[bool],
    since: datetime,
    now: datetime,
    answer_within: timedelta,
    after: Any = None,
) -> Signals:
    """How many of these devices restarted or fell silent since then; restarts only ``after`` a time of each, if that is
    given."""
    restarted = exists(
        select(1).where(
            DeviceEvent.device_id == Device.id,
            DeviceEvent.what == "restarted",
            DeviceEvent.at >= since,
            *(() if after is None else (DeviceEvent.at > after,)),
        )
    )
    silent = Pulse.seen_at < now - answer_within
    statement = (
        select(
            func.count().label("devices"),
            func.count().filter(restarted).label("restarted"),
            func.count().filter(silent).label("fell_silent"),
            func.count().filter(or_(restarted, silent)).label("bad"),
        )
        .select_from(Device)
        .join(Pulse, Pulse.device_id == Device.id)
        # Who was away before the round began tells nothing about its hours.
        .where(who, Pulse.seen_at >= since - answer_within)
    )
    (signals,) = await fetch_all(connection, statement, Signals)
    return signals


async def readings_beside(
    connection: AsyncConnection, rollout_id: int, name: str, since: datetime
) -> dict[bool, tuple[int, float | None]]:
    """How many devices report a reading, and its median now: {exposed in this round: (devices, median)}."""
    number = case((func.jsonb_typeof(Pulse.readings[name]) == "number", Pulse.readings[name].astext))
    value = cast(number, Double)
    exposed = AttemptRow.exposed_at.is_not(None).label("exposed")
    statement = (
        select(
            exposed,
            func.count(value).label("devices"),
            func.percentile_cont(0.5).within_group(value).label("median"),
        )
        .join(Pulse, Pulse.device_id == AttemptRow.device_id)
        .where(
            AttemptRow.rollout_id == rollout_id,
            or_(AttemptRow.exposed_at.is_(None), AttemptRow.exposed_at >= since),
        )
        .group_by(exposed)
    )
    return {row.exposed: (row.devices, row.median) for row in await connection.execute(statement)}
