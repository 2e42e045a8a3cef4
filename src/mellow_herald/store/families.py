"""Gateways and the devices behind them."""

from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Any, TypedDict

from sqlalchemy import and_, exists, func, or_, select
from sqlalchemy.ext.asyncio import AsyncConnection
from sqlalchemy.orm import aliased

from mellow_herald.core.attempt import AT_RISK
from mellow_herald.core.presence import LATE_AFTER
from mellow_herald.store.database import among, fetch_all
from mellow_herald.store.heard import HEARD_AT
from mellow_herald.store.tables import AttemptRow, Device, Pulse


class Standing(TypedDict):
    """How a member of a family stands: whether an attempt of it is ``live`` and ``at_risk``, and whether it is
    ``present`` (not late)."""

    gateway: str
    id: int
    live: bool
    at_risk: bool
    present: bool


class Member(Standing):
    """The same, and whether it is the gateway."""

    is_gateway: bool


def _gateways() -> Any:
    child = aliased(Device)
    leads = exists(select(1).where(child.gateway == Device.serial))
    return select(Device.id, Device.serial, Device.gateway, leads.label("leads")).where(
        Device.id == among("ids"), or_(Device.gateway.is_not(None), leads)
    )


_GATEWAYS = _gateways()


async def gateways_of(connection: AsyncConnection, devices: Iterable[int]) -> dict[int, list[str]]:
    """By device id, the serials of the gateways whose families these devices belong to: the one before them, and their
    own if others are behind them. Devices without any are left out; takes no lock."""
    return {
        row.id: [*([row.gateway] if row.gateway else []), *([row.serial] if row.leads else [])]
        for row in await connection.execute(_GATEWAYS, {"ids": sorted(set(devices))})
    }


async def standing(connection: AsyncConnection, gateways: Sequence[str], now: datetime) -> list[Member]:
    """The members of these families."""
    grace = func.make_interval(0, 0, 0, 0, 0, 0, Pulse.interval_s * LATE_AFTER)
    at_risk = AttemptRow.state.in_([state.value for state in AT_RISK])
    members: list[Member] = []
    for is_gateway, key in ((True, Device.serial), (False, Device.gateway)):
        statement = (
            select(
                key.label("gateway"),
                Device.id,
                AttemptRow.id.is_not(None).label("live"),
                func.coalesce(at_risk, False).label("at_risk"),
                func.coalesce(HEARD_AT + grace >= now, False).label("present"),
            )
            .select_from(Device)
            .outerjoin(AttemptRow, and_(AttemptRow.device_id == Device.id, AttemptRow.live))
            .outerjoin(Pulse, Pulse.device_id == Device.id)
            .where(key.in_(list(gateways)))
        )
        rows = await fetch_all(connection, statement, Standing)
        members += [{**row, "is_gateway": is_gateway} for row in rows]
    return members
