"""The row that relates service time to real time, kept so that a restart never moves the clock back."""

import time
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cache
from pathlib import Path

from sqlalchemy import func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncEngine

from mellow_herald.core.steady import JUMP
from mellow_herald.store.gate import Lock, take
from mellow_herald.store.tables import ClockRow

# A beat older than this (real seconds) means that no process was serving.
GAP = timedelta(seconds=10)


class OtherScaleError(RuntimeError):
    """Another service runs on this database, at another speed."""


@dataclass(frozen=True, slots=True)
class Ticks:
    """Seconds since this machine started (``count``), and which of its starts that was (``boot``): while it is the same
    one, they tell how long ago a beat was, however the clock was set meanwhile."""

    count: float
    boot: str

    @staticmethod
    def now() -> "Ticks":
        """As they stand."""
        return Ticks(count_ticks(), _boot())


def count_ticks() -> float:
    """Seconds since this machine started, which nobody can set."""
    return time.clock_gettime(time.CLOCK_BOOTTIME)


@cache
def _boot() -> str:
    return Path("/proc/sys/kernel/random/boot_id").read_text().strip()


async def steady_start(engine: AsyncEngine, wall: datetime, ticks: Ticks) -> datetime:
    """With which real time a process begins: the one that others of this machine have come to, else the wall clock."""
    async with engine.connect() as connection:
        row = (await connection.execute(select(ClockRow.__table__))).first()
    if row is None or row.beat_boot != ticks.boot or row.beat_ticks is None or ticks.count < row.beat_ticks:
        return wall
    since: datetime = row.beat_real + timedelta(seconds=ticks.count - row.beat_ticks)
    return since


@dataclass(frozen=True, slots=True)
class Anchor:
    """Service time is ``service_epoch + (real time - real_epoch) * scale``."""

    scale: float
    real_epoch: datetime
    service_epoch: datetime

    def at(self, real: datetime) -> datetime:
        """Service time at real time ``real``."""
        return self.service_epoch + (real - self.real_epoch) * self.scale


async def anchor_clock(engine: AsyncEngine, scale: float, real: datetime, ticks: Ticks) -> Anchor:
    """The anchor for a process that starts at ``real``, which is at ``ticks``.

    While another process beats with the same scale its anchor is shared; otherwise a new one starts where the
    service's time had come to, or at real time if that is later. ``OtherScaleError`` while another process beats with
    another scale.
    """
    async with engine.begin() as connection:
        await take(connection, Lock.CLOCK)
        row = (await connection.execute(select(ClockRow.__table__))).first()
        if row is not None and real - row.beat_real < GAP and row.scale == scale:
            return Anchor(row.scale, row.real_epoch, row.service_epoch)
        if row is not None and row.scale != scale and not row.rests and real - row.beat_real < GAP:
            raise OtherScaleError(
                f"another service runs on this database, at a time scale of {row.scale:g}, not {scale:g}."
                f" Stop it first; one that was killed counts as running for {GAP.total_seconds():.0f} s more."
            )
        start = real if row is None else max(real, row.beat_service)
        # A quick restart is no gap: devices had no time to miss the service.
        gap = row is None or real - row.beat_real >= GAP
        values = {
            "scale": scale,
            "real_epoch": real,
            "service_epoch": start,
            "beat_real": real,
            "beat_service": start,
            # Together with the real time: of two that are of different moments, the next process that starts would make
            # a clock that is ahead by what lies between them.
            "beat_ticks": ticks.count,
            "beat_boot": ticks.boot,
            "serving_since": start if gap or row is None else row.serving_since,
            "away_from": None if row is None else row.beat_service if gap else row.away_from,
            "database_since": func.pg_postmaster_start_time(),
            "ahead_s": 0.0,
            "rests": False,
        }
        statement = insert(ClockRow).values(id=1, **values)
        await connection.execute(statement.on_conflict_do_update(index_elements=["id"], set_=values))
        return Anchor(scale, real, start)


@dataclass(frozen=True, slots=True)
class Beat:
    """Since when the service has been serving without a gap (service time), and, in the one process that notices it
    first, that the database has started anew meanwhile: how long nothing could be written (real time), and that the
    machine's clock has jumped: by how much it is ahead."""

    serving_since: datetime
    database_was_gone: timedelta | None
    clock_jumped: timedelta | None


async def rest(engine: AsyncEngine) -> None:
    """Notes that a process stops, as it was asked to."""
    async with engine.begin() as connection:
        await connection.execute(update(ClockRow).values(rests=True))


async def beat(engine: AsyncEngine, real: datetime, service: datetime, ahead: timedelta, ticks: Ticks) -> Beat:
    """Notes that the service serves, and how far ``ahead`` the machine's clock is."""
    async with engine.begin() as connection:
        known = select(
            ClockRow.beat_real,
            ClockRow.beat_service,
            ClockRow.away_from,
            ClockRow.serving_since,
            ClockRow.database_since,
            ClockRow.ahead_s,
            func.pg_postmaster_start_time().label("database_now"),
        )
        row = (await connection.execute(known.with_for_update())).one()
        was_away = real - row.beat_real >= GAP
        since = service if was_away else row.serving_since
        values = {
            "beat_real": real,
            "beat_ticks": ticks.count,
            "beat_boot": ticks.boot,
            "serving_since": since,
            "away_from": row.beat_service if was_away else row.away_from,
            "database_since": row.database_now,
            "ahead_s": ahead.total_seconds(),
            "rests": False,
        }
        await connection.execute(
            update(ClockRow).values(beat_service=func.greatest(ClockRow.beat_service, service), **values)
        )
        anew = row.database_since is not None and row.database_since != row.database_now
        jumped = abs(ahead - timedelta(seconds=row.ahead_s or 0)) > JUMP
        return Beat(since, real - row.beat_real if anew else None, ahead if jumped else None)
