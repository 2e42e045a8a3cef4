"""How many devices run a release, or are on the way to it."""

from collections.abc import Sequence

from mellow_herald.service.context import Context
from mellow_herald.store.releases import Use, count_uses


async def uses(context: Context, release_ids: Sequence[int]) -> dict[int, Use]:
    """The counts of these releases, by number; in a large fleet they may be a few seconds old."""

    async def count() -> dict[int, Use]:
        async with context.engine.connect() as connection:
            return await count_uses(connection, release_ids)

    return await context.counted(("uses", tuple(release_ids)), count)
