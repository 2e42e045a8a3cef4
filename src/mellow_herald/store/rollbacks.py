"""Devices that are brought back: where they stand, what they came from, and their attempts."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TypedDict

from sqlalchemy import BigInteger, ColumnElement, Text, and_, cast, exists, func, literal, or_, select
from sqlalchemy.dialects.postgresql import ARRAY, JSONB, insert
from sqlalchemy.ext.asyncio import AsyncConnection
from sqlalchemy.orm import aliased

from mellow_herald.core.attempt import AT_RISK, BAD, State
from mellow_herald.core.plan import Plan
from mellow_herald.core.selector import Node
from mellow_herald.store.database import fetch_all
from mellow_herald.store.rings import frozen_facts
from mellow_herald.store.rows import Contents, StoredAttempt
from mellow_herald.store.selector_sql import compile_selector
from mellow_herald.store.tables import AttemptRow, Device, PassedOverRow, Release, ReleaseImage, Rollout


class LeftDevice(TypedDict):
    """A device as a rollout left it, and which components the rollout ``brings``."""

    attempt_id: int
    device_id: int
    state: str
    ring: int
    from_version: str | None
    from_digest: str | None
    came_from: Contents
    exposed_at: datetime | None
    serial: str
    running: Contents
    version: str | None
    floor: int | None
    standby: Contents
    brings: list[str]


class ImageOf(TypedDict):
    """An image, and its release."""

    component: str
    digest: str
    id: int
    floor: int
    state: str
    kid: str
    cleaned_at: datetime | None
    board: str
    line: str
    version: str


class FormerRelease(ImageOf):
    """A release that devices may have come from, with all its ``images``: component and digest."""

    images: set[tuple[str, str]]


SWITCHED = (State.CONFIRMED, *BAD)


@dataclass(frozen=True, slots=True)
class Scope:
    """Which devices of a rollout are brought back: of one ``ring``, only those that went bad, or those that a selector
    picks."""

    ring: int | None = None
    only_bad: bool = False
    where: Node | None = None


def _within(source: int, scope: Scope, now: datetime) -> ColumnElement[bool]:
    found = AttemptRow.rollout_id == source
    if scope.ring is not None:
        found = and_(found, AttemptRow.ring == scope.ring)
    if scope.only_bad:
        found = and_(found, or_(AttemptRow.first_bad_at.is_not(None), AttemptRow.state.in_([s.value for s in AT_RISK])))
    if scope.where is not None:
        found = and_(found, compile_selector(scope.where, now))
    return found


def _dealt_with(rollback: int) -> ColumnElement[bool]:
    other = aliased(AttemptRow)
    return or_(
        exists(select(1).where(other.rollout_id == rollback, other.device_id == Device.id)),
        exists(select(1).where(PassedOverRow.rollout_id == rollback, PassedOverRow.device_id == Device.id)),
    )


async def count_within(connection: AsyncConnection, source: int, scope: Scope, now: datetime) -> int:
    """How many devices of a rollout are meant."""
    statement = (
        select(func.count())
        .select_from(AttemptRow)
        .join(Device, Device.id == AttemptRow.device_id)
        .where(_within(source, scope, now))
    )
    return int(await connection.scalar(statement) or 0)


async def count_to_come(connection: AsyncConnection, rollback: int, source: int, scope: Scope, now: datetime) -> int:
    """How many of them a rollback has not dealt with yet."""
    statement = (
        select(func.count())
        .select_from(AttemptRow)
        .join(Device, Device.id == AttemptRow.device_id)
        .where(_within(source, scope, now), ~_dealt_with(rollback))
    )
    return int(await connection.scalar(statement) or 0)


async def list_left(
    connection: AsyncConnection,
    source: int,
    scope: Scope,
    now: datetime,
    *,
    rollback: int | None,
    after: int,
    limit: int,
) -> list[LeftDevice]:
    """Devices of a rollout that are meant, by id above ``after``: what they came from and where they stand. With a
    ``rollback`` only those it has not dealt with; those at risk, and those in a live attempt elsewhere, wait."""
    live = aliased(AttemptRow)
    brings = (
        select(func.array_agg(ReleaseImage.component.distinct()))
        .join(Rollout, ReleaseImage.release_id.in_([Rollout.release_id, Rollout.second_release_id]))
        .where(Rollout.id == source)
        .scalar_subquery()
    )
    statement = (
        select(
            AttemptRow.id.label("attempt_id"),
            AttemptRow.device_id,
            AttemptRow.state,
            AttemptRow.ring,
            AttemptRow.from_version,
            AttemptRow.from_digest,
            AttemptRow.came_from,
            AttemptRow.exposed_at,
            Device.serial,
            Device.running,
            Device.version,
            Device.floor,
            Device.standby,
            brings.label("brings"),
        )
        .join(Device, Device.id == AttemptRow.device_id)
        .where(_within(source, scope, now), AttemptRow.device_id > after)
        .order_by(AttemptRow.device_id)
        .limit(limit)
    )
    if rollback is not None:
        busy = exists(select(1).where(live.device_id == Device.id, live.live))
        statement = statement.where(
            ~_dealt_with(rollback), ~busy, AttemptRow.state.not_in([state.value for state in AT_RISK])
        )
    return await fetch_all(connection, statement, LeftDevice)


async def releases_with(connection: AsyncConnection, digests: Sequence[str]) -> list[FormerRelease]:
    """The releases that have any of these images, with all of theirs as ``images`` (component, digest): published ones
    first, and of those the newest."""
    named = select(ReleaseImage.release_id).where(ReleaseImage.digest.in_(list(digests)))
    statement = (
        select(
            ReleaseImage.component,
            ReleaseImage.digest,
            Release.id,
            Release.floor,
            Release.state,
            Release.kid,
            Release.cleaned_at,
            Release.board,
            Release.line,
            Release.version,
        )
        .join(Release, Release.id == ReleaseImage.release_id)
        .where(Release.id.in_(named), Release.state != "draft")
        .order_by((Release.state == "published").desc(), Release.id.desc())
    )
    releases: dict[int, FormerRelease] = {}
    for row in await fetch_all(connection, statement, ImageOf):
        release = releases.setdefault(row["id"], {**row, "images": set()})
        release["images"].add((row["component"], row["digest"]))
    return list(releases.values())


async def give_back(
    connection: AsyncConnection,
    rollback: int,
    plan: Plan,
    ways: Sequence[tuple[int, Mapping[str, str], int | None]],
    now: datetime,
) -> None:
    """Gives devices their attempts to go back: ``ways`` are device id, digests by component, id of the release. Who has
    become part of another rollout in this very moment is left for the next time."""
    if not ways:
        return
    way = (
        func.unnest(
            literal([one[0] for one in ways], ARRAY(BigInteger)),
            literal([json.dumps(dict(one[1])) for one in ways], ARRAY(Text)),
            literal([one[2] for one in ways], ARRAY(BigInteger)),
        )
        .table_valued("device_id", "back_to", "release_id", name="way")
        .render_derived()
    )
    table = AttemptRow.__table__
    values = {
        "rollout_id": rollback,
        "ring": 0,
        "created_at": now,
        "changed_at": now,
        "live": True,
        "state": State.QUEUED.value,
        "waiting_for": "next-check-in",
        "try_number": 1,
        "tries": plan.retries + 1,
        "soak_s": int(plan.rings[0].soak.total_seconds()),
        "retry_pause_s": int(plan.retry_pause.total_seconds()),
        "closed": False,
        "left_out": False,
        "parts": {},
        "before": {},
        "fetched": 0,
        "retry_bad": plan.retry_bad,
        "installs": 0,
        "vouched": False,
    }
    source = (
        select(
            Device.id,
            Device.version,
            Device.digest,
            Device.running,
            frozen_facts(),
            cast(way.c.back_to, JSONB),
            way.c.release_id,
            *(literal(value, table.c[name].type) for name, value in values.items()),
        )
        .join(way, way.c.device_id == Device.id)
        .order_by(Device.id)
    )
    columns = ["device_id", "from_version", "from_digest", "came_from", "facts", "back_to", "back_release_id", *values]
    await connection.execute(insert(AttemptRow).from_select(columns, source).on_conflict_do_nothing())


async def pass_over(connection: AsyncConnection, rollback: int, reasons: Sequence[tuple[int, str]]) -> None:
    """Writes down who gets no attempt, and why."""
    if reasons:
        rows = [{"rollout_id": rollback, "device_id": device_id, "reason": reason} for device_id, reason in reasons]
        await connection.execute(insert(PassedOverRow).on_conflict_do_nothing(), rows)


async def lock_brought_back(connection: AsyncConnection, rollback: int, source: int, limit: int) -> list[StoredAttempt]:
    """Attempts of the first rollout whose devices run again what they came from, and are not shown so yet; locked."""
    back = aliased(AttemptRow)
    confirmed = exists(
        select(1).where(
            back.rollout_id == rollback,
            back.device_id == AttemptRow.device_id,
            back.state == State.CONFIRMED.value,
        )
    )
    already = exists(
        select(1).where(
            PassedOverRow.rollout_id == rollback,
            PassedOverRow.device_id == AttemptRow.device_id,
            PassedOverRow.reason == "already-back",
        )
    )
    statement = (
        select(AttemptRow.__table__)
        .where(
            AttemptRow.rollout_id == source,
            AttemptRow.exposed_at.is_not(None),
            AttemptRow.state.in_([state.value for state in SWITCHED]),
            or_(confirmed, already),
        )
        .order_by(AttemptRow.id)
        .limit(limit)
    )
    return await fetch_all(connection, statement.with_for_update(key_share=True), StoredAttempt)
