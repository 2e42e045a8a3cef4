"""Waves of a harm budget, and what became of the devices that were given leave under it."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, TypedDict

from sqlalchemy import ColumnElement, and_, case, func, insert, or_, select
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import AT_RISK, State
from mellow_herald.core.harm.budget import HarmBudget
from mellow_herald.core.harm.waves import Counts, HarmProgress, Wave
from mellow_herald.core.plan import Plan
from mellow_herald.store.brakes import fact_columns, fact_key, fact_values, signals_among
from mellow_herald.store.database import fetch_all, fetch_one
from mellow_herald.store.hurt import IS_HURT, count_hurt
from mellow_herald.store.progress import soak_ends
from mellow_herald.store.rings import Target
from mellow_herald.store.selector_sql import compile_selector
from mellow_herald.store.tables import AttemptRow, HarmWave, Pulse

Values = tuple[str, ...]


class StoredWave(TypedDict):
    """A row of ``tables.HarmWave``."""

    rollout_id: int
    number: int
    began_at: datetime
    size: int
    room: int
    rate: float
    by_value: list[list[Any]]
    of_new: int
    hurt: int
    decided: int


@dataclass(frozen=True, slots=True)
class InWave:
    """Devices of a wave with the same ``values`` of the watched facts and of the same ``cluster``."""

    values: Values
    cluster: str | None
    devices: int


def to_wave(row: StoredWave) -> Wave:
    """The core's wave behind a row."""
    by_value = {(fact, value): devices for fact, value, devices in row["by_value"]}
    return Wave(
        row["number"], row["size"], row["room"], row["rate"], by_value, row["of_new"], row["hurt"], row["decided"]
    )


async def add_wave(connection: AsyncConnection, rollout_id: int, wave: Wave, now: datetime) -> None:
    """Writes down a wave that begins."""
    row = {
        "rollout_id": rollout_id,
        "number": wave.number,
        "began_at": now,
        "size": wave.size,
        "room": wave.room,
        "rate": wave.rate,
        "by_value": [[fact, value, devices] for (fact, value), devices in wave.by_value.items()],
        "of_new": wave.of_new,
        "hurt": wave.hurt,
        "decided": wave.decided,
    }
    await connection.execute(insert(HarmWave).values(row))


async def list_waves(connection: AsyncConnection, rollout_id: int) -> Sequence[StoredWave]:
    """A rollout's waves so far, in order."""
    statement = select(HarmWave.__table__).where(HarmWave.rollout_id == rollout_id).order_by(HarmWave.number)
    return await fetch_all(connection, statement, StoredWave)


async def last_wave(connection: AsyncConnection, rollout_id: int) -> Wave | None:
    """The wave that goes on; None before the first."""
    statement = (
        select(HarmWave.__table__).where(HarmWave.rollout_id == rollout_id).order_by(HarmWave.number.desc()).limit(1)
    )
    row = await fetch_one(connection, statement, StoredWave)
    return None if row is None else to_wave(row)


async def in_wave(
    connection: AsyncConnection, rollout_id: int, number: int, facts: Sequence[str], cluster_by: str | None
) -> list[InWave]:
    """Whom a wave was given to, by watched facts and cluster."""
    keys = [*fact_columns(facts), _cluster(cluster_by).label("cluster")]
    statement = (
        select(*keys, func.count().label("devices"))
        .where(AttemptRow.rollout_id == rollout_id, AttemptRow.wave == number)
        .group_by(*keys)
    )
    rows = await connection.execute(statement)
    return [InWave(fact_values(row, facts), row.cluster, row.devices) for row in rows]


async def count_at_worst(connection: AsyncConnection, rollouts: Iterable[int]) -> dict[int, int]:
    """How many devices of each of these rollouts were ever hurt or are at risk now."""
    at_risk = AttemptRow.state.in_([state.value for state in AT_RISK])
    statement = (
        select(AttemptRow.rollout_id, func.count().label("devices"))
        .where(AttemptRow.rollout_id.in_(sorted(set(rollouts))), or_(IS_HURT, at_risk))
        .group_by(AttemptRow.rollout_id)
    )
    return {row.rollout_id: row.devices for row in await connection.execute(statement)}


@dataclass(frozen=True, slots=True)
class Standing:
    """How a budget stands: devices ``hurt`` in all rounds, the last wave, whom that was ``given`` to (devices, or
    clusters), and how many devices of it are ``undecided``."""

    hurt: int
    wave: StoredWave | None
    given: int = 0
    undecided: int = 0


async def standing(connection: AsyncConnection, rollout_id: int, plan: Plan, now: datetime) -> Standing:
    """How a rollout's budget stands, from a few rows however large the rollout is."""
    budget = plan.harm
    assert budget is not None, "only where there is a budget"
    hurt = await count_hurt(connection, rollout_id)
    waves = await list_waves(connection, rollout_id)
    if not waves:
        return Standing(hurt, None)
    what = AttemptRow.id if budget.cluster_by is None else _cluster(budget.cluster_by)
    statement = (
        select(
            func.count(func.distinct(what)).label("given"),
            func.count().filter(~IS_HURT, ~_decided(plan, now, None)).label("undecided"),
        )
        .select_from(AttemptRow)
        .outerjoin(Pulse, Pulse.device_id == AttemptRow.device_id)
        .where(AttemptRow.rollout_id == rollout_id, AttemptRow.wave == waves[-1]["number"])
    )
    row = (await connection.execute(statement)).one()
    return Standing(hurt, waves[-1], row.given, row.undecided)


