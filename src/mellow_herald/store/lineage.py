"""How many devices run which version, over time."""

from datetime import datetime
from typing import TypedDict

from sqlalchemy import ColumnElement, case, func, literal, select
from sqlalchemy.dialects.postgresql import aggregate_order_by, distinct_on, insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.store.database import fetch_all
from mellow_herald.store.releases import IS_RELEASE
from mellow_herald.store.selector_sql import KNOWN_BUILD, RUNS, joined_column
from mellow_herald.store.tables import Device, LineageSample, PresenceSample, Pulse, Release, Rollout


class Sample(TypedDict):
    """How many devices ran which version at a time."""

    at: datetime
    counts: dict[str, int]


class StoredPresence(TypedDict):
    """A row of ``tables.PresenceSample``."""

    board: str
    at: datetime
    counts: dict[str, int]


class Presence(TypedDict):
    """How many devices were present how at a time."""

    at: datetime
    counts: dict[str, int]


class LineRollout(TypedDict):
    """A rollout of a line; ``version`` names both where it compares two releases of it."""

    id: int
    name: str
    state: str
    started_at: datetime | None
    ended_at: datetime | None
    version: str


UNKNOWN_BUILD, BENCH_BUILD, NOTHING_KNOWN = "unknown build", "bench build", "nothing known"


async def count_now(connection: AsyncConnection) -> dict[tuple[str, str], dict[str, int]]:
    """Admitted devices by (board, line), then by version; builds that no release has are counted together."""
    name = case(
        (Device.digest.is_(None), NOTHING_KNOWN),
        (RUNS == "bench-build", BENCH_BUILD),
        (~KNOWN_BUILD, UNKNOWN_BUILD),
        else_=Device.version,
    ).label("name")
    statement = (
        select(Device.board, Device.line, name, func.count().label("devices"))
        .where(Device.admission == "admitted")
        .group_by(Device.board, Device.line, name)
    )
    counts: dict[tuple[str, str], dict[str, int]] = {}
    for row in await connection.execute(statement):
        counts.setdefault((row.board, row.line), {})[row.name] = row.devices
    return counts


async def newest_samples(connection: AsyncConnection) -> dict[tuple[str, str], dict[str, int]]:
    """The last sample of each board and line."""
    statement = (
        select(LineageSample.board, LineageSample.line, LineageSample.counts)
        .ext(distinct_on(LineageSample.board, LineageSample.line))
        .order_by(LineageSample.board, LineageSample.line, LineageSample.at.desc())
    )
    return {(row.board, row.line): row.counts for row in await connection.execute(statement)}


async def add_sample(connection: AsyncConnection, board: str, line: str, at: datetime, counts: dict[str, int]) -> None:
    """Adds a sample."""
    statement = insert(LineageSample).values(board=board, line=line, at=at, counts=counts)
    await connection.execute(statement.on_conflict_do_nothing())


async def list_samples(connection: AsyncConnection, board: str, line: str, since: datetime | None) -> list[Sample]:
    """The samples of a line, oldest first; each holds until the next. With ``since``, the last one before it, too."""
    statement = (
        select(LineageSample.at, LineageSample.counts)
        .where(LineageSample.board == board, LineageSample.line == line)
        .order_by(LineageSample.at)
    )
    if since is not None:
        before = (
            select(func.max(LineageSample.at))
            .where(LineageSample.board == board, LineageSample.line == line, LineageSample.at <= since)
            .scalar_subquery()
        )
        statement = statement.where(LineageSample.at >= func.coalesce(before, since))
    return await fetch_all(connection, statement, Sample)


async def rollouts_of_line(connection: AsyncConnection, board: str, line: str) -> list[LineRollout]:
    """The rollouts that brought releases of a line to devices of a board, oldest first."""
    both = aggregate_order_by(literal(" or "), Release.id != Rollout.release_id)
    statement = (
        select(
            Rollout.id,
            Rollout.name,
            Rollout.state,
            Rollout.started_at,
            Rollout.ended_at,
            func.string_agg(Release.version, both).label("version"),
        )
        .join(Release, Release.id.in_([Rollout.release_id, Rollout.second_release_id]))
        .where(Release.board == board, Release.line == line, Rollout.started_at.is_not(None), IS_RELEASE)
        .group_by(Rollout.id)
        .order_by(Rollout.id)
    )
    return await fetch_all(connection, statement, LineRollout)


async def presence_now(connection: AsyncConnection, now: datetime) -> dict[str, dict[str, int]]:
    """Admitted devices by board, then by presence."""
    presence: ColumnElement[str] = joined_column("presence", now).label("presence")
    joined = select(Device.board, presence).outerjoin(Pulse, Pulse.device_id == Device.id)
    inner = joined.where(Device.admission == "admitted").subquery()
    statement = select(inner.c.board, inner.c.presence, func.count().label("devices"))
    counts: dict[str, dict[str, int]] = {}
    for row in await connection.execute(statement.group_by(inner.c.board, inner.c.presence)):
        counts.setdefault(row.board, {})[row.presence] = row.devices
    return counts


async def newest_presence(connection: AsyncConnection) -> dict[str, dict[str, int]]:
    """The last sample of each board."""
    statement = (
        select(PresenceSample.board, PresenceSample.counts)
        .ext(distinct_on(PresenceSample.board))
        .order_by(PresenceSample.board, PresenceSample.at.desc())
    )
    return {row.board: row.counts for row in await connection.execute(statement)}


async def add_presence(connection: AsyncConnection, board: str, at: datetime, counts: dict[str, int]) -> None:
    """Adds a sample."""
    statement = insert(PresenceSample).values(board=board, at=at, counts=counts)
    await connection.execute(statement.on_conflict_do_nothing())


async def list_presence(connection: AsyncConnection, board: str | None) -> list[Presence]:
    """Samples of one board, or of all boards together, oldest first; each holds until the next."""
    statement = select(PresenceSample.__table__).order_by(PresenceSample.at)
    if board is not None:
        statement = statement.where(PresenceSample.board == board)
    standing: dict[str, dict[str, int]] = {}
    samples: dict[datetime, dict[str, int]] = {}
    for row in await fetch_all(connection, statement, StoredPresence):
        standing[row["board"]] = row["counts"]
        total: dict[str, int] = {}
        for counts in standing.values():
            for name, devices in counts.items():
                total[name] = total.get(name, 0) + devices
        samples[row["at"]] = total
    return [{"at": at, "counts": counts} for at, counts in samples.items()]
