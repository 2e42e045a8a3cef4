"""Recordings that devices are asked for, and their bytes as they come in."""

from collections.abc import AsyncIterator, Mapping
from datetime import datetime
from typing import Any, TypedDict

from sqlalchemy import delete, func, insert, select, update
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.readings.recording import OPEN
from mellow_herald.core.readings.recording_file import Described
from mellow_herald.core.readings.signal import SignalKind
from mellow_herald.core.selector import Node
from mellow_herald.store.database import fetch_all, fetch_one
from mellow_herald.store.selector_sql import compile_selector
from mellow_herald.store.tables import Device, Pulse, ReadingClock, Recording, RecordingPart, SignalRow

MOST_SHOWN = 1000


class StoredRecording(TypedDict):
    """A row of ``tables.Recording``, with its device's ``serial``, ``board`` and ``admission``, and when that last
    called."""

    id: int
    device_id: int
    serial: str
    board: str
    begins: datetime
    ends: datetime
    signals: list[str]
    at_most: int
    asked_by: str
    asked_at: datetime
    state: str
    offset_s: float
    size: int | None
    sha256: str | None
    samples: int | None
    have: int
    tries: int
    moved_at: datetime | None
    called_at: datetime | None
    admission: str
    ended_at: datetime | None
    reason: str
    detail: str
    contains: list[str]


_SHOWN = (
    select(Recording.__table__, Device.serial, Device.board, Device.admission, Pulse.seen_at.label("called_at"))
    .join(Device, Device.id == Recording.device_id)
    .outerjoin(Pulse, Pulse.device_id == Recording.device_id)
)


async def add(connection: AsyncConnection, values: Mapping[str, Any]) -> int:
    """A new one; returns its number. By how much the device's clock is behind is taken from what it sent before."""
    behind = select(ReadingClock.offset_s).where(ReadingClock.device_id == values["device_id"]).scalar_subquery()
    statement = insert(Recording).values(**values, offset_s=func.coalesce(behind, 0.0)).returning(Recording.id)
    return int(await connection.scalar(statement) or 0)


async def find(
    connection: AsyncConnection, number: int, *, within: tuple[Node, datetime] | None = None, change: bool = False
) -> StoredRecording | None:
    """One of them, if its device is one that a selector picks at a moment; nobody else changes it until the transaction
    ends if it is to ``change``."""
    statement = _SHOWN.where(Recording.id == number)
    if within is not None:
        statement = statement.where(compile_selector(*within))
    if change:
        statement = statement.with_for_update(of=Recording.__table__)
    return await fetch_one(connection, statement, StoredRecording)


async def stale(connection: AsyncConnection, at: datetime) -> list[int]:
    """Those of which nothing has come since."""
    moved = func.coalesce(Recording.moved_at, Recording.asked_at)
    found = await connection.scalars(select(Recording.id).where(Recording.state.in_(OPEN), moved < at))
    return list(found)


async def list_all(connection: AsyncConnection, where: Node, now: datetime) -> list[StoredRecording]:
    """Those of the devices that a selector picks, the newest first."""
    statement = _SHOWN.where(compile_selector(where, now)).order_by(Recording.id.desc()).limit(MOST_SHOWN)
    return await fetch_all(connection, statement, StoredRecording)


async def list_open(connection: AsyncConnection) -> list[StoredRecording]:
    """Those that devices are to send, the oldest first."""
    statement = _SHOWN.where(Recording.state.in_(OPEN)).order_by(Recording.id)
    return await fetch_all(connection, statement, StoredRecording)


async def count_open(connection: AsyncConnection, device_id: int) -> int:
    """How many a device is to send."""
    statement = select(func.count()).where(Recording.device_id == device_id, Recording.state.in_(OPEN))
    return int(await connection.scalar(statement) or 0)


async def change(connection: AsyncConnection, number: int, **columns: Any) -> None:
    """Changes one of them."""
    await connection.execute(update(Recording).where(Recording.id == number).values(**columns))


async def add_part(connection: AsyncConnection, number: int, at: int, body: bytes) -> None:
    """Bytes, from ``at`` on."""
    await connection.execute(insert(RecordingPart).values(recording_id=number, at=at, body=body))


async def drop_parts(connection: AsyncConnection, number: int) -> None:
    """All bytes of one of them."""
    await connection.execute(delete(RecordingPart).where(RecordingPart.recording_id == number))


async def parts(connection: AsyncConnection, number: int) -> AsyncIterator[bytes]:
    """The bytes of one of them, in order."""
    places = select(RecordingPart.at).where(RecordingPart.recording_id == number).order_by(RecordingPart.at)
    for (at,) in (await connection.execute(places)).all():
        body = await connection.scalar(
            select(RecordingPart.body).where(RecordingPart.recording_id == number, RecordingPart.at == at)
        )
        yield bytes(body or b"")


async def described(connection: AsyncConnection, board: str, names: list[str]) -> dict[str, Described]:
    """What is known of signals of a board; of others, that they are numbers."""
    columns = (SignalRow.name, SignalRow.unit, SignalRow.kind, SignalRow.description)
    statement = select(*columns).where(SignalRow.board == board, SignalRow.name.in_(names))
    known = {
        row.name: Described(row.unit, SignalKind(row.kind), row.description)
        for row in (await connection.execute(statement)).all()
    }
    return {name: known.get(name, Described()) for name in names}


async def drop_before(connection: AsyncConnection, at: datetime) -> int:
    """Lets go of those that ended before; returns how many."""
    return (await connection.execute(delete(Recording).where(Recording.ended_at < at))).rowcount
