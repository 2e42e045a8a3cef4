"""Saying that readings have come, to whoever looks at them."""

import asyncio

from mellow_herald.service.context import Context
from mellow_herald.service.problems import say_trouble
from mellow_herald.store.readings import landing

LOOK_S = 1.0


async def keep_saying(context: Context) -> None:
    """Until cancelled: tells followers of the feed who want to know, at most once a second, that readings have come,
    in whichever process. Which, they ask for: pages show what they like at the resolution that they have."""
    last = None
    while True:
        await asyncio.sleep(LOOK_S)
        if not context.signals.hearing:
            continue
        try:
            async with context.engine.connect() as connection:
                newest = await landing.newest(connection)
        except Exception as error:
            say_trouble("whether readings have come could not be looked at; trying again", error)
            continue
        if newest is not None and newest != last:
            last = newest
            context.signals.spread_readings()
