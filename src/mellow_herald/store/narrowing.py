"""Which devices, attempts and rollouts are of the devices that a selector picks, and of no others."""

from collections.abc import Sequence
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.selector import Node
from mellow_herald.store.selector_sql import compile_selector
from mellow_herald.store.tables import AttemptRow, Device, PassedOverRow, RingSlice, Rollout


async def first_beyond(connection: AsyncConnection, serials: Sequence[str], only: Node, now: datetime) -> str | None:
    """The first of these serials that is no device that the selector picks."""
    picked = select(Device.serial).where(Device.serial.in_(list(serials)), compile_selector(only, now))
    there = set(await connection.scalars(picked))
    return next((serial for serial in serials if serial not in there), None)


async def attempt_within(connection: AsyncConnection, attempt_id: int, only: Node, now: datetime) -> bool:
    """Whether an attempt is of a device that the selector picks."""
    statement = (
        select(AttemptRow.id)
        .join(Device, Device.id == AttemptRow.device_id)
        .where(AttemptRow.id == attempt_id, compile_selector(only, now))
    )
    return await connection.scalar(statement) is not None


async def rollouts_within(connection: AsyncConnection, only: Node, now: datetime, ids: Sequence[int]) -> set[int]:
    """Those of these rollouts that have devices, and none but such as the selector picks: attempts, devices that are to
    come, and those that were passed over."""
    drawn = select(RingSlice.rollout_id, func.unnest(RingSlice.devices).label("device_id"))
    concerned = (
        select(AttemptRow.rollout_id, AttemptRow.device_id)
        .union(drawn, select(PassedOverRow.rollout_id, PassedOverRow.device_id))
        .subquery()
    )
    beyond = (
        select(concerned.c.rollout_id)
        .join(Device, Device.id == concerned.c.device_id)
        .where(~func.coalesce(compile_selector(only, now), False))
    )
    some = select(concerned.c.rollout_id)
    statement = select(Rollout.id).where(Rollout.id.in_(list(ids)), Rollout.id.in_(some), Rollout.id.not_in(beyond))
    return set(await connection.scalars(statement))
