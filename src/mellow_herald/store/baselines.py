"""Baselines that bring devices to them: which there are, and which devices are due."""

from collections.abc import Sequence
from datetime import datetime
from typing import TypedDict

from sqlalchemy import func, select, update
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.eligibility import Rules
from mellow_herald.store.database import fetch_all
from mellow_herald.store.rows import StoredBaseline
from mellow_herald.store.selector_sql import compile_reason
from mellow_herald.store.tables import Baseline, Device, Release


class BaselineRelease(StoredBaseline):
    """A baseline, and the version of its release."""

    version: str


class Arriving(TypedDict):
    """A device that arrived, and why it is passed over, if it is."""

    id: int
    serial: str
    version: str | None
    reason: str | None


async def list_baselines(
    connection: AsyncConnection, board: str | None = None, line: str | None = None
) -> list[BaselineRelease]:
    """All baselines with their releases, or that of one board and line."""
    statement = (
        select(Baseline.__table__, Release.version)
        .join(Release, Release.id == Baseline.release_id)
        .order_by(Baseline.board, Baseline.line)
    )
    if board is not None:
        statement = statement.where(Baseline.board == board, Baseline.line == line)
    return await fetch_all(connection, statement, BaselineRelease)


async def switch_baseline(connection: AsyncConnection, board: str, line: str, brings: bool) -> None:
    """Lets a baseline bring devices, or no longer."""
    statement = update(Baseline).where(Baseline.board == board, Baseline.line == line)
    await connection.execute(statement.values(brings=brings))


async def list_arriving(
    connection: AsyncConnection, board: str, line: str, rules: Rules, now: datetime, limit: int
) -> list[Arriving]:
    """Admitted devices of a board and line that arrived and have said what they run: ``id``, ``serial``, ``version``,
    and the ``reason`` they are passed over, if there is one."""
    statement = (
        select(Device.id, Device.serial, Device.version, compile_reason(rules, now).label("reason"))
        .where(Device.arriving, Device.board == board, Device.line == line, Device.admission == "admitted")
        .where(Device.digest.is_not(None))
        .order_by(Device.id)
        .limit(limit)
    )
    return await fetch_all(connection, statement, Arriving)


async def count_others(connection: AsyncConnection, board: str, line: str, rules: Rules, now: datetime) -> int:
    """How many devices could be brought but did not arrive: a baseline leaves them alone."""
    reason = compile_reason(rules, now)
    statement = select(func.count()).where(
        Device.board == board, Device.line == line, Device.arriving.is_(False), reason.is_(None)
    )
    return int(await connection.scalar(statement) or 0)


async def seen_to(connection: AsyncConnection, ids: Sequence[int]) -> None:
    """These devices have arrived: the baseline was seen to."""
    await connection.execute(update(Device).where(Device.id.in_(sorted(ids))).values(arriving=False))
