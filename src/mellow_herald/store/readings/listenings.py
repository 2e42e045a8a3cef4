"""Who listens to whom."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any, TypedDict

from sqlalchemy import and_, delete, func, insert, literal, select, update
from sqlalchemy.dialects.postgresql import insert as upsert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.selector import Node
from mellow_herald.store.database import fetch_all, fetch_one
from mellow_herald.store.selector_sql import compile_selector
from mellow_herald.store.tables import Device, Listening, ListeningDevice


class StoredListening(TypedDict):
    """A row of ``tables.Listening``, and how many ``devices`` it asks."""

    id: int
    selector: str
    signals: list[str]
    period_s: float
    until: datetime
    made_by: str
    made_at: datetime
    ended_by: str | None
    ended_at: datetime | None
    read_at: datetime | None
    trouble: str
    devices: int


class AskedDevice(TypedDict):
    """A device that a listening asks."""

    device_id: int
    signals: list[str]
    period_s: float
    until: datetime


class AskedBoard(TypedDict):
    """A board of which devices are listened to."""

    board: str
    signals: list[str]
    period_s: float


# Readings go by HTTP: neither narrow radio nor CoAP has words for them.
HEARS = and_(Device.radio.is_(None), Device.coap_lifetime_s.is_(None))
_DEVICES = (
    select(func.count())
    .where(ListeningDevice.listening_id == Listening.id)
    .correlate(Listening)
    .scalar_subquery()
    .label("devices")
)


async def add(connection: AsyncConnection, values: Mapping[str, Any]) -> int:
    """A new listening; returns its number."""
    return int(await connection.scalar(insert(Listening).values(**values).returning(Listening.id)) or 0)


async def list_all(connection: AsyncConnection, now: datetime, *, over: bool = False) -> list[StoredListening]:
    """All that go on, and with ``over`` those that are over too, the newest first."""
    statement = select(Listening.__table__, _DEVICES).order_by(Listening.id.desc()).limit(1000)
    if not over:
        statement = statement.where(Listening.ended_at.is_(None), Listening.until > now)
    return await fetch_all(connection, statement, StoredListening)


async def find(connection: AsyncConnection, listening_id: int) -> StoredListening | None:
    """One of them."""
    statement = select(Listening.__table__, _DEVICES).where(Listening.id == listening_id)
    return await fetch_one(connection, statement, StoredListening)


async def end(connection: AsyncConnection, listening_id: int, who: str, now: datetime) -> None:
    """Ends a listening; it asks nobody any more."""
    await connection.execute(update(Listening).where(Listening.id == listening_id).values(ended_by=who, ended_at=now))
    await connection.execute(delete(ListeningDevice).where(ListeningDevice.listening_id == listening_id))


async def end_over(connection: AsyncConnection, now: datetime) -> bool:
    """Lets the devices go of all that are over; tells whether there were any."""
    over = select(Listening.id).where(Listening.until <= now)
    gone = await connection.execute(delete(ListeningDevice).where(ListeningDevice.listening_id.in_(over)))
    return bool(gone.rowcount)


async def read_members(connection: AsyncConnection, listening_id: int, where: Node, now: datetime) -> bool:
    """Reads anew whom a listening asks; tells whether that has changed."""
    chosen = select(Device.id).where(Device.admission == "admitted", HEARS, compile_selector(where, now))
    gone = await connection.execute(
        delete(ListeningDevice).where(
            ListeningDevice.listening_id == listening_id, ListeningDevice.device_id.not_in(chosen)
        )
    )
    new = select(literal(listening_id), Device.id, literal(now)).where(Device.id.in_(chosen))
    come = await connection.execute(
        upsert(ListeningDevice).from_select(["listening_id", "device_id", "since"], new).on_conflict_do_nothing()
    )
    await connection.execute(update(Listening).where(Listening.id == listening_id).values(read_at=now, trouble=""))
    return bool(gone.rowcount or come.rowcount)


async def note_trouble(connection: AsyncConnection, listening_id: int, trouble: str) -> None:
    """Takes down why whom it asks could not be read anew."""
    await connection.execute(update(Listening).where(Listening.id == listening_id).values(trouble=trouble))


async def asked_devices(connection: AsyncConnection, now: datetime) -> list[AskedDevice]:
    """Every device that is listened to, and for what: once for each listening."""
    statement = (
        select(ListeningDevice.device_id, Listening.signals, Listening.period_s, Listening.until)
        .join(Listening, Listening.id == ListeningDevice.listening_id)
        .where(Listening.ended_at.is_(None), Listening.until > now)
    )
    return await fetch_all(connection, statement, AskedDevice)


async def asked_boards(connection: AsyncConnection, now: datetime) -> list[AskedBoard]:
    """The boards of devices that are listened to, and for what: once for each listening."""
    statement = (
        select(Device.board, Listening.signals, Listening.period_s)
        .select_from(Listening)
        .join(ListeningDevice, ListeningDevice.listening_id == Listening.id)
        .join(Device, Device.id == ListeningDevice.device_id)
        .where(Listening.ended_at.is_(None), Listening.until > now)
        .distinct()
    )
    return await fetch_all(connection, statement, AskedBoard)


async def count_deaf(connection: AsyncConnection, where: Node, now: datetime) -> int:
    """How many devices that a selector picks are not asked, for how they speak."""
    statement = select(func.count()).where(Device.admission == "admitted", ~HEARS, compile_selector(where, now))
    return int(await connection.scalar(statement) or 0)


async def boards_of(connection: AsyncConnection, where: Node, now: datetime) -> dict[str, int]:
    """How many devices of each board a selector picks."""
    statement = (
        select(Device.board, func.count())
        .where(Device.admission == "admitted", HEARS, compile_selector(where, now))
        .group_by(Device.board)
        .order_by(Device.board)
    )
    return {row[0]: row[1] for row in await connection.execute(statement)}
