"""Nothing is served that is not what its digest says; a stored file that is not is said so in health and journal."""

import asyncio

from mellow_herald.service.context import Context
from mellow_herald.service.problems import say_trouble
from mellow_herald.store import retention
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal

EVERY_SECONDS = 24 * 3600.0


async def is_sound(context: Context, digest: str, *, anew: bool = False) -> bool:
    """Whether a stored image is what its digest says; with ``anew`` its bytes are read again in any case.

    The first time it is not, health and journal say so; a file that was repaired is served again.
    """
    if await asyncio.to_thread(context.images.sound, digest, anew):
        if digest in context.unhealthy:
            context.unhealthy.discard(digest)
            await _say(context, digest, "image served again", "the stored file matches its digest")
        return True
    if digest not in context.unhealthy:
        context.unhealthy.add(digest)
        await _say(context, digest, "image refused", "the stored file does not match its digest; it is not served")
    return False


async def _say(context: Context, digest: str, what: str, why: str) -> None:
    now = context.clock.now()
    async with context.engine.begin() as connection:
        await write_journal(connection, JournalEntry(now, "service", what, f"image {digest}", why))
        await publish(connection, [FeedEvent(now, "health", data={"image": digest})])


async def keep_checking(context: Context) -> None:
    """Reads every stored image again once a day until cancelled: bytes can rot without a file being touched."""
    while True:
        await asyncio.sleep(EVERY_SECONDS)
        try:
            await check_all(context)
        except Exception as error:
            say_trouble("the stored images could not be checked; trying again", error)


async def check_all(context: Context) -> int:
    """Reads every stored image; returns how many are not what they should be."""
    async with context.engine.connect() as connection:
        kept = await retention.kept_images(connection)
    return sum([not await is_sound(context, digest, anew=True) for digest in sorted(kept)])
