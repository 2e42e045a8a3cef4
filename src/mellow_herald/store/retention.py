"""Which releases' images nobody needs any more, and cleaning them away."""

from collections.abc import Collection
from datetime import datetime
from typing import TypedDict

from sqlalchemy import exists, text, update
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.store.database import fetch_all
from mellow_herald.store.tables import ImageRow, Release, ReleaseImage


class Unused(TypedDict):
    """A release that nobody needs, and what its images take, in bytes."""

    id: int
    board: str
    line: str
    version: str
    state: str
    published_at: datetime | None
    bytes: int


# What a device runs or has in its other slot, and the way back of its newest attempt.
_NEEDED = """
    SELECT part.value ->> 'digest' AS digest FROM device, jsonb_each(running) AS part
    UNION SELECT part.value ->> 'digest' FROM device, jsonb_each(standby) AS part
    UNION SELECT from_digest FROM (
        SELECT DISTINCT ON (device_id) from_digest FROM attempt ORDER BY device_id, id DESC
    ) AS newest
    UNION SELECT part.value ->> 'digest' FROM (
        SELECT DISTINCT ON (device_id) came_from FROM attempt ORDER BY device_id, id DESC
    ) AS newest, jsonb_each(came_from) AS part
"""
_UNUSED = text(f"""
    WITH needed AS ({_NEEDED}),
    latest AS (
        SELECT DISTINCT ON (board, line) id FROM release WHERE state = 'published'
        ORDER BY board, line, version_key DESC
    ),
    unused AS (
        SELECT release.* FROM release
        WHERE state = ANY (:states) AND cleaned_at IS NULL
          AND id NOT IN (SELECT id FROM latest)
          AND NOT EXISTS (SELECT FROM baseline WHERE baseline.release_id = release.id)
          AND NOT EXISTS (
              SELECT FROM rollout
              WHERE release.id IN (rollout.release_id, rollout.second_release_id) AND rollout.ended_at IS NULL
          )
          AND NOT EXISTS (SELECT FROM attempt WHERE attempt.back_release_id = release.id AND attempt.live)
          AND NOT EXISTS (
              SELECT FROM release_image JOIN needed USING (digest) WHERE release_image.release_id = release.id
          )
    )
    SELECT unused.id, unused.board, unused.line, unused.version, unused.state, unused.published_at, (
        SELECT coalesce(sum(size), 0)::bigint FROM image
        WHERE digest IN (SELECT digest FROM release_image WHERE release_id = unused.id)
          AND digest NOT IN (
              SELECT digest FROM release_image JOIN release ON release.id = release_image.release_id
              WHERE release.cleaned_at IS NULL AND release.id NOT IN (SELECT id FROM unused)
          )
    ) AS bytes
    FROM unused ORDER BY unused.board, unused.line, unused.version_key
""")


async def unused_releases(connection: AsyncConnection) -> list[Unused]:
    """Releases whose images may go: no device runs them or has them in its other slot, none came from them by its
    newest attempt, no rollout of them is under way, none is the baseline or the latest of its line.

    ``bytes`` is what cleaning all of them frees.
    """
    return await fetch_all(connection, _UNUSED, Unused, {"states": ["published", "withdrawn"]})


async def unused_scratch(connection: AsyncConnection) -> list[int]:
    """The scratch images that nobody needs any more, by their id."""
    return [row["id"] for row in await fetch_all(connection, _UNUSED, Unused, {"states": ["scratch"]})]


async def mark_cleaned(connection: AsyncConnection, release_ids: Collection[int], at: datetime) -> None:
    """Records that the images of these releases are not kept any more."""
    statement = update(Release).where(Release.id.in_(sorted(release_ids)))
    await connection.execute(statement.values(cleaned_at=at, revision=Release.revision + 1))


async def let_go(connection: AsyncConnection, at: datetime) -> list[str]:
    """Marks every image gone that no release refers to any more; returns their digests.

    The caller holds ``Lock.IMAGES`` and deletes the files before it lets go of it.
    """
    referred = exists().where(
        ReleaseImage.digest == ImageRow.digest, Release.id == ReleaseImage.release_id, Release.cleaned_at.is_(None)
    )
    statement = update(ImageRow).where(ImageRow.gone_at.is_(None), ~referred).values(gone_at=at)
    statement = statement.returning(ImageRow.digest)
    return [row.digest for row in await connection.execute(statement)]


async def kept_images(connection: AsyncConnection) -> set[str]:
    """The digests of all images that are recorded as being there."""
    rows = await connection.execute(text("SELECT digest FROM image WHERE gone_at IS NULL"))
    return {row.digest for row in rows}
