"""What needs a person, what is moving, and who is there."""

from datetime import datetime, timedelta

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attention import CALLS
from mellow_herald.core.presence import LATE_AFTER, OFFLINE_AFTER
from mellow_herald.core.selector import parse_selector
from mellow_herald.service.context import Context
from mellow_herald.service.rollouts.shown import assemble
from mellow_herald.store import fleet, rollouts
from mellow_herald.wire.event import Attention, Overview, VersionCount

FIRST = 5
# Rollouts that ended within so long are still shown, at most so many.
LATELY, MOST_ENDED = timedelta(days=7), 5


async def overview(context: Context) -> Overview:
    """All of it as it stands now."""
    now = context.clock.now()
    async with context.engine.connect() as connection:
        moving = await assemble(connection, await rollouts.list_rollouts(connection, live=True), now)
        return Overview(
            now=now,
            scale=context.clock.scale,
            presence=await fleet.count_presence(connection, now, LATE_AFTER, OFFLINE_AFTER),
            versions=[VersionCount.model_validate(dict(row)) for row in await fleet.count_versions(connection)],
            moving=moving,
            ended=await assemble(
                connection, await rollouts.list_rollouts(connection, ended_since=now - LATELY, limit=MOST_ENDED), now
            ),
            asking=await fleet.count_devices(connection, parse_selector("admission = asking")),
            unknown_builds=await fleet.count_devices(connection, parse_selector("runs = unknown-build")),
            attention=await _attention(connection, now),
            unhealthy_images=sorted(context.unhealthy),
        )


async def _attention(connection: AsyncConnection, now: datetime) -> list[Attention]:
    found = []
    for call in CALLS:
        where = parse_selector(call.where)
        devices = await fleet.count_devices(connection, where, now)
        if devices:
            rows = await fleet.list_devices(connection, where, now=now, limit=FIRST)
            first = [row["serial"] for row in rows]
            found.append(Attention(kind=call.kind, words=call.words, devices=devices, first=first, where=call.where))
    return found