async def load_progress(
    connection: AsyncConnection,
    rollout_id: int,
    plan: Plan,
    foreseen: dict[str, list[str]],
    now: datetime,
    serving_since: datetime | None = None,
) -> HarmProgress:
    """What is known of the devices that were given leave: in this rollout, whichever round it was.

    Who was called off before it ran the image, by a halt or because somebody else had a hand in it, tells nothing.
    """
    budget = plan.harm
    assert budget is not None, "only where there is a budget"
    facts = list(foreseen)
    decided = _decided(plan, now, serving_since)
    at_risk = AttemptRow.state.in_([state.value for state in AT_RISK])
    counted = (
        select(
            *fact_columns(facts),
            _cluster(budget.cluster_by).label("cluster"),
            AttemptRow.id,
            AttemptRow.wave,
            AttemptRow.exposed_at,
            IS_HURT.label("hurt"),
            and_(~IS_HURT, ~decided).label("undecided"),
            at_risk.label("at_risk"),
        )
        .outerjoin(Pulse, Pulse.device_id == AttemptRow.device_id)
        .where(
            AttemptRow.rollout_id == rollout_id,
            AttemptRow.exposed_at.is_not(None),
            or_(IS_HURT, AttemptRow.state != State.CALLED_OFF.value),
        )
        .subquery()
    )
    keys = [counted.c[f"fact{n}"] for n in range(len(facts))]
    statement = (
        select(
            *keys,
            func.count().label("seen"),
            func.count().filter(counted.c.hurt).label("bad"),
            func.count().filter(counted.c.undecided).label("undecided"),
            func.count().filter(counted.c.at_risk).label("at_risk"),
            func.min(counted.c.exposed_at).label("first_at"),
        )
        .group_by(*keys)
        .order_by(func.min(counted.c.exposed_at))
    )
    rows = list(await connection.execute(statement))
    values: dict[tuple[str, str], Counts] = {}
    for row in rows:
        for key in zip(facts, fact_values(row, facts), strict=True):
            before = values.get(key, Counts())
            values[key] = Counts(before.seen + row.seen, before.bad + row.bad, before.undecided + row.undecided)
    devices = Counts(sum(row.seen for row in rows), sum(row.bad for row in rows), sum(row.undecided for row in rows))
    waves = await list_waves(connection, rollout_id)
    wave = to_wave(waves[-1]) if waves else None
    return HarmProgress(
        devices,
        devices if budget.cluster_by is None else await _units(connection, counted),
        values,
        foreseen,
        at_risk=sum(row.at_risk for row in rows),
        wave=wave,
        in_wave=Counts() if wave is None else await _of_wave(connection, rollout_id, wave, budget),
        beyond=sum(one["size"] > one["room"] for one in waves),
    )


def _decided(plan: Plan, now: datetime, serving_since: datetime | None) -> ColumnElement[bool]:
    """Whether a device that was not hurt is good for good: through its soak; or nothing more is expected of it."""
    soaked = and_(AttemptRow.state == State.CONFIRMED.value, soak_ends(plan, serving_since) <= now)
    return or_(soaked, AttemptRow.state.in_([State.CALLED_OFF.value, State.ROLLED_BACK.value]))


async def _units(connection: AsyncConnection, counted: Any) -> Counts:
    """Clusters, each once a wave: bad with its first bad device."""
    unit = (
        select(func.bool_or(counted.c.hurt).label("hurt"), func.bool_or(counted.c.undecided).label("undecided"))
        .group_by(counted.c.wave, counted.c.cluster)
        .subquery()
    )
    statement = select(
        func.count().label("seen"),
        func.count().filter(unit.c.hurt).label("bad"),
        func.count().filter(and_(unit.c.undecided, ~unit.c.hurt)).label("undecided"),
    ).select_from(unit)
    row = (await connection.execute(statement)).one()
    return Counts(row.seen, row.bad, row.undecided)


async def _of_wave(connection: AsyncConnection, rollout_id: int, wave: Wave, budget: HarmBudget) -> Counts:
    """How much of a wave was given: devices, or clusters, whatever became of them."""
    what = AttemptRow.id if budget.cluster_by is None else _cluster(budget.cluster_by)
    statement = select(func.count(func.distinct(what))).where(
        AttemptRow.rollout_id == rollout_id, AttemptRow.wave == wave.number
    )
    return Counts(int(await connection.scalar(statement) or 0))


def cluster_of(facts: dict[str, str], attempt_id: int, cluster_by: str | None) -> str | None:
    """By which cluster a device counts; one that has no value is a cluster of its own."""
    return None if cluster_by is None else facts.get(fact_key(cluster_by)) or f"#{attempt_id}"


def _cluster(cluster_by: str | None) -> ColumnElement[Any]:
    if cluster_by is None:
        return case((AttemptRow.id.is_(None), ""))
    own = func.concat("#", AttemptRow.id)
    return func.coalesce(AttemptRow.facts[fact_key(cluster_by)].astext, own)


async def background(
    connection: AsyncConnection, target: Target, since: datetime, now: datetime, answer_within: timedelta
) -> tuple[int, int]:
    """How many targeted devices were heard of lately, and how many of them restarted or fell silent since, as things go
    without a release."""
    signals = await signals_among(connection, compile_selector(target.where, now), since, now, answer_within)
    return signals["devices"], signals["bad"]
