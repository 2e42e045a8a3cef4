"""Boards, key lists, releases and their images."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.keys import KeyList, verify_key_list
from mellow_herald.core.manifest import Verified
from mellow_herald.core.version import version_key
from mellow_herald.store.tables import (
    AttemptRow,
    Board,
    Device,
    ImageRow,
    KeyListRow,
    Release,
    ReleaseImage,
    Rollout,
)

Row = Mapping[str, Any]


async def put_board(connection: AsyncConnection, values: dict[str, Any]) -> bool:
    """Adds a board or replaces what is known of it; True if it is new."""
    statement = insert(Board).values(**values)
    changed = {name: value for name, value in values.items() if name not in ("name", "added_at")}
    existed = await connection.scalar(select(Board.name).where(Board.name == values["name"]))
    await connection.execute(statement.on_conflict_do_update(index_elements=["name"], set_=changed))
    return existed is None


async def list_boards(connection: AsyncConnection) -> list[Row]:
    """All boards with their number of devices."""
    devices = select(func.count()).where(Device.board == Board.name).scalar_subquery()
    statement = select(Board.__table__, devices.label("devices")).order_by(Board.name)
    return list((await connection.execute(statement)).mappings())


async def find_board(connection: AsyncConnection, name: str) -> Row | None:
    """One board."""
    return (await connection.execute(select(Board.__table__).where(Board.name == name))).mappings().first()


async def newest_key_list(connection: AsyncConnection) -> Row | None:
    """The key list in force."""
    statement = select(KeyListRow.__table__).order_by(KeyListRow.number.desc()).limit(1)
    return (await connection.execute(statement)).mappings().first()


async def trusted_keys(connection: AsyncConnection) -> KeyList | None:
    """The key list in force, verified again."""
    row = await newest_key_list(connection)
    return None if row is None else verify_key_list(row["body"], row["root"])


async def add_key_list(connection: AsyncConnection, number: int, root: bytes, body: bytes, at: datetime) -> None:
    """Adds a key list; the caller has checked that its number is the highest."""
    await connection.execute(insert(KeyListRow).values(number=number, root=root, body=body, published_at=at))


async def find_release(connection: AsyncConnection, board: str, line: str, version: str) -> Row | None:
    """A release by its name."""
    statement = select(Release.__table__).where(
        Release.board == board, Release.line == line, Release.version == version
    )
    return (await connection.execute(statement)).mappings().first()


async def add_release(
    connection: AsyncConnection, verified: Verified, authentication: bytes, manifest: bytes, by: str, at: datetime
) -> int | None:
    """Records a published release whose images are stored; None if another of that name came first."""
    release = verified.manifest
    for component in release.components:
        row = {"digest": component.digest, "size": component.size, "stored_at": at}
        await connection.execute(insert(ImageRow).values(**row).on_conflict_do_nothing())
    statement = insert(Release).values(
        board=release.board,
        line=release.line,
        version=release.version,
        version_key=version_key(release.version),
        state="published",
        floor=release.floor,
        hw_rev_min=release.hw_rev_min,
        hw_rev_max=release.hw_rev_max,
        description=release.description,
        manifest_digest=verified.digest,
        authentication=authentication,
        manifest=manifest,
        kid=verified.kid,
        published_at=at,
        published_by=by,
    )
    done = await connection.execute(statement.on_conflict_do_nothing().returning(Release.id))
    release_id = done.scalar()
    if release_id is None:
        return None
    components = [
        {
            "release_id": release_id,
            "component": c.name,
            "digest": c.digest,
            "version": c.version,
            "build_id": c.build_id,
        }
        for c in release.components
    ]
    await connection.execute(insert(ReleaseImage), components)
    return int(release_id)


async def list_releases(
    connection: AsyncConnection, *, release_id: int | None = None, after: int | None = None, limit: int = 100
) -> list[Row]:
    """Releases, newest first, with their images and how many devices run them or are on the way."""
    component = func.jsonb_build_object(
        "name", ReleaseImage.component, "version", ReleaseImage.version, "digest", ReleaseImage.digest,
        "size", ImageRow.size, "build_id", ReleaseImage.build_id,
    )  # fmt: skip
    components = (
        select(func.jsonb_agg(component))
        .join(ImageRow, ImageRow.digest == ReleaseImage.digest)
        .where(ReleaseImage.release_id == Release.id)
        .scalar_subquery()
    )
    running = (
        select(func.count())
        .select_from(Device)
        .join(ReleaseImage, ReleaseImage.digest == Device.digest)
        .where(ReleaseImage.release_id == Release.id, ReleaseImage.component == "app")
        .scalar_subquery()
    )
    coming = (
        select(func.count())
        .select_from(AttemptRow)
        .join(Rollout, Rollout.id == AttemptRow.rollout_id)
        .where(Rollout.release_id == Release.id, AttemptRow.live)
        .scalar_subquery()
    )
    statement = (
        select(
            Release.__table__,
            components.label("components"),
            running.label("running"),
            coming.label("on_the_way"),
        )
        .order_by(Release.id.desc())
        .limit(limit)
    )
    if release_id is not None:
        statement = statement.where(Release.id == release_id)
    if after is not None:
        statement = statement.where(Release.id < after)
    return list((await connection.execute(statement)).mappings())


async def manifest_for_device(connection: AsyncConnection, device_id: int, digest: str) -> Row | None:
    """The signed parts of a manifest, if the device has a live attempt at its release."""
    statement = (
        select(Release.authentication, Release.manifest)
        .join(Rollout, Rollout.release_id == Release.id)
        .join(AttemptRow, AttemptRow.rollout_id == Rollout.id)
        .where(Release.manifest_digest == digest, AttemptRow.device_id == device_id, AttemptRow.live)
    )
    return (await connection.execute(statement)).mappings().first()


async def image_for_device(connection: AsyncConnection, device_id: int, digest: str) -> bool:
    """Whether the device has a live attempt whose release names this image."""
    statement = (
        select(ReleaseImage.digest)
        .join(Rollout, Rollout.release_id == ReleaseImage.release_id)
        .join(AttemptRow, AttemptRow.rollout_id == Rollout.id)
        .where(ReleaseImage.digest == digest, AttemptRow.device_id == device_id, AttemptRow.live)
    )
    return (await connection.execute(statement)).first() is not None
