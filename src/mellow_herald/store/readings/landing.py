"""Where readings land, as fast as they come: rows without order, durable at once, put together later."""

from collections.abc import Sequence
from datetime import datetime
from typing import TypedDict

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.store.database import fetch_all
from mellow_herald.store.readings.copying import copy_rows, doubles, ints, moment, small, texts, whole
from mellow_herald.store.tables import Device, ReadingClock, ReadingLanded

Landed = tuple[int, int, datetime, NDArray[np.int32], NDArray[np.float64] | None, Sequence[str] | None]
"""device, signal, minute, offsets (ms), numbers or words."""
COLUMNS = ("device_id", "signal_id", "at", "offsets", "vals", "texts")


class Sender(TypedDict):
    """A device that sends readings: its board, and by how much its clock is behind ours."""

    id: int
    board: str
    admission: str
    offset_s: float | None


async def land(connection: AsyncConnection, rows: Sequence[Landed]) -> None:
    """Writes them down by COPY."""
    fields = (
        (whole(device), small(signal), moment(at), ints(offsets), doubles(vals), texts(words))
        for device, signal, at, offsets, vals, words in rows
    )
    await copy_rows(connection, "reading_landed", COLUMNS, fields)


async def newest(connection: AsyncConnection) -> int | None:
    """The number of the newest row that has landed and is not put together yet; None if there is none."""
    number = await connection.scalar(select(func.max(ReadingLanded.id)))
    return None if number is None else int(number)


async def senders(connection: AsyncConnection, device_ids: Sequence[int]) -> dict[int, Sender]:
    """The devices of these IDs."""
    statement = (
        select(Device.id, Device.board, Device.admission, ReadingClock.offset_s)
        .outerjoin(ReadingClock, ReadingClock.device_id == Device.id)
        .where(Device.id.in_(device_ids))
    )
    return {row["id"]: row for row in await fetch_all(connection, statement, Sender)}


async def note_clock(
    connection: AsyncConnection, device_id: int, offset_s: float, cost: dict[str, float] | None, now: datetime
) -> None:
    """By how much a device's clock is behind ours, and what collecting costs it."""
    values = {"offset_s": offset_s, "offset_at": now, **({} if cost is None else {"cost": cost})}
    statement = insert(ReadingClock).values(device_id=device_id, **{"cost": {}, **values})
    await connection.execute(statement.on_conflict_do_update(index_elements=["device_id"], set_=values))
