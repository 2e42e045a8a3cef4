"""Many devices at once: imported in batches, exported page by page."""

from collections.abc import AsyncIterator, Sequence
from datetime import datetime
from typing import Any, TypedDict

from sqlalchemy import case, func, select, text
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.history import LONG_ABSENT
from mellow_herald.core.inventory import Entry
from mellow_herald.core.selector import Node
from mellow_herald.store.database import as_rows, fetch_all
from mellow_herald.store.fleet import ShownDevice, list_devices
from mellow_herald.store.heard import HEARD_AT
from mellow_herald.store.selector_sql import BUILDS, RUNS, compile_selector
from mellow_herald.store.tables import AttemptRow, Device, Pulse


class Noted(TypedDict):
    """What an import may change, or must find as it is."""

    serial: str
    board: str
    line: str
    hw_rev: int
    labels: dict[str, str]
    note: str
    gateway: str | None


class VisitRow(TypedDict):
    """A device that only a person on the spot can help."""

    serial: str
    board: str
    line: str
    version: str | None
    labels: dict[str, str]
    note: str
    gateway: str | None
    seen_at: datetime | None
    site: str
    why: str


PAGE = 1000


async def lock_existing(connection: AsyncConnection, serials: Sequence[str]) -> dict[str, Noted]:
    """Those of these serials that are devices already, locked."""
    statement = (
        select(Device.serial, Device.board, Device.line, Device.hw_rev, Device.labels, Device.note, Device.gateway)
        .where(Device.serial.in_(serials))
        .order_by(Device.id)
        .with_for_update(key_share=True)
    )
    return {row["serial"]: row for row in await fetch_all(connection, statement, Noted)}


async def add_devices(connection: AsyncConnection, entries: Sequence[Entry], now: datetime) -> int:
    """Adds devices that may enrol with any code of their board and line; returns how many are new."""
    if not entries:
        return 0
    rows = [
        {
            "serial": one.serial,
            "board": one.board,
            "line": one.line,
            "hw_rev": one.hw_rev,
            "labels": dict(one.labels),
            "gateway": one.gateway,
            "note": one.note or "",
            "admission": "admitted",
            "generation": 0,
            "token_used": False,
            "may_enrol_again": True,
            "running": {},
            "standby": {},
            "version_keys": {},
            "enrolled_at": now,
            "changed_at": now,
            "arriving": False,
        }
        for one in entries
    ]
    columns = ", ".join(rows[0])
    done = await connection.execute(
        text(
            f"INSERT INTO device ({columns}) SELECT {columns}"
            " FROM jsonb_populate_recordset(NULL::device, CAST(:rows AS jsonb)) ON CONFLICT (serial) DO NOTHING"
        ),
        {"rows": as_rows(rows)},
    )
    return int(done.rowcount)


async def change_devices(connection: AsyncConnection, rows: Sequence[dict[str, Any]], now: datetime) -> None:
    """Writes ``labels``, ``note`` and ``gateway`` of devices by their serial."""
    if rows:
        await connection.execute(
            text(
                "UPDATE device SET labels = new.labels, note = new.note, gateway = new.gateway, changed_at = :now"
                " FROM jsonb_populate_recordset(NULL::device, CAST(:rows AS jsonb)) AS new"
                " WHERE device.serial = new.serial"
            ),
            {"rows": as_rows(rows), "now": now},
        )


async def label_keys(connection: AsyncConnection, where: Node | None, now: datetime) -> list[str]:
    """The keys of all labels among these devices."""
    key = func.jsonb_object_keys(Device.labels).label("key")
    statement = select(key).distinct()
    if where is not None:
        statement = statement.where(compile_selector(where, now))
    inner = statement.subquery()
    return list((await connection.execute(select(inner.c.key).order_by(inner.c.key))).scalars())


async def each_device(
    connection: AsyncConnection, where: Node | None, now: datetime
) -> AsyncIterator[list[ShownDevice]]:
    """All devices by serial, page by page."""
    after: str | None = None
    while True:
        rows = await list_devices(connection, where, now=now, after=after, limit=PAGE)
        if rows:
            yield rows
        if len(rows) < PAGE:
            return
        after = rows[-1]["serial"]


async def list_visits(
    connection: AsyncConnection, where: Node | None, now: datetime, limit: int | None = None
) -> list[VisitRow]:
    """Devices that somebody must go to, by site: not heard for a week, lost by a rollout, or running recovery; at most
    so many of them."""
    # Each sort has an index of its own, or is found in one look at all pulses.
    absent = select(Pulse.device_id).where(Pulse.seen_at < now - LONG_ABSENT)
    lost = select(AttemptRow.device_id).where(AttemptRow.state == "silent")
    recovering = select(Device.id).where(BUILDS["recovery"])
    some = absent.union(lost, recovering)
    newest = (
        select(AttemptRow.state, AttemptRow.reason)
        .where(AttemptRow.device_id == Device.id)
        .order_by(AttemptRow.id.desc())
        .limit(1)
        .lateral("newest")
    )
    missed = func.extract("epoch", now - HEARD_AT) / Pulse.interval_s
    why = case(
        (RUNS == "recovery", "runs its recovery image"),
        ((newest.c.state == "silent") & (missed > 5), "silent since an update"),
        (Pulse.seen_at < now - LONG_ABSENT, "not heard for a week"),
        else_=None,
    ).label("why")
    site = func.coalesce(Device.labels["site"].astext, "").label("site")
    statement = (
        select(
            Device.serial,
            Device.board,
            Device.line,
            Device.version,
            Device.labels,
            Device.note,
            Device.gateway,
            Pulse.seen_at,
            site,
            why,
        )
        .join(Pulse, Pulse.device_id == Device.id)
        .outerjoin(newest, text("true"))
        .where(Device.id.in_(some), Device.admission == "admitted", why.is_not(None))
        .order_by(site, Device.serial)
        .limit(limit)
    )
    if where is not None:
        statement = statement.where(compile_selector(where, now))
    return await fetch_all(connection, statement, VisitRow)
