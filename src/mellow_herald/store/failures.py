"""The tries of a rollout that went bad, each with what its device said."""

from collections.abc import Sequence
from datetime import datetime
from typing import Any, TypedDict

from sqlalchemy import case, func, select
from sqlalchemy.dialects.postgresql import aggregate_order_by, distinct_on
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import BAD
from mellow_herald.core.selector import Node
from mellow_herald.store.database import fetch_all
from mellow_herald.store.selector_sql import compile_selector
from mellow_herald.store.tables import AttemptEvent, AttemptRow, Device, Rollout


class FailedTry(TypedDict):
    """A try that went bad: its ``reason``, ``detail``, failed ``tests`` and ``log`` as its device told them, or as the
    service saw it; ``state`` and ``tries`` are those of the attempt now."""

    attempt_id: int
    serial: str
    hw_rev: int
    ring: int
    state: str
    from_version: str | None
    facts: dict[str, str]
    at: datetime
    try_number: int
    tries: int
    reason: str | None
    said_by: str
    component: str | None
    detail: str
    tests: list[dict[str, Any]]
    log: str
    left_out: bool


class FailedPart(TypedDict):
    """A component that went bad for a reason of its own: on how many devices of a ring, and the first of them with what
    it said first."""

    rollout_id: int
    ring: int
    part: str
    devices: int
    serial: str
    attempt_id: int
    line: str


async def failed_parts(connection: AsyncConnection, rollout_ids: Sequence[int]) -> list[FailedPart]:
    """Which components went bad in these rollouts, ring by ring, those on most devices first. Once is for ever: a later
    try does not take it back."""
    told = (
        select(
            AttemptRow.rollout_id,
            AttemptRow.ring,
            AttemptEvent.component.label("part"),
            AttemptRow.id.label("attempt_id"),
            Device.serial,
            func.coalesce(func.nullif(AttemptEvent.detail, ""), AttemptEvent.reason).label("line"),
            AttemptEvent.id.label("event_id"),
        )
        .join(AttemptRow, AttemptRow.id == AttemptEvent.attempt_id)
        .join(Device, Device.id == AttemptRow.device_id)
        .where(
            AttemptRow.rollout_id.in_(rollout_ids),
            AttemptRow.first_bad_at.is_not(None),
            AttemptEvent.component.is_not(None),
            AttemptEvent.reason.is_not(None),
        )
        .subquery()
    )
    first = func.array_agg(aggregate_order_by(told.c.event_id, told.c.event_id))[1].label("event_id")
    counts = (
        select(
            told.c.rollout_id,
            told.c.ring,
            told.c.part,
            func.count(told.c.attempt_id.distinct()).label("devices"),
            first,
        )
        .group_by(told.c.rollout_id, told.c.ring, told.c.part)
        .subquery()
    )
    statement = (
        select(
            counts.c.rollout_id,
            counts.c.ring,
            counts.c.part,
            counts.c.devices,
            told.c.serial,
            told.c.attempt_id,
            told.c.line,
        )
        .join(told, told.c.event_id == counts.c.event_id)
        .order_by(counts.c.devices.desc(), counts.c.ring, counts.c.part)
    )
    return await fetch_all(connection, statement, FailedPart) if rollout_ids else []


async def failed_images(connection: AsyncConnection, release_id: int) -> dict[str, int]:
    """On how many devices each component of a release went bad for a reason of its own, in all its rollouts."""
    statement = (
        select(AttemptEvent.component, func.count(AttemptEvent.attempt_id.distinct()).label("devices"))
        .join(AttemptRow, AttemptRow.id == AttemptEvent.attempt_id)
        .join(Rollout, Rollout.id == AttemptRow.rollout_id)
        .where(
            func.coalesce(AttemptRow.release_id, Rollout.release_id) == release_id,
            AttemptRow.first_bad_at.is_not(None),
            AttemptEvent.component.is_not(None),
            AttemptEvent.reason.is_not(None),
        )
        .group_by(AttemptEvent.component)
    )
    return {row.component: row.devices for row in await connection.execute(statement)}


async def failed_tries(
    connection: AsyncConnection,
    rollout_id: int,
    *,
    reason: str | None = None,
    where: Node | None = None,
    now: datetime | None = None,
    after: int = 0,
    limit: int = 200,
) -> list[FailedTry]:
    """What went bad of up to ``limit`` devices whose attempt has an id above ``after``, one entry for each try of
    theirs, in order."""
    bad = select(AttemptRow.id).where(
        AttemptRow.rollout_id == rollout_id, AttemptRow.first_bad_at.is_not(None), AttemptRow.id > after
    )
    if reason is not None:
        bad = bad.where(AttemptRow.first_bad_why == reason)
    if where is not None:
        bad = bad.join(Device, Device.id == AttemptRow.device_id).where(compile_selector(where, now))
    chosen = bad.order_by(AttemptRow.id).limit(limit).subquery()
    # Of one try the service may have inferred something before the device came to say it: its own word goes first.
    own = case((AttemptEvent.said_by == "device", 0), else_=1)
    # And what it said of the part that failed, with that part's own log, before what it said of the whole.
    part = case((AttemptEvent.component.is_not(None) & AttemptEvent.reason.is_not(None), 0), else_=1)
    told = (
        select(AttemptEvent.__table__)
        .ext(distinct_on(AttemptEvent.attempt_id, AttemptEvent.try_number))
        .where(AttemptEvent.attempt_id.in_(select(chosen.c.id)), AttemptEvent.state.in_([one.value for one in BAD]))
        .order_by(AttemptEvent.attempt_id, AttemptEvent.try_number, own, part, AttemptEvent.id.desc())
        .subquery()
    )
    statement = (
        select(
            AttemptRow.id.label("attempt_id"),
            Device.serial,
            Device.hw_rev,
            AttemptRow.ring,
            AttemptRow.state,
            AttemptRow.from_version,
            AttemptRow.facts,
            func.coalesce(told.c.at, AttemptRow.first_bad_at).label("at"),
            func.coalesce(told.c.try_number, AttemptRow.first_bad_try, 1).label("try_number"),
            AttemptRow.tries,
            func.coalesce(told.c.reason, told.c.state, AttemptRow.first_bad_why).label("reason"),
            func.coalesce(told.c.said_by, "service").label("said_by"),
            told.c.component,
            func.coalesce(told.c.detail, "").label("detail"),
            func.coalesce(told.c.tests, func.jsonb_build_array()).label("tests"),
            func.coalesce(told.c.log, "").label("log"),
            AttemptRow.left_out,
        )
        .join(Device, Device.id == AttemptRow.device_id)
        .outerjoin(told, told.c.attempt_id == AttemptRow.id)
        .where(AttemptRow.id.in_(select(chosen.c.id)))
        .order_by(AttemptRow.id, "try_number")
    )
    return await fetch_all(connection, statement, FailedTry)
