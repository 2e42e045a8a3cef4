"""The row that relates service time to real time, kept so that a restart never moves the clock back."""

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncEngine

from mellow_herald.store.gate import Lock, take
from mellow_herald.store.tables import ClockRow

# A beat older than this (real seconds) means that no process was serving.
GAP = timedelta(seconds=10)


@dataclass(frozen=True, slots=True)
class Anchor:
    """Service time is ``service_epoch + (real time - real_epoch) * scale``."""

    scale: float
    real_epoch: datetime
    service_epoch: datetime

    def at(self, real: datetime) -> datetime:
        """Service time at real time ``real``."""
        return self.service_epoch + (real - self.real_epoch) * self.scale


async def anchor_clock(engine: AsyncEngine, scale: float, real: datetime) -> Anchor:
    """The anchor for a process that starts at ``real``.

    While another process beats with the same scale its anchor is shared; otherwise a new one starts where the
    service's time had come to, or at real time if that is later.
    """
    async with engine.begin() as connection:
        await take(connection, Lock.CLOCK)
        row = (await connection.execute(select(ClockRow.__table__))).first()
        if row is not None and real - row.beat_real < GAP and row.scale == scale:
            return Anchor(row.scale, row.real_epoch, row.service_epoch)
        start = real if row is None else max(real, row.beat_service)
        # A quick restart is no gap: devices had no time to miss the service.
        gap = row is None or real - row.beat_real >= GAP
        values = {
            "scale": scale,
            "real_epoch": real,
            "service_epoch": start,
            "beat_real": real,
            "beat_service": start,
            "serving_since": start if gap or row is None else row.serving_since,
            "database_since": func.pg_postmaster_start_time(),
        }
        statement = insert(ClockRow).values(id=1, **values)
        await connection.execute(statement.on_conflict_do_update(index_elements=["id"], set_=values))
        return Anchor(scale, real, start)


@dataclass(frozen=True, slots=True)
class Beat:
    """Since when the service has been serving without a gap (service time), and, in the one process that notices it
    first, that the database has started anew meanwhile: how long nothing could be written (real time)."""

    serving_since: datetime
    database_was_gone: timedelta | None


async def beat(engine: AsyncEngine, real: datetime, service: datetime) -> Beat:
    """Notes that the service serves."""
    async with engine.begin() as connection:
        known = select(
            ClockRow.beat_real,
            ClockRow.serving_since,
            ClockRow.database_since,
            func.pg_postmaster_start_time().label("database_now"),
        )
        row = (await connection.execute(known.with_for_update())).one()
        since = service if real - row.beat_real >= GAP else row.serving_since
        values = {"beat_real": real, "serving_since": since, "database_since": row.database_now}
        await connection.execute(
            update(ClockRow).values(beat_service=func.greatest(ClockRow.beat_service, service), **values)
        )
        anew = row.database_since is not None and row.database_since != row.database_now
        return Beat(since, real - row.beat_real if anew else None)
