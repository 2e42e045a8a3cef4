"""What happened to devices outside of attempts, and the log lines they were asked for."""

from collections.abc import Sequence
from datetime import datetime
from typing import Any, TypedDict

from sqlalchemy import delete, func, insert, select, text
from sqlalchemy.dialects.postgresql import insert as upsert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import State
from mellow_herald.core.rollout import RolloutKind
from mellow_herald.store.database import as_rows, fetch_all
from mellow_herald.store.rows import DeviceAttemptEvent, StoredDeviceEvent, StoredEntry, StoredLogLine
from mellow_herald.store.tables import (
    AttemptEvent,
    AttemptRow,
    DeviceEvent,
    DeviceLog,
    JournalRow,
    Release,
    ReleaseImage,
    Rollout,
)

MOST_LINES = 2000


async def add_events(connection: AsyncConnection, rows: Sequence[dict[str, Any]]) -> None:
    """Appends to the histories of devices; rows have ``device_id``, ``at``, ``what``, ``count`` and ``detail``."""
    if rows:
        await connection.execute(
            text(
                "INSERT INTO device_event (device_id, at, what, count, detail)"
                " SELECT device_id, at, what, count, detail"
                " FROM jsonb_populate_recordset(NULL::device_event, CAST(:rows AS jsonb))"
            ),
            {"rows": as_rows(rows)},
        )


async def device_timeline(connection: AsyncConnection, device_id: int, serial: str, limit: int) -> list[dict[str, Any]]:
    """Everything that happened to a device, newest first: in attempts, by itself, and by people's decisions."""
    attempts = (
        select(AttemptEvent.__table__, AttemptRow.rollout_id)
        .join(AttemptRow, AttemptRow.id == AttemptEvent.attempt_id)
        .where(AttemptRow.device_id == device_id)
        .order_by(AttemptEvent.id.desc())
        .limit(limit)
    )
    own = select(DeviceEvent.__table__).where(DeviceEvent.device_id == device_id)
    own = own.order_by(DeviceEvent.id.desc()).limit(limit)
    decided = select(JournalRow.__table__).where(JournalRow.subject == serial)
    decided = decided.order_by(JournalRow.id.desc()).limit(limit)
    rows: list[dict[str, Any]] = [{**row} for row in await fetch_all(connection, attempts, DeviceAttemptEvent)]
    for happened in await fetch_all(connection, own, StoredDeviceEvent):
        times = f" ({happened['count']} times)" if happened["count"] > 1 else ""
        rows.append({**happened, "said_by": "device", "what": happened["what"] + times})
    for entry in await fetch_all(connection, decided, StoredEntry):
        rows.append({**entry, "said_by": entry["who"], "detail": entry["why"]})
    return sorted(rows, key=lambda row: (row["at"], row["id"]), reverse=True)[:limit]


class TakenRow(TypedDict):
    """What a device was brought."""

    at: datetime
    release_id: int
    board: str
    line: str
    version: str
    release_state: str
    rollout_id: int
    rollout: str
    state: str
    reason: str | None
    from_version: str | None


async def taken(connection: AsyncConnection, device_id: int, limit: int) -> list[TakenRow]:
    """What a device was brought, newest first."""
    statement = (
        select(
            AttemptRow.changed_at.label("at"),
            Release.id.label("release_id"),
            Release.board,
            Release.line,
            Release.version,
            Release.state.label("release_state"),
            Rollout.id.label("rollout_id"),
            Rollout.name.label("rollout"),
            AttemptRow.state,
            AttemptRow.reason,
            AttemptRow.from_version,
        )
        .join(Rollout, Rollout.id == AttemptRow.rollout_id)
        .join(
            Release, Release.id == func.coalesce(AttemptRow.back_release_id, AttemptRow.release_id, Rollout.release_id)
        )
        .where(AttemptRow.device_id == device_id)
        .order_by(AttemptRow.id.desc())
        .limit(limit)
    )
    return await fetch_all(connection, statement, TakenRow)


async def why_it_failed(connection: AsyncConnection, device_id: int, digest: str) -> str | None:
    """Why an image went bad on a device when it last ran there; None where it did not, or came through."""
    newest = (
        select(AttemptRow.first_bad_why, AttemptRow.state, AttemptRow.harmed_at)
        .join(Rollout, Rollout.id == AttemptRow.rollout_id)
        .join(ReleaseImage, ReleaseImage.release_id == func.coalesce(AttemptRow.release_id, Rollout.release_id))
        .where(
            AttemptRow.device_id == device_id,
            ReleaseImage.digest == digest,
            AttemptRow.exposed_at.is_not(None),
            Rollout.kind == RolloutKind.FORWARD.value,
        )
        .order_by(AttemptRow.id.desc())
        .limit(1)
    )
    row = (await connection.execute(newest)).first()
    if row is None or row.harmed_at is None or row.state == State.CONFIRMED.value:
        return None
    return str(row.first_bad_why)


async def add_lines(connection: AsyncConnection, device_id: int, lines: Sequence[dict[str, Any]]) -> int:
    """Keeps log lines, each once, and the newest of a device only; returns how many were new."""
    rows = [{**line, "device_id": device_id} for line in lines]
    done = await connection.execute(upsert(DeviceLog).values(rows).on_conflict_do_nothing().returning(DeviceLog.id))
    added = len(done.all())
    oldest = (
        select(DeviceLog.id).where(DeviceLog.device_id == device_id).order_by(DeviceLog.id.desc()).offset(MOST_LINES)
    )
    newest_to_go = select(func.max(oldest.subquery().c.id)).scalar_subquery()
    await connection.execute(delete(DeviceLog).where(DeviceLog.device_id == device_id, DeviceLog.id <= newest_to_go))
    return added


async def list_lines(connection: AsyncConnection, device_id: int, after: int, limit: int) -> list[StoredLogLine]:
    """The last ``limit`` log lines of a device after line ``after``, oldest first."""
    newest = select(DeviceLog.__table__).where(DeviceLog.device_id == device_id, DeviceLog.id > after)
    rows = await fetch_all(connection, newest.order_by(DeviceLog.id.desc()).limit(limit), StoredLogLine)
    return rows[::-1]


async def add_event(connection: AsyncConnection, device_id: int, at: datetime, what: str, detail: str) -> None:
    """One entry."""
    values = {"device_id": device_id, "at": at, "what": what, "detail": detail, "count": 1}
    await connection.execute(insert(DeviceEvent).values(**values))
