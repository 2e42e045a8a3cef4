"""What happened to devices outside of attempts, and the log lines they were asked for."""

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import delete, func, insert, select, text
from sqlalchemy.dialects.postgresql import insert as upsert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.store.database import as_rows
from mellow_herald.store.tables import AttemptEvent, AttemptRow, DeviceEvent, DeviceLog, JournalRow

Row = Mapping[str, Any]
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
    rows = [dict(row) for row in (await connection.execute(attempts)).mappings()]
    for row in (await connection.execute(own)).mappings():
        times = f" ({row['count']} times)" if row["count"] > 1 else ""
        rows.append({**row, "said_by": "device", "what": row["what"] + times})
    for row in (await connection.execute(decided)).mappings():
        rows.append({**row, "said_by": row["who"], "detail": row["why"]})
    return sorted(rows, key=lambda row: (row["at"], row["id"]), reverse=True)[:limit]


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


async def list_lines(connection: AsyncConnection, device_id: int, after: int, limit: int) -> list[Row]:
    """The last ``limit`` log lines of a device after line ``after``, oldest first."""
    newest = select(DeviceLog.__table__).where(DeviceLog.device_id == device_id, DeviceLog.id > after)
    rows = (await connection.execute(newest.order_by(DeviceLog.id.desc()).limit(limit))).mappings().all()
    return list(reversed(rows))


async def add_event(connection: AsyncConnection, device_id: int, at: datetime, what: str, detail: str) -> None:
    """One entry."""
    values = {"device_id": device_id, "at": at, "what": what, "detail": detail, "count": 1}
    await connection.execute(insert(DeviceEvent).values(**values))
