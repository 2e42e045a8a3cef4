"""Asking for readings: what is kept, and what has landed and is not put together yet, as series of buckets."""

from collections.abc import Sequence
from datetime import datetime
from typing import Any, TypedDict

from sqlalchemy import Select, String, cast, func, select, text
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.readings.buckets import By, Division, Level
from mellow_herald.core.selector import Node
from mellow_herald.store.database import fetch_all
from mellow_herald.store.selector_sql import compile_selector
from mellow_herald.store.tables import AttemptRow, Device, RingRow


class Picked(TypedDict):
    """A device that is asked about, and the series that it belongs to."""

    device_id: int
    key: str


class Bucket(TypedDict):
    """One bucket of a series: how many values, the least, the most, their mean, and the last."""

    key: str
    at: datetime
    count: int
    least: float
    most: float
    mean: float
    last: float


class Word(TypedDict):
    """One value of a signal that is words."""

    key: str
    at: datetime
    text: str


NONE = "-"


def _key(by: By, rollout_id: int | None) -> Any:
    if by is By.DEVICE:
        return Device.serial
    if by is By.VERSION:
        return func.coalesce(Device.version, NONE)
    if by is By.HW_REV:
        return func.coalesce(cast(Device.hw_rev, String), NONE)
    newest = select(AttemptRow.rollout_id, AttemptRow.ring).where(AttemptRow.device_id == Device.id)
    if rollout_id is not None:
        newest = newest.where(AttemptRow.rollout_id == rollout_id)
    own = newest.order_by(AttemptRow.id.desc()).limit(1).correlate(Device).subquery().lateral()
    name = select(RingRow.name).where(RingRow.rollout_id == own.c.rollout_id, RingRow.position == own.c.ring)
    return func.coalesce(name.limit(1).scalar_subquery(), NONE)


async def pick(
    connection: AsyncConnection, where: Node, now: datetime, by: By, limit: int, rollout_id: int | None = None
) -> list[Picked]:
    """Devices by serial, at most ``limit``."""
    statement: Select[Any] = (
        select(Device.id.label("device_id"), _key(by, rollout_id).label("key"))
        .where(compile_selector(where, now))
        .order_by(Device.serial)
        .limit(limit)
    )
    return await fetch_all(connection, statement, Picked)


_PICKED = (
    "WITH picked AS MATERIALIZED (SELECT * FROM unnest(CAST(:ids AS bigint[]), CAST(:keys AS text[]))"
    " AS t (device_id, key)), named AS (SELECT id FROM signal WHERE name = CAST(:signal AS text))"
)
_FROM, _TO = "CAST(:begin AS timestamptz)", "CAST(:end AS timestamptz)"
_BUCKET = "to_timestamp(floor(extract(epoch FROM {at}) / CAST(:step AS float8)) * CAST(:step AS float8))"
_LANDED = (
    "SELECT l.device_id, l.at + each.offset_ms * interval '1 millisecond' AS at, each.value"
    " FROM reading_landed l JOIN picked USING (device_id),"
    " unnest(l.offsets, l.vals) AS each (offset_ms, value)"
    " WHERE l.signal_id IN (SELECT id FROM named) AND l.vals IS NOT NULL"
)
# In a bucket each device counts once, however many values it has sent.
_PUT_TOGETHER = (
    "key, at, sum(count)::bigint AS count, min(least) AS least, max(most) AS most, avg(mean) AS mean,"
    " (array_agg(last ORDER BY last_at DESC))[1] AS last"
)
_EACH = text(
    f"{_PICKED}, each AS (SELECT c.device_id, c.at + each.offset_ms * interval '1 millisecond' AS at, each.value"
    " FROM reading_chunk c JOIN picked USING (device_id),"
    " unnest(c.offsets, coalesce(c.doubles, c.vals::float8[])) AS each (offset_ms, value)"
    f" WHERE c.signal_id IN (SELECT id FROM named) AND c.at > {_FROM} - interval '1 minute' AND c.at < {_TO}"
    f" AND c.texts IS NULL UNION {_LANDED}),"
    f" own AS (SELECT DISTINCT ON (device_id, at) * FROM each WHERE at >= {_FROM} AND at < {_TO})"
    f" SELECT {_PUT_TOGETHER} FROM (SELECT key, device_id, {_BUCKET.format(at='own.at')} AS at, count(*) AS count,"
    " min(value) AS least, max(value) AS most, avg(value) AS mean, max(own.at) AS last_at,"
    " (array_agg(value ORDER BY own.at DESC))[1] AS last"
    " FROM own JOIN picked USING (device_id) GROUP BY 1, 2, 3) AS device GROUP BY 1, 2 ORDER BY 1, 2"
)


