"""Gateways and the devices behind them, however many gateways stand between."""

from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Any, TypedDict

from sqlalchemy import BigInteger, Text, and_, any_, bindparam, exists, func, literal, or_, select
from sqlalchemy.dialects.postgresql import ARRAY
from sqlalchemy.ext.asyncio import AsyncConnection
from sqlalchemy.orm import aliased

from mellow_herald.core.attempt import AT_RISK, State
from mellow_herald.core.presence import LATE_AFTER
from mellow_herald.store.database import among, fetch_all
from mellow_herald.store.heard import HEARD_AT
from mellow_herald.store.tables import AttemptRow, Device, Pulse

# Nobody has more gateways one behind the other; a circle ends here, too.
DEEPEST = 16


class Standing(TypedDict):
    """How a member of a family stands: the rollout of its live attempt, whether that is ``at_risk``, whether it is only
    ``queued``, since when it waits for a condition, and whether it is ``present`` (not late)."""

    gateway: str
    id: int
    rollout_id: int | None
    live: bool
    at_risk: bool
    queued: bool
    waiting_since: datetime | None
    present: bool


class Member(Standing):
    """The same, and whether it is the gateway."""

    is_gateway: bool


def _gateways() -> Any:
    child, before = aliased(Device), aliased(Device)
    leads = exists(select(1).where(child.gateway == Device.serial))
    own = (
        select(Device.id, Device.serial, Device.gateway, leads.label("leads"), literal(0).label("depth"))
        .where(Device.id == among("ids"), or_(Device.gateway.is_not(None), leads))
        .cte("own", recursive=True)
    )
    above = own.union(
        select(own.c.id, before.serial, before.gateway, literal(True), own.c.depth + 1)
        .join(before, before.serial == own.c.gateway)
        .where(own.c.depth < DEEPEST)
    )
    return select(above)


_GATEWAYS = _gateways()


async def gateways_of(connection: AsyncConnection, devices: Iterable[int]) -> dict[int, list[str]]:
    """By device id, the serials of the gateways whose families these devices belong to: all those before them, and
    their own if others are behind them. Devices without any are left out; takes no lock."""
    found: dict[int, set[str]] = {}
    for row in await connection.execute(_GATEWAYS, {"ids": sorted(set(devices))}):
        names = found.setdefault(row.id, set())
        # A gateway that was never enrolled is one all the same.
        names |= {row.gateway} - {None}
        if row.leads:
            names.add(row.serial)
    return {device_id: sorted(names) for device_id, names in found.items() if names}


def _behind() -> Any:
    child = aliased(Device)
    first = (
        select(Device.gateway.label("gateway"), Device.id, Device.serial, literal(1).label("depth"))
        .where(Device.gateway == any_(bindparam("gateways", type_=ARRAY(Text))))
        .cte("behind", recursive=True)
    )
    return first.union(
        select(first.c.gateway, child.id, child.serial, first.c.depth + 1)
        .join(child, child.gateway == first.c.serial)
        .where(first.c.depth < DEEPEST)
    )


async def standing(connection: AsyncConnection, gateways: Sequence[str], now: datetime) -> list[Member]:
    """The members of these families: the gateways, and all that is behind them."""
    grace = func.make_interval(0, 0, 0, 0, 0, 0, Pulse.interval_s * LATE_AFTER)
    at_risk = AttemptRow.state.in_([state.value for state in AT_RISK])
    behind = _behind()
    members: list[Member] = []
    for is_gateway in (True, False):
        key = Device.serial if is_gateway else behind.c.gateway
        statement = (
            select(
                key.label("gateway"),
                Device.id,
                AttemptRow.rollout_id,
                AttemptRow.id.is_not(None).label("live"),
                func.coalesce(at_risk, False).label("at_risk"),
                func.coalesce(AttemptRow.state == State.QUEUED.value, False).label("queued"),
                AttemptRow.waiting_since,
                func.coalesce(HEARD_AT + grace >= now, False).label("present"),
            )
            .distinct()
            .select_from(Device)
        )
        if not is_gateway:
            statement = statement.join(behind, behind.c.id == Device.id)
        statement = (
            statement.outerjoin(AttemptRow, and_(AttemptRow.device_id == Device.id, AttemptRow.live))
            .outerjoin(Pulse, Pulse.device_id == Device.id)
            .where(key == any_(bindparam("gateways", type_=ARRAY(Text))))
        )
        rows = await fetch_all(connection, statement, Standing, {"gateways": list(gateways)})
        members += [{**row, "is_gateway": is_gateway} for row in rows]
    return members


class Placed(TypedDict):
    """A device and the gateway before it."""

    id: int
    serial: str
    gateway: str | None


async def relations(connection: AsyncConnection, limit: int) -> list[Placed]:
    """All devices that have a gateway or are one, in the order of their serials, at most ``limit``."""
    child = aliased(Device)
    leads = exists(select(1).where(child.gateway == Device.serial))
    statement = select(Device.id, Device.serial, Device.gateway).where(or_(Device.gateway.is_not(None), leads))
    return await fetch_all(connection, statement.order_by(Device.serial).limit(limit), Placed)


async def of_ids(connection: AsyncConnection, ids: Sequence[int]) -> list[Placed]:
    """These devices and the gateways before them."""
    wanted = any_(literal(list(ids), ARRAY(BigInteger)))
    return await fetch_all(
        connection, select(Device.id, Device.serial, Device.gateway).where(Device.id == wanted), Placed
    )
