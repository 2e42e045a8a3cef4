"""Release files in one piece: what they are put together from, and who may fetch which."""

from typing import TypedDict

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.store.database import fetch_one
from mellow_herald.store.tables import AttemptRow, CoapDevice, Device, Release, ReleaseImage


class Package(TypedDict):
    """What whoever has a ticket may fetch."""

    device_id: int
    manifest: str
    block: int | None


async def release_parts(connection: AsyncConnection, manifest: str) -> tuple[bytes, bytes, list[str]] | None:
    """What a release file is put together from: authentication, manifest, and the digest of each image."""
    statement = select(Release.id, Release.authentication, Release.manifest).where(Release.manifest_digest == manifest)
    row = (await connection.execute(statement)).one_or_none()
    if row is None:
        return None
    images = select(ReleaseImage.digest, func.min(ReleaseImage.position)).where(ReleaseImage.release_id == row.id)
    found = await connection.execute(images.group_by(ReleaseImage.digest).order_by(func.min(ReleaseImage.position)))
    return row.authentication, row.manifest, [one.digest for one in found]


async def package_of(connection: AsyncConnection, ticket: str) -> Package | None:
    """What whoever names a ticket may fetch: the package of an attempt that is still live."""
    statement = (
        select(CoapDevice.device_id, CoapDevice.manifest, CoapDevice.block)
        .join(AttemptRow, AttemptRow.id == CoapDevice.attempt_id)
        .join(Device, Device.id == CoapDevice.device_id)
        .where(CoapDevice.ticket == ticket, AttemptRow.live, Device.admission == "admitted")
    )
    return await fetch_one(connection, statement, Package)


async def digests_of_version(connection: AsyncConnection, board: str, line: str, version: str) -> list[str]:
    """The images of `app` that a release of this version has, or had: one, but for those of several slots."""
    statement = (
        select(ReleaseImage.digest)
        .join(Release, Release.id == ReleaseImage.release_id)
        .where(
            Release.board == board,
            Release.line == line,
            ReleaseImage.component == "app",
            ReleaseImage.version == version,
            Release.state != "draft",
        )
        .order_by(ReleaseImage.slot)
    )
    return list((await connection.execute(statement)).scalars())


async def app_of(connection: AsyncConnection, manifest: str) -> tuple[str, str] | None:
    """Version and digest of the `app` that a release brings."""
    statement = (
        select(ReleaseImage.version, ReleaseImage.digest)
        .join(Release, Release.id == ReleaseImage.release_id)
        .where(Release.manifest_digest == manifest, ReleaseImage.component == "app")
        .order_by(ReleaseImage.slot)
        .limit(1)
    )
    row = (await connection.execute(statement)).one_or_none()
    return None if row is None else (row[0], row[1])
