"""Alarms that devices raised, and the updates that explain some of them."""

from collections.abc import Sequence
from datetime import datetime
from typing import Any, TypedDict

from sqlalchemy import and_, func, literal, select, text
from sqlalchemy.ext.asyncio import AsyncConnection
from sqlalchemy.orm import aliased

from mellow_herald.core.alarms import UpdateTime
from mellow_herald.core.attempt import AT_RISK, State
from mellow_herald.core.duration import parse_duration
from mellow_herald.core.selector import Node
from mellow_herald.store.database import as_rows, fetch_all
from mellow_herald.store.families import DEEPEST
from mellow_herald.store.selector_sql import compile_selector
from mellow_herald.store.tables import AlarmRow, AttemptEvent, AttemptRow, Device, Rollout

RECENT_ATTEMPTS = 3
LAST_RESTARTS = 10


class ShownAlarm(TypedDict):
    """An alarm, who raised it, and the attempt and rollout that explain it."""

    id: int
    serial: str
    kind: str
    about: str
    at: datetime
    heard_at: datetime
    detail: str
    attempt_id: int | None
    rollout_id: int | None


def _and_before(serials: Sequence[str]) -> Any:
    """Devices and the gateways before them: who notices that its gateway is gone does not see how far up the reason
    is."""
    before = aliased(Device)
    own = (
        select(Device.serial.label("about"), Device.serial, Device.gateway, literal(0).label("depth"))
        .where(Device.serial.in_(sorted(set(serials))))
        .cte("above", recursive=True)
    )
    return own.union(
        select(own.c.about, before.serial, before.gateway, own.c.depth + 1)
        .join(before, before.serial == own.c.gateway)
        .where(own.c.depth < DEEPEST)
    )


async def updates_of(connection: AsyncConnection, serials: Sequence[str]) -> dict[str, list[UpdateTime]]:
    """When devices, or the gateways before them, were last on their way to new firmware, by the devices' serials."""
    if not serials:
        return {}
    above = _and_before(serials)
    statement = (
        select(
            above.c.about,
            Device.serial,
            AttemptRow.id,
            AttemptRow.exposed_at,
            AttemptRow.state,
            AttemptRow.changed_at,
            AttemptRow.confirmed_at,
            AttemptRow.harmed_at,
            Rollout.plan["numbers"]["answer_within"].astext.label("answer_within"),
        )
        .join(Device, Device.id == AttemptRow.device_id)
        .join(above, above.c.serial == Device.serial)
        .join(Rollout, Rollout.id == AttemptRow.rollout_id)
        .where(AttemptRow.exposed_at.is_not(None))
        .order_by(AttemptRow.id.desc())
        .limit(RECENT_ATTEMPTS * DEEPEST * len(serials))
    )
    found: dict[str, list[UpdateTime]] = {}
    for row in await connection.execute(statement):
        decided = None if State(row.state) in AT_RISK else row.confirmed_at or row.harmed_at or row.changed_at
        within = parse_duration(row.answer_within or "30m")
        found.setdefault(row.about, []).append(UpdateTime(row.serial, row.id, row.exposed_at, decided, within))
    return found


async def add_alarms(connection: AsyncConnection, rows: Sequence[dict[str, Any]]) -> None:
    """Writes down alarms; one that was told before is not told again."""
    if rows:
        columns = "device_id, kind, about, at, heard_at, detail, attempt_id"
        await connection.execute(
            text(
                f"INSERT INTO alarm ({columns}) SELECT {columns}"
                " FROM jsonb_populate_recordset(NULL::alarm, CAST(:rows AS jsonb)) ON CONFLICT DO NOTHING"
            ),
            {"rows": as_rows(rows)},
        )


async def list_alarms(
    connection: AsyncConnection,
    *,
    serial: str | None = None,
    rollout_id: int | None = None,
    explained: bool | None = None,
    since: datetime | None = None,
    where: Node | None = None,
    now: datetime | None = None,
    limit: int = 100,
) -> list[ShownAlarm]:
    """Alarms, newest first: those that a device raised or that are about it, or that a rollout explains."""
    statement = (
        select(
            AlarmRow.id,
            Device.serial,
            AlarmRow.kind,
            AlarmRow.about,
            AlarmRow.at,
            AlarmRow.heard_at,
            AlarmRow.detail,
            AlarmRow.attempt_id,
            AttemptRow.rollout_id,
        )
        .join(Device, Device.id == AlarmRow.device_id)
        .outerjoin(AttemptRow, AttemptRow.id == AlarmRow.attempt_id)
        .order_by(AlarmRow.id.desc())
        .limit(limit)
    )
    if serial is not None:
        statement = statement.where((Device.serial == serial) | (AlarmRow.about == serial))
    if rollout_id is not None:
        statement = statement.where(AttemptRow.rollout_id == rollout_id)
    if explained is not None:
        statement = statement.where(AlarmRow.attempt_id.is_not(None) == explained)
    if since is not None:
        statement = statement.where(AlarmRow.heard_at >= since)
    if where is not None:
        statement = statement.where(compile_selector(where, now))
    return await fetch_all(connection, statement, ShownAlarm)


async def count_alarms(connection: AsyncConnection, since: datetime, where: Node | None, now: datetime) -> int:
    """How many alarms since then nothing explains."""
    statement = (
        select(func.count())
        .select_from(AlarmRow)
        .join(Device, Device.id == AlarmRow.device_id)
        .where(AlarmRow.attempt_id.is_(None), AlarmRow.heard_at >= since)
    )
    if where is not None:
        statement = statement.where(compile_selector(where, now))
    return int(await connection.scalar(statement) or 0)


class RestartTime(TypedDict):
    """How long a restart of a device took, in seconds."""

    serial: str
    seconds: float


async def restart_times(connection: AsyncConnection, serials: Sequence[str]) -> dict[str, list[float]]:
    """How long the last restarts for an update took, by serial, the newest first: from the word that it installs to the
    next one of the device. Those of another boot alone: what was taken into use without a restart is none."""
    if not serials:
        return {}
    first, then = aliased(AttemptEvent), aliased(AttemptEvent)
    back = (
        select(func.min(then.at))
        .where(
            then.attempt_id == first.attempt_id,
            then.id > first.id,
            then.said_by == "device",
            then.state.in_([State.PROVING.value, State.CONFIRMED.value, State.REVERTED.value]),
        )
        .scalar_subquery()
    )
    number = func.row_number().over(partition_by=Device.serial, order_by=first.id.desc()).label("number")
    inner = (
        select(Device.serial, func.extract("epoch", back - first.at).label("seconds"), number)
        .select_from(first)
        .join(AttemptRow, AttemptRow.id == first.attempt_id)
        .join(Device, Device.id == AttemptRow.device_id)
        .where(
            Device.serial.in_(sorted(set(serials))),
            and_(first.said_by == "device", first.what == "report", first.state == State.INSTALLING.value),
        )
        .subquery()
    )
    statement = (
        select(inner.c.serial, inner.c.seconds)
        .where(inner.c.number <= LAST_RESTARTS, inner.c.seconds.is_not(None))
        .order_by(inner.c.serial, inner.c.number)
    )
    found: dict[str, list[float]] = {}
    for row in await fetch_all(connection, statement, RestartTime):
        found.setdefault(row["serial"], []).append(float(row["seconds"]))
    return found