def _rolled(table: str) -> Any:
    # What has landed and is not put together yet is of the last minute or two, or has come late.
    return text(
        f"{_PICKED}, fresh AS (SELECT device_id, date_trunc('minute', at) AS at, count(*)::int AS count,"
        " min(value) AS least, max(value) AS most, avg(value) AS mean,"
        f" (array_agg(value ORDER BY at DESC))[1] AS last FROM ({_LANDED}) AS landed GROUP BY 1, 2),"
        " own AS (SELECT r.device_id, r.at, r.count, r.least, r.most, r.mean, r.last"
        f" FROM {table} r JOIN picked USING (device_id)"
        f" WHERE r.signal_id IN (SELECT id FROM named) AND r.at >= {_FROM} AND r.at < {_TO}"
        f" UNION ALL SELECT * FROM fresh WHERE at >= {_FROM} AND at < {_TO})"
        f" SELECT {_PUT_TOGETHER} FROM (SELECT key, device_id, {_BUCKET.format(at='own.at')} AS at,"
        " sum(count) AS count, min(least) AS least, max(most) AS most, sum(mean * count) / sum(count) AS mean,"
        " max(own.at) AS last_at,"
        " (array_agg(last ORDER BY own.at DESC))[1] AS last"
        " FROM own JOIN picked USING (device_id) GROUP BY 1, 2, 3) AS device GROUP BY 1, 2 ORDER BY 1, 2"
    )


_QUERIES = {Level.EACH: _EACH, Level.MINUTE: _rolled("reading_minute"), Level.HOUR: _rolled("reading_hour")}
_WORDS = text(
    f"{_PICKED}, each AS (SELECT c.device_id, c.at + each.offset_ms * interval '1 millisecond' AS at, each.text"
    " FROM reading_chunk c JOIN picked USING (device_id), unnest(c.offsets, c.texts) AS each (offset_ms, text)"
    f" WHERE c.signal_id IN (SELECT id FROM named) AND c.at > {_FROM} - interval '1 minute' AND c.at < {_TO}"
    " UNION SELECT l.device_id, l.at + each.offset_ms * interval '1 millisecond', each.text"
    " FROM reading_landed l JOIN picked USING (device_id), unnest(l.offsets, l.texts) AS each (offset_ms, text)"
    " WHERE l.signal_id IN (SELECT id FROM named) AND l.texts IS NOT NULL)"
    f" SELECT key, at, text FROM each JOIN picked USING (device_id) WHERE at >= {_FROM} AND at < {_TO}"
    " ORDER BY key, at LIMIT :most"
)


async def series(
    connection: AsyncConnection, picked: Sequence[Picked], signal: str, division: Division
) -> list[Bucket]:
    """The buckets of a signal that is numbers, by series and time; empty ones are not there."""
    return await fetch_all(connection, _QUERIES[division.level], Bucket, _parameters(picked, signal, division))


async def list_words(
    connection: AsyncConnection, picked: Sequence[Picked], signal: str, division: Division, most: int
) -> list[Word]:
    """The values of a signal that is words, at most so many."""
    return await fetch_all(connection, _WORDS, Word, {**_parameters(picked, signal, division), "most": most})


def _parameters(picked: Sequence[Picked], signal: str, division: Division) -> dict[str, Any]:
    return {
        "ids": [one["device_id"] for one in picked],
        "keys": [one["key"] for one in picked],
        "signal": signal,
        "begin": division.begin,
        "end": division.end,
        "step": division.step_s,
    }
