"""What a preview asks about devices besides who they are."""

from collections.abc import AsyncIterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import TypedDict, cast

from sqlalchemy import BigInteger, ScalarSelect, any_, func, literal, select
from sqlalchemy.dialects.postgresql import ARRAY
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import State
from mellow_herald.core.presence import presence
from mellow_herald.store.heard import HEARD_AT
from mellow_herald.store.rings import Target
from mellow_herald.store.selector_sql import compile_reason, compile_selector
from mellow_herald.store.tables import AttemptEvent, AttemptRow, Device, ImageRow, Pulse, ReleaseImage, Rollout

MEASURED = 2000
NEARLY_ALL = 0.95


class PassedOverDevice(TypedDict):
    """A device that a rollout would pass over, and why."""

    serial: str
    hw_rev: int
    version: str | None
    reason: str


@dataclass(frozen=True, slots=True)
class Sample:
    """Of some devices: how many are present how, after how long nearly all have called, and when the next one is
    due."""

    presence: dict[str, int]
    interval: timedelta | None
    next_call: datetime | None


async def sample(connection: AsyncConnection, ids: Sequence[int], now: datetime) -> Sample:
    """Looks at these devices' last calls."""
    statement = (
        select(Pulse.seen_at, HEARD_AT.label("heard_at"), Pulse.interval_s, Pulse.next_s)
        .select_from(Device)
        .outerjoin(Pulse, Pulse.device_id == Device.id)
        .where(Device.id == any_(literal(list(ids), ARRAY(BigInteger))))
    )
    counts: dict[str, int] = {}
    intervals, calls = [], []
    for row in await connection.execute(statement):
        span = timedelta(seconds=row.interval_s or 1)
        word = presence(row.heard_at, span, now).value
        counts[word] = counts.get(word, 0) + 1
        if row.seen_at is not None and word != "offline":
            intervals.append(span)
            calls.append(max(now, row.seen_at + timedelta(seconds=row.next_s)))
    if not intervals:
        return Sample(counts, None, None)
    return Sample(counts, sorted(intervals)[int(NEARLY_ALL * (len(intervals) - 1))], min(calls))


def size_of_app() -> ScalarSelect[int]:
    """The size of the application's image (bytes) in the release that an attempt brings."""
    return (
        select(func.max(ImageRow.size))
        .join(ReleaseImage, ReleaseImage.digest == ImageRow.digest)
        .where(
            ReleaseImage.release_id == func.coalesce(AttemptRow.release_id, Rollout.release_id),
            ReleaseImage.component == "app",
        )
        .correlate(Rollout, AttemptRow)
        .scalar_subquery()
    )


async def measured_rate(connection: AsyncConnection, board: str) -> float | None:
    """What the links of a board's devices carried lately, in bytes a second: the median over their last transfers."""
    recent = (
        select(AttemptRow.id, AttemptRow.offered_at, size_of_app().label("size"))
        .join(Device, Device.id == AttemptRow.device_id)
        .join(Rollout, Rollout.id == AttemptRow.rollout_id)
        .where(Device.board == board, AttemptRow.confirmed_at.is_not(None), AttemptRow.try_number == 1)
        .order_by(AttemptRow.id.desc())
        .limit(MEASURED)
        .subquery()
    )
    took = func.extract("epoch", AttemptEvent.at - recent.c.offered_at)
    statement = (
        select(func.percentile_cont(0.5).within_group(recent.c.size / func.nullif(took, 0)))
        .select_from(recent)
        .join(AttemptEvent, AttemptEvent.attempt_id == recent.c.id)
        .where(
            AttemptEvent.state == State.STAGED.value,
            AttemptEvent.said_by == "device",
            AttemptEvent.what == "report",
            took > 0,
        )
    )
    found = await connection.scalar(statement)
    return None if found is None else float(found)


async def first_passed_over(
    connection: AsyncConnection, target: Target, reason: str, now: datetime, limit: int
) -> list[str]:
    """The serials of the first devices that would be passed over for this reason."""
    statement = (
        select(Device.serial)
        .where(compile_selector(target.where, now), compile_reason(target.rules, now) == reason)
        .order_by(Device.id)
        .limit(limit)
    )
    return list((await connection.execute(statement)).scalars())


async def every_passed_over(
    connection: AsyncConnection, target: Target, now: datetime
) -> AsyncIterator[PassedOverDevice]:
    """All devices that would be passed over, with the ``reason``."""
    reason = compile_reason(target.rules, now)
    statement = (
        select(Device.serial, Device.hw_rev, Device.version, reason.label("reason"))
        .where(compile_selector(target.where, now), reason.is_not(None))
        .order_by(Device.id)
    )
    async for row in (await connection.stream(statement)).mappings():
        yield cast(PassedOverDevice, row)


async def live_in(connection: AsyncConnection, ids: Sequence[int]) -> dict[str, int]:
    """How many of these devices are in a live attempt, by the name of its rollout."""
    statement = (
        select(Rollout.name, func.count().label("devices"))
        .join(AttemptRow, AttemptRow.rollout_id == Rollout.id)
        .where(AttemptRow.live, AttemptRow.device_id == any_(literal(list(ids), ARRAY(BigInteger))))
        .group_by(Rollout.name)
    )
    return {row.name: row.devices for row in await connection.execute(statement)}
