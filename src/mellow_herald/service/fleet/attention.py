"""What needs a person, what is moving, and who is there."""

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attention import ASKING, CALLS
from mellow_herald.core.presence import LATE_AFTER, OFFLINE_AFTER
from mellow_herald.service.context import Context
from mellow_herald.service.people.narrowing import node_of, within
from mellow_herald.service.rollouts.shown import assemble
from mellow_herald.store import alarms, fleet, rollouts
from mellow_herald.store.fleet import VersionDevices
from mellow_herald.wire.event import Attention, Overview, VersionCount
from mellow_herald.wire.topology import AlarmOut

FIRST = 5
# Rollouts that ended within so long are still shown, at most so many.
LATELY, MOST_ENDED = timedelta(days=7), 5
A_DAY = timedelta(days=1)


@dataclass(frozen=True, slots=True)
class Counts:
    """How many devices there are of each sort, at a time."""

    at: datetime
    presence: dict[str, int]
    versions: list[VersionDevices]
    unknown_builds: int
    attention: list[Attention]
    alarms_unexplained: int


async def overview(context: Context, only: str | None = None) -> Overview:
    """All of it as it stands now, or what concerns the devices that a selector picks, and no others."""
    now, where = context.clock.now(), node_of(only, None)
    counts = await count(context, only)
    async with context.engine.connect() as connection:
        live = await rollouts.list_rollouts(connection, live=True)
        ended = await rollouts.list_rollouts(connection, ended_since=now - LATELY, limit=MOST_ENDED)
        theirs = await within(connection, only, now, [row["id"] for row in (*live, *ended)])
        moving = await assemble(connection, [row for row in live if row["id"] in theirs], now)
        return Overview(
            now=now,
            counted_at=counts.at,
            scale=context.clock.scale,
            presence=counts.presence,
            versions=[VersionCount.model_validate(dict(row)) for row in counts.versions],
            moving=moving,
            ended=await assemble(connection, [row for row in ended if row["id"] in theirs], now),
            asking=sum(one.devices for one in counts.attention if one.kind == ASKING),
            unknown_builds=counts.unknown_builds,
            attention=counts.attention,
            unhealthy_images=sorted(context.unhealthy),
            alarms=[
                AlarmOut.model_validate(dict(row))
                for row in await alarms.list_alarms(
                    connection, explained=False, since=now - A_DAY, where=where, now=now, limit=FIRST
                )
            ],
            alarms_unexplained=counts.alarms_unexplained,
        )


async def count(context: Context, only: str | None = None) -> Counts:
    """How many devices there are of each sort, among those that a selector picks."""

    async def counted() -> Counts:
        now, where = context.clock.now(), node_of(only, None)
        async with context.engine.connect() as connection:
            return Counts(
                now,
                await fleet.count_presence(connection, now, LATE_AFTER, OFFLINE_AFTER, where),
                await fleet.count_versions(connection, where, now),
                await fleet.count_devices(connection, node_of(only, "runs = unknown-build"), now),
                await _attention(connection, now, only),
                await alarms.count_alarms(connection, now - A_DAY, where, now),
            )

    return await context.counted(("devices", only), counted)


async def _attention(connection: AsyncConnection, now: datetime, only: str | None) -> list[Attention]:
    found = []
    for call in CALLS:
        where = node_of(only, call.where)
        devices = await fleet.count_devices(connection, where, now)
        if devices:
            rows = await fleet.list_devices(connection, where, now=now, limit=FIRST)
            first = [row["serial"] for row in rows]
            found.append(Attention(kind=call.kind, words=call.words, devices=devices, first=first, where=call.where))
    return found
