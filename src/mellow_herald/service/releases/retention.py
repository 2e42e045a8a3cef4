"""Cleaning away images that nobody needs any more, and what a crash left behind."""

import asyncio
import time

from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError, say_trouble
from mellow_herald.store import retention
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.store.gate import Lock, take
from mellow_herald.store.releases import lock_release
from mellow_herald.wire.release import CleanOut, UnusedRelease

# Longer than any upload takes: what lies there untouched for so long was left by a crash.
UPLOAD_SECONDS = 3600.0


async def unused(context: Context) -> list[UnusedRelease]:
    """Releases whose images nobody needs any more."""
    async with context.engine.connect() as connection:
        rows = await retention.unused_releases(connection)
    return [
        UnusedRelease.model_validate({**row, "name": f"{row['board']}/{row['line']}/{row['version']}"}) for row in rows
    ]


async def clean(context: Context, release_ids: list[int], by: str) -> CleanOut:
    """Cleans away the images of these releases, if nobody needs them still."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        await take(connection, Lock.IMAGES)
        for release_id in sorted(set(release_ids)):  # a rollout that is about to start is waited for
            await lock_release(connection, release_id)
        rows = {row["id"]: row for row in await retention.unused_releases(connection)}
        needed = sorted(set(release_ids) - rows.keys())
        if needed:
            raise ProblemError(
                409,
                "still-needed",
                f"Needed (or not there): {', '.join(map(str, needed))}. Nothing was cleaned; look again.",
            )
        await retention.mark_cleaned(connection, release_ids, now)
        names = [f"{rows[i]['board']}/{rows[i]['line']}/{rows[i]['version']}" for i in sorted(set(release_ids))]
        entry = JournalEntry(
            now, by, "images cleaned", f"{len(names)} releases", "nobody needs them", {"releases": names}
        )
        await write_journal(connection, entry)
        await publish(connection, [FeedEvent(now, "release", data={"what": "cleaned"})])
    return CleanOut(releases=names, images=await sweep(context))


async def keep_sweeping(context: Context) -> None:
    """Sweeps once an hour until cancelled."""
    while True:
        await asyncio.sleep(UPLOAD_SECONDS)
        try:
            await sweep(context)
        except Exception as error:
            say_trouble("the image store could not be swept; trying again", error)


async def sweep(context: Context) -> int:
    """Deletes files that no record names: those let go, and those of an upload that died before it was recorded.

    Scratch images of the bench go when nobody needs them any more. Returns how many images went. Uploads wait
    meanwhile, so no file that is about to be recorded is taken for one.
    """
    context.images.sweep(before=time.time() - UPLOAD_SECONDS)
    async with context.engine.begin() as connection:
        await take(connection, Lock.IMAGES)
        scratch = await retention.unused_scratch(connection)
        await retention.mark_cleaned(connection, scratch, context.clock.now())
        await retention.let_go(connection, context.clock.now())
        kept = await retention.kept_images(connection)
        orphans = [digest for digest in await asyncio.to_thread(context.images.digests) if digest not in kept]
        # The files go first: a record without bytes must never be, bytes without a record are swept again.
        for digest in orphans:
            await asyncio.to_thread(context.images.remove, digest)
    return len(orphans)
