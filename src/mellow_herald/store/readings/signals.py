"""Signals: declared with a board, or found because a device sent them."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any, TypedDict

from sqlalchemy import case, func, select, text, true, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.readings.signal import SignalKind
from mellow_herald.core.selector import Node
from mellow_herald.store.database import fetch_all
from mellow_herald.store.selector_sql import compile_selector
from mellow_herald.store.tables import Device, DeviceSignal, Listening, ListeningDevice, SignalRow

DECLARED = ("kind", "unit", "usual_low", "usual_high", "description", "size", "precise", "keep_s", "declared")


class StoredSignal(TypedDict):
    """A row of ``tables.SignalRow``."""

    id: int
    board: str
    name: str
    kind: str
    unit: str
    usual_low: float | None
    usual_high: float | None
    description: str
    size: int
    precise: bool
    keep_s: int | None
    declared: bool
    first_at: datetime


class SignalSeen(StoredSignal):
    """A signal, and by how many devices it is: ``asked`` for it, have ``sent`` it, and sent it ``lately``."""

    asked: int
    sent: int
    lately: int
    last_at: datetime | None


class LastValue(TypedDict):
    """What a device sent last of a signal."""

    serial: str
    name: str
    kind: str
    unit: str
    declared: bool
    last_at: datetime
    arrived_at: datetime
    value: float | None
    text: str | None


async def declare(connection: AsyncConnection, board: str, signals: Sequence[Mapping[str, Any]], now: datetime) -> None:
    """Makes these the declared signals of a board; others that devices have sent stay, undeclared."""
    names = [one["name"] for one in signals]
    await connection.execute(
        update(SignalRow).where(SignalRow.board == board, SignalRow.name.not_in(names)).values(declared=False)
    )
    if signals:
        statement = insert(SignalRow)
        changed = {name: statement.excluded[name] for name in DECLARED}
        rows = [{**one, "board": board, "declared": True, "first_at": now} for one in signals]
        await connection.execute(
            statement.on_conflict_do_update(index_elements=["board", "name"], set_=changed).values(rows)
        )


async def note_undeclared(
    connection: AsyncConnection, found: Iterable[tuple[str, str, SignalKind]], now: datetime
) -> None:
    """Notes signals that devices of a board have sent and nobody has declared: (board, name, kind)."""
    rows = [
        {
            "board": board,
            "name": name,
            "kind": kind.value,
            "unit": "",
            "description": "",
            "size": 4,
            "precise": False,
            "declared": False,
            "first_at": now,
        }
        for board, name, kind in sorted(found)
    ]
    await connection.execute(insert(SignalRow).values(rows).on_conflict_do_nothing(index_elements=["board", "name"]))


async def of_boards(connection: AsyncConnection, boards: Iterable[str] | None = None) -> list[StoredSignal]:
    """All signals, or those of these boards, by board and name."""
    statement = select(SignalRow.__table__).order_by(SignalRow.board, SignalRow.name)
    if boards is not None:
        statement = statement.where(SignalRow.board.in_(sorted(boards)))
    return await fetch_all(connection, statement, StoredSignal)


async def names_sent(connection: AsyncConnection, device_ids: Sequence[int]) -> dict[int, set[str]]:
    """The signals that devices have sent so far, declared or not."""
    rows = await connection.execute(
        select(DeviceSignal.device_id, SignalRow.name)
        .join(SignalRow, SignalRow.id == DeviceSignal.signal_id)
        .where(DeviceSignal.device_id.in_(device_ids))
    )
    found: dict[int, set[str]] = {}
    for device_id, name in rows:
        found.setdefault(device_id, set()).add(name)
    return found


async def list_seen(
    connection: AsyncConnection,
    now: datetime,
    lately: datetime,
    board: str | None = None,
    within: Node | None = None,
) -> list[SignalSeen]:
    """All signals with how many devices (of those that a selector picks) are asked for them and send them; ``lately``
    is since then."""
    theirs = true() if within is None else compile_selector(within, now)
    asked = (
        select(Device.board, func.jsonb_array_elements_text(Listening.signals).label("name"), Device.id)
        .join(ListeningDevice, ListeningDevice.device_id == Device.id)
        .join(Listening, Listening.id == ListeningDevice.listening_id)
        .where(Listening.ended_at.is_(None), Listening.until > now, theirs)
        .distinct()
        .subquery()
    )
    count_asked = (
        select(func.count()).where(asked.c.board == SignalRow.board, asked.c.name == SignalRow.name).scalar_subquery()
    )
    recent = case((DeviceSignal.arrived_at >= lately, 1), else_=0)
    sent = (
        select(
            DeviceSignal.signal_id,
            func.count().label("sent"),
            func.sum(recent).label("lately"),
            func.max(DeviceSignal.last_at).label("last_at"),
        )
        .join(Device, Device.id == DeviceSignal.device_id)
        .where(theirs)
        .group_by(DeviceSignal.signal_id)
        .subquery()
    )
    statement = (
        select(
            SignalRow.__table__,
            count_asked.label("asked"),
            func.coalesce(sent.c.sent, 0).label("sent"),
            func.coalesce(sent.c.lately, 0).label("lately"),
            sent.c.last_at,
        )
        .outerjoin(sent, sent.c.signal_id == SignalRow.id)
        .order_by(SignalRow.board, SignalRow.declared.desc(), SignalRow.name)
    )
    if board is not None:
        statement = statement.where(SignalRow.board == board)
    return await fetch_all(connection, statement, SignalSeen)


async def latest(
    connection: AsyncConnection, where: Node, now: datetime, *, signal: str | None = None, limit: int = 1000
) -> list[LastValue]:
    """What devices sent last of their signals, by serial and signal."""
    statement = (
        select(
            Device.serial,
            SignalRow.name,
            SignalRow.kind,
            SignalRow.unit,
            SignalRow.declared,
            DeviceSignal.last_at,
            DeviceSignal.arrived_at,
            DeviceSignal.value,
            DeviceSignal.text,
        )
        .join(DeviceSignal, DeviceSignal.device_id == Device.id)
        .join(SignalRow, SignalRow.id == DeviceSignal.signal_id)
        .where(compile_selector(where, now))
        .order_by(Device.serial, SignalRow.name)
        .limit(limit)
    )
    if signal is not None:
        statement = statement.where(SignalRow.name == signal)
    return await fetch_all(connection, statement, LastValue)


async def note_latest(connection: AsyncConnection, rows: Sequence[Mapping[str, Any]]) -> None:
    """Takes down what devices sent last: newer values, in the same order for everybody who writes here."""
    columns: list[list[Any]] = [[row[name] for row in rows] for name in LATEST]
    await connection.execute(_NOTE_LATEST, dict(zip(LATEST, columns, strict=True)))


LATEST = ("device_id", "signal_id", "last_at", "arrived_at", "value", "text")
_NOTE_LATEST = text(
    "INSERT INTO device_signal AS known (device_id, signal_id, first_at, last_at, arrived_at, value, text)"
    " SELECT device_id, signal_id, last_at, last_at, arrived_at, value, text FROM unnest("
    "CAST(:device_id AS bigint[]), CAST(:signal_id AS int[]), CAST(:last_at AS timestamptz[]),"
    " CAST(:arrived_at AS timestamptz[]), CAST(:value AS float8[]), CAST(:text AS text[]))"
    " AS new (device_id, signal_id, last_at, arrived_at, value, text) ORDER BY device_id, signal_id"
    " ON CONFLICT (device_id, signal_id) DO UPDATE SET arrived_at = excluded.arrived_at,"
    " first_at = least(known.first_at, excluded.first_at),"
    " last_at = greatest(known.last_at, excluded.last_at),"
    " value = CASE WHEN excluded.last_at >= known.last_at THEN excluded.value ELSE known.value END,"
    " text = CASE WHEN excluded.last_at >= known.last_at THEN excluded.text ELSE known.text END"
)
