"""What devices said of themselves, hour by hour."""

from collections.abc import Iterable, Sequence
from datetime import UTC, date, datetime, timedelta
from typing import TypedDict

import numpy as np
from sqlalchemy import BigInteger, Text, any_, delete, literal, select, text
from sqlalchemy.dialects.postgresql import ARRAY
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.foresight import DAYS, HourMarks, Words, week_of, word_of
from mellow_herald.store.database import as_rows, fetch_all
from mellow_herald.store.rows import StoredPulse
from mellow_herald.store.tables import ConditionDay, Device


class KnownDay(TypedDict):
    """The hours of a device's day."""

    device_id: int
    day: date
    hours: list[int]


class Zoned(TypedDict):
    """A device and its label ``tz``."""

    id: int
    tz: str | None


_NOTE = text(
    "INSERT INTO condition_day AS known (device_id, day, hours)"
    " SELECT device_id, day, array_fill(0::smallint, ARRAY[hour]) || word || array_fill(0::smallint, ARRAY[23 - hour])"
    " FROM jsonb_to_recordset(CAST(:rows AS jsonb)) AS new(device_id bigint, day date, hour int, word smallint)"
    " ORDER BY device_id"
    " ON CONFLICT (device_id, day) DO UPDATE SET hours = (SELECT array_agg(greatest(old, fresh) ORDER BY place)"
    " FROM unnest(known.hours, excluded.hours) WITH ORDINALITY AS both_of(old, fresh, place))"
)


async def note_conditions(connection: AsyncConnection, marks: HourMarks, pulses: Iterable[StoredPulse]) -> None:
    """Writes down how devices are that are heard of for the first time in an hour; what they say later in it is not."""
    rows = []
    for pulse in pulses:
        at = pulse["seen_at"].astimezone(UTC)
        if marks.first(pulse["device_id"], int(at.timestamp()) // 3600):
            word = word_of(pulse["condition"])
            rows.append({"device_id": pulse["device_id"], "day": at.date(), "hour": at.hour, "word": word})
    if rows:
        await connection.execute(_NOTE, {"rows": as_rows(rows)})


async def load_week(connection: AsyncConnection, ids: Sequence[int], now: datetime) -> tuple[Words, list[str | None]]:
    """Of each of these devices the words of the last week's hours, and its label ``tz``."""
    wanted = any_(literal([int(one) for one in ids], ARRAY(BigInteger)))
    days = await fetch_all(
        connection,
        select(ConditionDay.__table__).where(
            ConditionDay.device_id == wanted, ConditionDay.day >= now.date() - timedelta(days=DAYS)
        ),
        KnownDay,
    )
    known: dict[int, dict[date, list[int]]] = {}
    for row in days:
        known.setdefault(row["device_id"], {})[row["day"]] = row["hours"]
    tz = Device.labels["tz"].astext.cast(Text).label("tz")
    zones = {
        row["id"]: row["tz"]
        for row in await fetch_all(connection, select(Device.id, tz).where(Device.id == wanted), Zoned)
    }
    weeks = [week_of(known.get(int(one), {}), now) for one in ids]
    return np.array(weeks, np.int16).reshape(len(weeks), -1), [zones.get(int(one)) for one in ids]


async def forget_old_days(connection: AsyncConnection, now: datetime) -> None:
    """Drops what nobody looks back to any more."""
    await connection.execute(delete(ConditionDay).where(ConditionDay.day < now.date() - timedelta(days=DAYS + 1)))
