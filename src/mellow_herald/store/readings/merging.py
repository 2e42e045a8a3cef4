"""Putting together what has landed: whole minutes, and what is rolled up of them."""

from collections import defaultdict
from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from sqlalchemy import text
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.readings.chunk import Rollup, merge, merge_texts, roll_up
from mellow_herald.store.readings.copying import NULL, copy_rows, doubles, ints, moment, reals, small, texts, whole
from mellow_herald.store.readings.partitions import make_room

AT_ONCE = 5000
CHUNK = ("device_id", "signal_id", "at", "offsets", "vals", "doubles", "texts")
ROLLED = ("device_id", "signal_id", "at", "count", "least", "most", "mean", "last")
LARGEST_REAL = float(np.finfo(np.float32).max)
Key = tuple[int, int, datetime]
_TAKE = text(
    "DELETE FROM reading_landed WHERE id IN (SELECT id FROM reading_landed WHERE at <= :over ORDER BY id LIMIT :most)"
    " RETURNING id, device_id, signal_id, at, offsets, vals, texts"
)
_KEYS = (
    " FROM unnest(CAST(:devices AS bigint[]), CAST(:signals AS int[]), CAST(:times AS timestamptz[]))"
    " AS key (device_id, signal_id, at)"
)
_SAME = "device_id = key.device_id AND {0}.signal_id = key.signal_id AND {0}.at = key.at"
_KEPT = text(
    "SELECT c.device_id, c.signal_id, c.at, c.offsets, coalesce(c.doubles, c.vals::float8[]) AS vals, c.texts"
    + _KEYS
    + " JOIN reading_chunk c ON c."
    + _SAME.format("c")
)
_HOURS = text(
    "INSERT INTO reading_hour (device_id, signal_id, at, count, least, most, mean, last)"
    " SELECT key.device_id, key.signal_id, key.at, sum(m.count), min(m.least), max(m.most),"
    " sum(m.mean * m.count) / sum(m.count), (array_agg(m.last ORDER BY m.at DESC))[1]"
    + _KEYS
    + " JOIN reading_minute m ON m.device_id = key.device_id AND m.signal_id = key.signal_id"
    " AND m.at >= key.at AND m.at < key.at + interval '1 hour'"
    " GROUP BY key.device_id, key.signal_id, key.at"
    " ON CONFLICT (device_id, signal_id, at) DO UPDATE SET count = excluded.count, least = excluded.least,"
    " most = excluded.most, mean = excluded.mean, last = excluded.last"
)


async def merge_landed(connection: AsyncConnection, now: datetime, most: int = AT_ONCE) -> int:
    """Puts together what has landed of minutes that are over; returns how many rows that were."""
    rows = (await connection.execute(_TAKE, {"over": now - timedelta(minutes=1), "most": most})).all()
    if not rows:
        return 0
    landed: dict[Key, list[Any]] = defaultdict(list)
    for row in sorted(rows, key=lambda one: one.id):
        landed[row.device_id, row.signal_id, row.at].append(row)
    keys = sorted(landed)
    await make_room(connection, {at for _, _, at in keys})
    kept = await connection.execute(_KEPT, _listed(keys))
    # What is kept already came first.
    parts = {(row.device_id, row.signal_id, row.at): [row] for row in kept}
    late = list(parts)
    for key in keys:
        parts.setdefault(key, []).extend(landed[key])
    precise = await _precise(connection, {signal for _, signal, _ in keys})
    chunks, minutes = [], []
    for key in keys:
        chunk, rolled = _whole(parts[key], precise=key[1] in precise)
        chunks.append((whole(key[0]), small(key[1]), moment(key[2]), *chunk))
        if rolled is not None:
            minutes.append((*key, rolled.count, rolled.least, rolled.most, rolled.mean, rolled.last))
    await _forget(connection, late)
    raw: Any = (await connection.get_raw_connection()).driver_connection
    await copy_rows(connection, "reading_chunk", CHUNK, chunks)
    await raw.copy_records_to_table("reading_minute", records=minutes, columns=ROLLED)
    hours = sorted({(device, signal, _hour(at)) for device, signal, at, *_ in minutes})
    if hours:
        await connection.execute(_HOURS, _listed(hours))
    return len(rows)


def _whole(parts: Sequence[Any], *, precise: bool) -> tuple[tuple[bytes, ...], Rollup | None]:
    """One minute: the fields of its offsets, and of numbers, precise numbers or words; and what is rolled up of
    numbers. What is too large for a number of seven digits is kept as a precise one."""
    # A signal that has become another kind within a minute: what came first decides for the rest of it.
    words = parts[0].vals is None
    fitting = [part for part in parts if (part.vals is None) == words]
    if words:
        offsets, told = merge_texts([(np.array(part.offsets, np.int32), part.texts) for part in fitting])
        return (ints(offsets), NULL, NULL, texts(told)), None
    offsets, values = merge([(np.array(part.offsets, np.int32), np.array(part.vals)) for part in fitting])
    if precise or float(np.abs(values).max()) > LARGEST_REAL:
        return (ints(offsets), NULL, doubles(values), NULL), roll_up(values)
    return (ints(offsets), reals(values), NULL, NULL), roll_up(values)


async def _precise(connection: AsyncConnection, signals: set[int]) -> set[int]:
    found = await connection.execute(
        text("SELECT id FROM signal WHERE precise AND id = ANY(:signals)"), {"signals": sorted(signals)}
    )
    return {one for (one,) in found}


async def _forget(connection: AsyncConnection, keys: Sequence[Key]) -> None:
    if keys:
        for table in ("reading_chunk", "reading_minute"):
            condition = f"{table}." + _SAME.format(table)
            await connection.execute(
                text(f"DELETE FROM {table} USING (SELECT *{_KEYS}) AS key WHERE {condition}"), _listed(keys)
            )


def _listed(keys: Iterable[Key]) -> dict[str, list[Any]]:
    columns = list(zip(*keys, strict=True)) or [(), (), ()]
    return {name: list(column) for name, column in zip(("devices", "signals", "times"), columns, strict=True)}


def _hour(at: datetime) -> datetime:
    return at.replace(minute=0, second=0, microsecond=0)
