"""Who is let in, and what engineers write on devices."""

from collections.abc import Collection, Mapping, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import ColumnElement, Text, cast, select, update
from sqlalchemy.dialects.postgresql import ARRAY, JSONB
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.selector import Node
from mellow_herald.store.database import fetch_all
from mellow_herald.store.rows import StoredDevice
from mellow_herald.store.selector_sql import compile_selector
from mellow_herald.store.tables import Device, EnrolmentCode


def picked(where: Node | None, serials: Sequence[str], now: datetime) -> ColumnElement[bool]:
    """A condition over devices: these serials, or those a selector picks."""
    return Device.serial.in_(sorted(set(serials))) if where is None else compile_selector(where, now)


async def lock_picked(
    connection: AsyncConnection, condition: ColumnElement[bool], among: Collection[str], limit: int
) -> list[StoredDevice]:
    """Up to ``limit`` devices that meet a condition and whose admission is one of ``among``, locked in order of id."""
    statement = (
        select(Device.__table__)
        .where(condition, Device.admission.in_(sorted(among)))
        .order_by(Device.id)
        .limit(limit)
        .with_for_update(key_share=True)
    )
    return await fetch_all(connection, statement, StoredDevice)


async def change_devices(connection: AsyncConnection, ids: Collection[int], **values: Any) -> None:
    """Writes the same columns of many locked devices."""
    await connection.execute(update(Device).where(Device.id.in_(sorted(ids))).values(**values))


def after(device_id: int) -> ColumnElement[bool]:
    """A condition over devices: those that come later by id."""
    return Device.id > device_id


async def change_labels(
    connection: AsyncConnection,
    ids: Collection[int],
    labels: Mapping[str, str | None],
    on_bench: bool | None,
    at: datetime,
) -> None:
    """Puts labels on locked devices or (None) takes them off, and marks them as bench devices or (None) leaves that."""
    put = {key: value for key, value in labels.items() if value is not None}
    off = [key for key, value in labels.items() if value is None]
    changed = Device.labels.op("||")(cast(put, JSONB)).op("-")(cast(off, ARRAY(Text)))
    bench = {} if on_bench is None else {"on_bench": on_bench}
    statement = update(Device).where(Device.id.in_(sorted(ids)))
    await connection.execute(statement.values(labels=changed, changed_at=at, **bench))


async def close_code(connection: AsyncConnection, code_id: int, at: datetime) -> bool:
    """Ends an enrolment code; tells whether it was there."""
    done = await connection.execute(
        update(EnrolmentCode).where(EnrolmentCode.id == code_id, EnrolmentCode.expires_at > at).values(expires_at=at)
    )
    return bool(done.rowcount)
