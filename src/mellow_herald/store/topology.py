"""How gateways and the devices behind them stand."""

from collections.abc import Sequence
from datetime import datetime
from typing import Any, TypedDict

from sqlalchemy import Text, and_, any_, func, literal, or_, select
from sqlalchemy.dialects.postgresql import ARRAY
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import State
from mellow_herald.core.selector import Node
from mellow_herald.store.database import fetch_all
from mellow_herald.store.heard import HEARD_AT
from mellow_herald.store.selector_sql import compile_selector
from mellow_herald.store.tables import AttemptRow, Device, Pulse, Release, ReleaseImage, Rollout

# What makes the device itself restart: firmware of its own, which no main controller streams into another.
RESTARTING = State.INSTALLING.value


class NodeRow(TypedDict):
    """A device as the tree shows it, with its newest attempt."""

    serial: str
    board: str
    line: str
    version: str | None
    seen_at: datetime | None
    heard_at: datetime | None
    interval_s: int | None
    state: str | None
    live: bool | None
    rollout_id: int | None
    parts: dict[str, Any] | None


class RestartingGateway(TypedDict):
    """A gateway that restarts for an update now, and since when."""

    serial: str
    since: datetime


async def nodes(connection: AsyncConnection, serials: Sequence[str]) -> dict[str, NodeRow]:
    """How these devices stand, by serial."""
    newest = (
        select(func.max(AttemptRow.id)).where(AttemptRow.device_id == Device.id).correlate(Device).scalar_subquery()
    )
    statement = (
        select(
            Device.serial,
            Device.board,
            Device.line,
            Device.version,
            Pulse.seen_at,
            HEARD_AT.label("heard_at"),
            Pulse.interval_s,
            AttemptRow.state,
            AttemptRow.live,
            AttemptRow.rollout_id,
            AttemptRow.parts,
        )
        .outerjoin(Pulse, Pulse.device_id == Device.id)
        .outerjoin(AttemptRow, AttemptRow.id == newest)
        .where(Device.serial == any_(literal(list(serials), ARRAY(Text))))
    )
    return {row["serial"]: row for row in await fetch_all(connection, statement, NodeRow)}


async def restarting(connection: AsyncConnection) -> dict[str, datetime]:
    """Gateways that restart for an update now, by serial: since when."""
    firmware = (
        select(1)
        .where(ReleaseImage.release_id == Release.id, func.strpos(ReleaseImage.component, "/") == 0)
        .correlate(Release)
        .exists()
    )
    leads = select(Device.gateway).where(Device.gateway.is_not(None))
    statement = (
        select(Device.serial, AttemptRow.changed_at.label("since"))
        .join(AttemptRow, and_(AttemptRow.device_id == Device.id, AttemptRow.live))
        .join(Rollout, Rollout.id == AttemptRow.rollout_id)
        .join(Release, Release.id == func.coalesce(AttemptRow.release_id, Rollout.release_id))
        .where(AttemptRow.state == RESTARTING, Device.serial.in_(leads), or_(Release.restart, firmware))
    )
    return {row["serial"]: row["since"] for row in await fetch_all(connection, statement, RestartingGateway)}


async def targeted(connection: AsyncConnection, serials: Sequence[str], where: Node, now: datetime) -> list[str]:
    """Those of these devices that a selector picks."""
    own = Device.serial == any_(literal(list(serials), ARRAY(Text)))
    statement = select(Device.serial).where(own, compile_selector(where, now)).order_by(Device.serial)
    return list((await connection.execute(statement)).scalars())


async def gateways_behind_gateways(connection: AsyncConnection) -> dict[str, str]:
    """The gateways that have one themselves, with it: only among these can there be a circle."""
    leads = select(Device.gateway).where(Device.gateway.is_not(None))
    statement = select(Device.serial, Device.gateway).where(Device.gateway.is_not(None), Device.serial.in_(leads))
    return {row.serial: row.gateway for row in await connection.execute(statement)}
