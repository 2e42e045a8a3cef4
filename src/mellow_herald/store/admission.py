"""Who is let in, and what engineers write on devices."""

from collections.abc import Collection, Mapping, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import ColumnElement, select, update
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.selector import Node
from mellow_herald.store.selector_sql import compile_selector
from mellow_herald.store.tables import Device, EnrolmentCode

Row = Mapping[str, Any]


def picked(where: Node | None, serials: Sequence[str], now: datetime) -> ColumnElement[bool]:
    """A condition over devices: these serials, or those a selector picks."""
    return Device.serial.in_(sorted(set(serials))) if where is None else compile_selector(where, now)


async def lock_picked(
    connection: AsyncConnection, condition: ColumnElement[bool], among: Collection[str], limit: int
) -> list[Row]:
    """Up to ``limit`` devices that meet a condition and whose admission is one of ``among``, locked in order of id."""
    statement = (
        select(Device.__table__)
        .where(condition, Device.admission.in_(sorted(among)))
        .order_by(Device.id)
        .limit(limit)
        .with_for_update(key_share=True)
    )
    return list((await connection.execute(statement)).mappings())


async def change_devices(connection: AsyncConnection, ids: Collection[int], **values: Any) -> None:
    """Writes the same columns of many locked devices."""
    await connection.execute(update(Device).where(Device.id.in_(sorted(ids))).values(**values))


async def close_code(connection: AsyncConnection, code_id: int, at: datetime) -> bool:
    """Ends an enrolment code; tells whether it was there."""
    done = await connection.execute(
        update(EnrolmentCode).where(EnrolmentCode.id == code_id, EnrolmentCode.expires_at > at).values(expires_at=at)
    )
    return bool(done.rowcount)
