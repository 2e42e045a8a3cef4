"""Rehearsals as they are kept, and what is known of devices that a model of them is made of."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, TypedDict

import numpy as np
from sqlalchemy import BigInteger, any_, func, insert, literal, select, update
from sqlalchemy.dialects.postgresql import ARRAY, distinct_on
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import State
from mellow_herald.core.foresight import Words
from mellow_herald.core.selector import Node
from mellow_herald.store.brakes import fact_key
from mellow_herald.store.conditions import load_week
from mellow_herald.store.database import fetch_all, fetch_one
from mellow_herald.store.previewing import MEASURED, size_of_app
from mellow_herald.store.rings import NO_VALUE, frozen_facts
from mellow_herald.store.selector_sql import compile_selector
from mellow_herald.store.tables import AttemptEvent, AttemptRow, Device, Pulse, RehearsalRow, RehearsalState, Rollout

SLICE = 5000


class StoredRehearsal(TypedDict):
    """A row of ``tables.RehearsalRow``."""

    id: int
    name: str
    plan: dict[str, Any]
    plan_digest: str
    faults: list[str]
    runs: int
    seed: int
    people_s: int
    asked_by: str
    asked_at: datetime
    state: str
    progress: float
    beat_at: datetime
    ended_at: datetime | None
    why: str | None
    result: dict[str, Any] | None


@dataclass(frozen=True, slots=True)
class Known:
    """What is known of one device: its check-in interval (s), the rate of its last transfer (bytes a second, from the
    offer until it was staged), the link
    that it was last heard of over, its gateway, and its facts; ``seen`` whether it was ever heard of."""

    device_id: int
    serial: str
    interval_s: int | None
    rate: float | None
    link: str | None
    gateway: str | None
    facts: dict[str, str]
    seen: bool


async def add(connection: AsyncConnection, row: dict[str, Any]) -> int:
    """Writes down a rehearsal that was asked for; returns its number."""
    return int((await connection.execute(insert(RehearsalRow).values(row).returning(RehearsalRow.id))).scalar_one())


async def find(connection: AsyncConnection, rehearsal_id: int) -> StoredRehearsal | None:
    """One rehearsal."""
    statement = select(RehearsalRow.__table__).where(RehearsalRow.id == rehearsal_id)
    return await fetch_one(connection, statement, StoredRehearsal)


async def list_some(
    connection: AsyncConnection, *, plan_digest: str | None = None, before: datetime | None = None, limit: int = 50
) -> Sequence[StoredRehearsal]:
    """Rehearsals, the newest first; those of one plan, and those that were asked for before a time."""
    statement = select(RehearsalRow.__table__).order_by(RehearsalRow.id.desc()).limit(limit)
    if plan_digest is not None:
        statement = statement.where(RehearsalRow.plan_digest == plan_digest)
    if before is not None:
        statement = statement.where(RehearsalRow.asked_at <= before)
    return await fetch_all(connection, statement, StoredRehearsal)


async def move(connection: AsyncConnection, rehearsal_id: int, among: Sequence[RehearsalState], **values: Any) -> bool:
    """Writes how a rehearsal stands, if it stands at one of these; tells whether it did."""
    statement = update(RehearsalRow).where(
        RehearsalRow.id == rehearsal_id, RehearsalRow.state.in_([state.value for state in among])
    )
    return (await connection.execute(statement.values(**values))).rowcount > 0


async def known_of(connection: AsyncConnection, ids: Sequence[int], facts: Sequence[str]) -> list[Known]:
    """What is known of these devices, in their order."""
    found: dict[int, Known] = {}
    for first in range(0, len(ids), SLICE):
        wanted = any_(literal([int(one) for one in ids[first : first + SLICE]], ARRAY(BigInteger)))
        took = func.extract("epoch", AttemptEvent.at - AttemptRow.offered_at)
        last = (
            select(AttemptRow.device_id, (size_of_app() / took).label("rate"))
            .join(Rollout, Rollout.id == AttemptRow.rollout_id)
            .join(AttemptEvent, AttemptEvent.attempt_id == AttemptRow.id)
            .where(
                AttemptRow.device_id == wanted,
                AttemptRow.try_number == 1,
                AttemptEvent.state == State.STAGED.value,
                AttemptEvent.said_by == "device",
                took > 0,
            )
            .ext(distinct_on(AttemptRow.device_id))
            .order_by(AttemptRow.device_id, AttemptRow.id.desc(), AttemptEvent.id)
            .subquery()
        )
        statement = (
            select(
                Device.id,
                Device.serial,
                Device.gateway,
                Pulse.interval_s,
                Pulse.seen_at,
                Pulse.condition["link"].astext.label("link"),
                last.c.rate,
                frozen_facts().label("facts"),
            )
            .outerjoin(Pulse, Pulse.device_id == Device.id)
            .outerjoin(last, last.c.device_id == Device.id)
            .where(Device.id == wanted)
        )
        for row in await connection.execute(statement):
            kept = {name: str(row.facts.get(fact_key(name)) or NO_VALUE) for name in facts}
            found[row.id] = Known(
                row.id,
                row.serial,
                row.interval_s,
                None if row.rate is None else float(row.rate),
                row.link,
                row.gateway,
                kept,
                row.seen_at is not None,
            )
    return [found[int(one)] for one in ids if int(one) in found]


async def weeks_of(connection: AsyncConnection, ids: Sequence[int], now: datetime) -> tuple[Words, list[str | None]]:
    """The hours of the last week of these devices, and their zones, in their order."""
    words, zones = [], []
    for first in range(0, len(ids), SLICE):
        some, tz = await load_week(connection, ids[first : first + SLICE], now)
        words.append(some)
        zones += tz
    return np.concatenate(words) if words else np.zeros((0, 168), np.int16), zones


async def picked(connection: AsyncConnection, ids: Sequence[int], where: Node, now: datetime) -> set[int]:
    """Which of these devices a selector picks."""
    found: set[int] = set()
    for first in range(0, len(ids), SLICE):
        wanted = any_(literal([int(one) for one in ids[first : first + SLICE]], ARRAY(BigInteger)))
        statement = select(Device.id).where(Device.id == wanted, compile_selector(where, now))
        found |= set(await connection.scalars(statement))
    return found


async def switches_took(connection: AsyncConnection, ids: Sequence[int]) -> list[float]:
    """How long these devices' last switches took, from leave to confirmed, in seconds; the newest first."""
    took = func.extract("epoch", AttemptRow.confirmed_at - AttemptRow.exposed_at)
    statement = (
        select(took)
        .where(
            AttemptRow.device_id.in_([int(one) for one in ids[:SLICE]]),
            AttemptRow.state == State.CONFIRMED.value,
            AttemptRow.try_number == 1,
            took > 0,
        )
        .order_by(AttemptRow.id.desc())
        .limit(MEASURED)
    )
    return [float(one) for one in await connection.scalars(statement)]
