"""Readings of the devices of a rollout around their switch, and of those that have not switched."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, TypedDict

from sqlalchemy import case, func, select, text
from sqlalchemy.ext.asyncio import AsyncConnection
from sqlalchemy.orm import aliased

from mellow_herald.core.attempt import State
from mellow_herald.store.database import fetch_all
from mellow_herald.store.tables import AttemptRow, Device, DeviceSignal, SignalRow


class Switched(TypedDict):
    """A device of a rollout: when it switched (None: not yet), when it left what it had switched to (None: it runs
    that), and its attempt; ``lot`` is which of two compared releases it got by lot."""

    attempt_id: int
    device_id: int
    serial: str
    exposed_at: datetime | None
    left_at: datetime | None
    confirmed_at: datetime | None
    state: str
    closed: bool
    soak_until: datetime | None
    lot: int | None


@dataclass(frozen=True, slots=True)
class Moved:
    """A device, the moment around which it is looked at, and until when."""

    device_id: int
    at: datetime
    until: datetime | None = None


class Minute(TypedDict):
    """What is kept of a minute, so many seconds after the device's switch (before it: below nought)."""

    device_id: int
    after_s: float
    mean: float


async def switched(connection: AsyncConnection, rollout_id: int, limit: int) -> list[Switched]:
    """The devices of a rollout."""
    later = aliased(AttemptRow)
    next_at = (
        select(func.min(later.exposed_at))
        .where(later.device_id == AttemptRow.device_id, later.exposed_at > AttemptRow.exposed_at)
        .scalar_subquery()
    )
    went_back = case((AttemptRow.state == State.REVERTED, AttemptRow.first_bad_at))
    statement = (
        select(
            AttemptRow.id.label("attempt_id"),
            AttemptRow.device_id,
            Device.serial,
            AttemptRow.exposed_at,
            func.least(next_at, went_back).label("left_at"),
            AttemptRow.confirmed_at,
            AttemptRow.state,
            AttemptRow.closed,
            AttemptRow.soak_until,
            AttemptRow.lot,
        )
        .join(Device, Device.id == AttemptRow.device_id)
        .where(AttemptRow.rollout_id == rollout_id)
        .order_by(AttemptRow.id)
        .limit(limit)
    )
    return await fetch_all(connection, statement, Switched)


async def not_switched(
    connection: AsyncConnection, rollout_id: int, board: str, line: str, signal: str, limit: int
) -> list[int]:
    """Devices of the same board and line that this rollout has not switched and that have sent the signal: in it, for a
    later ring, or outside it."""
    switched = select(AttemptRow.device_id).where(
        AttemptRow.rollout_id == rollout_id, AttemptRow.exposed_at.is_not(None)
    )
    statement = (
        select(Device.id)
        .join(DeviceSignal, DeviceSignal.device_id == Device.id)
        .join(SignalRow, SignalRow.id == DeviceSignal.signal_id)
        .where(
            Device.board == board,
            Device.line == line,
            Device.admission == "admitted",
            SignalRow.name == signal,
            Device.id.not_in(switched),
        )
        .order_by(Device.id)
        .limit(limit)
    )
    return [one for (one,) in await connection.execute(statement)]


_WITHIN = "at > moved.moved_at - CAST(:span AS interval) AND {0}.at < least(until, moved_at + CAST(:span AS interval))"
_AROUND = text(
    "WITH moved AS MATERIALIZED (SELECT * FROM unnest(CAST(:ids AS bigint[]), CAST(:times AS timestamptz[]),"
    " CAST(:untils AS timestamptz[])) AS t (device_id, moved_at, until)),"
    " named AS (SELECT id FROM signal WHERE name = CAST(:signal AS text)),"
    " own AS (SELECT r.device_id, r.at, r.mean FROM reading_minute r JOIN moved USING (device_id)"
    f" WHERE r.signal_id IN (SELECT id FROM named) AND r.{_WITHIN.format('r')}"
    " UNION ALL SELECT l.device_id, l.at, avg(value) FROM reading_landed l JOIN moved USING (device_id),"
    " unnest(l.vals) AS value WHERE l.signal_id IN (SELECT id FROM named) AND l.vals IS NOT NULL"
    f" AND l.{_WITHIN.format('l')} GROUP BY l.device_id, l.at)"
    " SELECT device_id, CAST(extract(epoch FROM own.at - moved.moved_at) AS float8) AS after_s, mean"
    " FROM own JOIN moved USING (device_id) ORDER BY device_id, after_s"
)


async def around(connection: AsyncConnection, moved: Sequence[Moved], signal: str, span: Any) -> list[Minute]:
    """The minutes of a signal within ``span`` before and after a moment of each device's own, in order of time; of each
    up to a time of its own, if it has one."""
    parameters = {
        "ids": [one.device_id for one in moved],
        "times": [one.at for one in moved],
        "untils": [one.until for one in moved],
        "signal": signal,
        "span": span,
    }
    return await fetch_all(connection, _AROUND, Minute, parameters)
