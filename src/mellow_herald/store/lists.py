"""Lists of devices by serial: written once, never changed."""

from collections.abc import Sequence
from datetime import datetime
from typing import TypedDict

from sqlalchemy import ARRAY, BigInteger, Text, cast, func, literal, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.store.database import fetch_all, fetch_one
from mellow_herald.store.rows import StoredList
from mellow_herald.store.tables import Device, Listed, SerialList


class NamedDevice(TypedDict):
    """A device that a list names."""

    serial: str
    board: str
    line: str
    admission: str


async def add_list(connection: AsyncConnection, digest: str, serials: Sequence[str], at: datetime, by: str) -> int:
    """Keeps a list (its serials each once); returns its number, the same for the same list."""
    values = {"digest": digest, "devices": len(serials), "added_at": at, "added_by": by}
    made = insert(SerialList).values(**values).on_conflict_do_nothing().returning(SerialList.id)
    list_id = (await connection.execute(made)).scalar()
    if list_id is None:
        known = await connection.execute(select(SerialList.id).where(SerialList.digest == digest))
        return int(known.scalar_one())
    named = func.unnest(cast(list(serials), ARRAY(Text)))
    rows = select(literal(list_id, BigInteger), named)
    await connection.execute(insert(Listed).from_select(["list_id", "serial"], rows))
    return int(list_id)


async def find_list(connection: AsyncConnection, list_id: int) -> StoredList | None:
    """A list by its number."""
    return await fetch_one(connection, select(SerialList.__table__).where(SerialList.id == list_id), StoredList)


async def serials_of(connection: AsyncConnection, list_id: int) -> list[str]:
    """The serials of a list."""
    return list(
        await connection.scalars(select(Listed.serial).where(Listed.list_id == list_id).order_by(Listed.serial))
    )


async def named_devices(connection: AsyncConnection, list_id: int) -> dict[str, NamedDevice]:
    """The devices that a list names, by serial."""
    statement = select(Device.serial, Device.board, Device.line, Device.admission).join(
        Listed, (Listed.serial == Device.serial) & (Listed.list_id == list_id)
    )
    return {row["serial"]: row for row in await fetch_all(connection, statement, NamedDevice)}
