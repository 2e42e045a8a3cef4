"""Releases and their images."""

from collections.abc import Collection, Sequence
from datetime import datetime
from typing import Any, TypedDict, cast

from sqlalchemy import ColumnElement, Select, and_, case, delete, exists, func, or_, select, update
from sqlalchemy.dialects.postgresql import aggregate_order_by, insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.manifest import Verified
from mellow_herald.core.rollout import RolloutKind
from mellow_herald.core.suit import Component
from mellow_herald.core.verdict import Earlier
from mellow_herald.core.version import version_key
from mellow_herald.store.database import fetch_all, fetch_one
from mellow_herald.store.rows import StoredRelease
from mellow_herald.store.tables import AttemptRow, Baseline, Device, ImageRow, Release, ReleaseImage, Rollout


class ComponentImage(TypedDict):
    """An image of a release, for a component by ``name``; its size in bytes, its build time in s since 1970, and what
    must run before it by component."""

    name: str
    version: str
    digest: str
    size: int
    build_id: str
    build_time: int
    updater: int
    slot: int | None
    address: int | None
    after: list[str]
    base: str | None
    read: bool


class PublishedVersion(TypedDict):
    """What was published of a line."""

    version: str
    floor: int
    state: str
    components: list[ComponentImage]


class ShownRelease(StoredRelease):
    """A release with its components, and whether it is a baseline."""

    components: list[ComponentImage]
    baseline: bool


class Use(TypedDict):
    """How many devices run a release, how many of those say another version of themselves, and how many are on the
    way to it."""

    id: int
    running: int
    version_differs: int
    on_the_way: int


class LiveRollout(TypedDict):
    """A rollout that has not ended."""

    id: int
    name: str
    state: str
    release_id: int


class Manifest(TypedDict):
    """The signed bytes that a device verifies."""

    authentication: bytes
    manifest: bytes


ANY_SLOT = -1
# A scratch image was made for the bench, and never is a release.
IS_RELEASE = Release.state != "scratch"


async def find_release(
    connection: AsyncConnection, board: str, line: str, version: str, *, share: bool = False
) -> StoredRelease | None:
    """A release by its name; with ``share`` it cannot change until the transaction ends."""
    statement = select(Release.__table__).where(
        Release.board == board, Release.line == line, Release.version == version, IS_RELEASE
    )
    if share:
        statement = statement.with_for_update(read=True)
    return await fetch_one(connection, statement, StoredRelease)


async def find_by_manifest(connection: AsyncConnection, digest: str) -> StoredRelease | None:
    """The release or scratch image with exactly this manifest."""
    statement = select(Release.__table__).where(Release.manifest_digest == digest)
    return await fetch_one(connection, statement.with_for_update(read=True), StoredRelease)


async def versions_of(connection: AsyncConnection, digests: Collection[str]) -> dict[str, str]:
    """The versions of ``app`` that these bytes were published as (or brought to the bench as), by digest."""
    statement = (
        select(ReleaseImage.digest, ReleaseImage.version)
        .join(Release, Release.id == ReleaseImage.release_id)
        .where(ReleaseImage.digest.in_(sorted(digests)), ReleaseImage.component == "app", Release.state != "draft")
        .order_by(IS_RELEASE)  # what a release says counts more than what a build said
    )
    return {row.digest: row.version for row in await connection.execute(statement)}


async def note_images(connection: AsyncConnection, components: Collection[Component], at: datetime) -> None:
    """Records that these images' bytes stand in the image store; the caller shares ``Lock.IMAGES``."""
    for component in sorted(components, key=lambda one: one.digest):
        row = {"digest": component.digest, "size": component.size, "stored_at": at, "gone_at": None}
        there = insert(ImageRow).values(**row)
        await connection.execute(
            there.on_conflict_do_update(index_elements=["digest"], set_={"gone_at": None, "stored_at": at})
        )


async def add_release(
    connection: AsyncConnection,
    verified: Verified,
    read: Collection[str],
    values: dict[str, Any],
) -> int:
    """Records a release whose images are noted; the caller holds its line and has looked that its name is free.

    ``read`` are the digests of images whose nameplate was read; ``values`` the columns that do not follow from the
    manifest.
    """
    release = verified.manifest
    statement = insert(Release).values(
        board=release.board,
        line=release.line,
        version=release.version,
        version_key=version_key(release.version),
        floor=release.floor,
        hw_rev_min=release.hw_rev_min,
        hw_rev_max=release.hw_rev_max,
        needs=dict(release.needs),
        independent=release.independent,
        restart=release.restart,
        revision=1,
        manifest_digest=verified.digest,
        kid=verified.kid,
        **values,
    )
    release_id = int((await connection.execute(statement.returning(Release.id))).scalar_one())
    rows = [
        {
            "release_id": release_id,
            "component": one.name,
            "slot": ANY_SLOT if one.slot is None else one.slot,
            "position": position,
            "digest": one.digest,
            "version": one.version,
            "updater": one.updater,
            "build_id": one.build_id,
            "build_time": one.build_time,
            "address": one.address,
            "after": list(one.after),
            "base": one.base,
            "read": one.digest in read,
        }
        for position, one in enumerate(release.components)
    ]
    await connection.execute(insert(ReleaseImage), rows)
    return release_id


def _components() -> Any:
    component = func.jsonb_build_object(
        "name",
        ReleaseImage.component,
        "version",
        ReleaseImage.version,
        "digest",
        ReleaseImage.digest,
        "size",
        ImageRow.size,
        "build_id",
        ReleaseImage.build_id,
        "build_time",
        ReleaseImage.build_time,
        "updater",
        ReleaseImage.updater,
        "slot",
        func.nullif(ReleaseImage.slot, ANY_SLOT),
        "address",
        ReleaseImage.address,
        "after",
        ReleaseImage.after,
        "base",
        ReleaseImage.base,
        "read",
        ReleaseImage.read,
    )
    return (
        select(func.jsonb_agg(aggregate_order_by(component, ReleaseImage.position)))
        .join(ImageRow, ImageRow.digest == ReleaseImage.digest)
        .where(ReleaseImage.release_id == Release.id)
        .scalar_subquery()
        .label("components")
    )


def _shown() -> Select[Any]:
    return select(Release.__table__, _components(), exists().where(Baseline.release_id == Release.id).label("baseline"))


async def count_uses(connection: AsyncConnection, release_ids: Sequence[int]) -> dict[int, Use]:
    """How many devices run these releases, or are on the way to them; over a large fleet it takes its time."""
    running = (
        select(func.count())
        .select_from(Device)
        .where(
            exists()
            .where(
                ReleaseImage.release_id == Release.id,
                ReleaseImage.component == "app",
                ReleaseImage.digest == Device.digest,
            )
            .correlate(Release, Device)
        )
    )
    # Whoever has anything of a release without firmware for `app` runs it.
    placed = (
        select(func.count())
        .select_from(Device)
        .where(
            Device.board == Release.board,
            Device.line == Release.line,
            exists()
            .where(
                ReleaseImage.release_id == Release.id,
                Device.running[ReleaseImage.component]["digest"].astext == ReleaseImage.digest,
            )
            .correlate(Release, Device),
        )
    )
    has_app = exists().where(ReleaseImage.release_id == Release.id, ReleaseImage.component == "app")
    coming = (
        select(func.count())
        .select_from(AttemptRow)
        .join(Rollout, Rollout.id == AttemptRow.rollout_id)
        .where(func.coalesce(AttemptRow.release_id, Rollout.release_id) == Release.id, AttemptRow.live)
        .scalar_subquery()
    )
    differing = running.where(Device.version != Device.running["app"]["version"].astext)
    statement = select(
        Release.id,
        case((has_app, running.scalar_subquery()), else_=placed.scalar_subquery()).label("running"),
        differing.scalar_subquery().label("version_differs"),
        coming.label("on_the_way"),
    ).where(Release.id.in_(release_ids))
    return {row["id"]: row for row in await fetch_all(connection, statement, Use)}


async def list_releases(
    connection: AsyncConnection, *, release_id: int | None = None, after: int | None = None, limit: int | None = 100
) -> list[ShownRelease]:
    """Releases (with ``release_id`` also a scratch image), the newest upload first, with their images and
    whether one is the baseline."""
    statement = _shown().order_by(Release.id.desc()).limit(limit)
    statement = statement.where(IS_RELEASE if release_id is None else Release.id == release_id)
    if after is not None:
        statement = statement.where(Release.id < after)
    return await fetch_all(connection, statement, ShownRelease)


async def components_of(connection: AsyncConnection, release_id: int) -> list[ComponentImage]:
    """The images of one release, as ``list_releases`` shows them."""
    (components,) = (await connection.execute(select(_components()).where(Release.id == release_id))).scalars()
    return cast(list[ComponentImage], components)


async def releases_by_version(connection: AsyncConnection) -> list[ShownRelease]:
    """All releases by board and line, each line's highest version first."""
    statement = _shown().where(IS_RELEASE)
    statement = statement.order_by(Release.board, Release.line, Release.version_key.desc(), Release.id.desc())
    return await fetch_all(connection, statement, ShownRelease)


async def releases_of_board(connection: AsyncConnection, board: str, limit: int) -> list[ShownRelease]:
    """The releases of a board by line, each line's highest version first; drafts are none yet."""
    statement = _shown().where(IS_RELEASE, Release.board == board, Release.state != "draft")
    statement = statement.order_by(Release.line, Release.version_key.desc(), Release.id.desc()).limit(limit)
    return await fetch_all(connection, statement, ShownRelease)


async def earlier_releases(connection: AsyncConnection, board: str, line: str) -> list[Earlier]:
    """What was published of a line on a board before, drafts not counted."""
    statement = select(Release.version, Release.floor, Release.state, _components()).where(
        Release.board == board, Release.line == line, Release.state != "draft", IS_RELEASE
    )
    return [
        Earlier(
            row["version"],
            row["floor"],
            row["state"] == "withdrawn",
            tuple(component_of(values) for values in row["components"]),
        )
        for row in await fetch_all(connection, statement, PublishedVersion)
    ]


def component_of(values: ComponentImage) -> Component:
    """A component as ``list_releases`` shows it."""
    known: dict[str, Any] = {name: value for name, value in values.items() if name in Component.__annotations__}
    return Component(**{**known, "after": tuple(values["after"])})


async def lock_release(connection: AsyncConnection, release_id: int) -> StoredRelease | None:
    """One release, locked until the transaction ends."""
    statement = select(Release.__table__).where(Release.id == release_id).with_for_update()
    return await fetch_one(connection, statement, StoredRelease)


async def change_release(connection: AsyncConnection, release_id: int, **values: Any) -> None:
    """Writes columns of a release and counts the edit."""
    statement = update(Release).where(Release.id == release_id)
    await connection.execute(statement.values(**values, revision=Release.revision + 1))


async def drop_release(connection: AsyncConnection, release_id: int) -> None:
    """Deletes a draft's record; its images are left to the sweep of what nothing refers to."""
    await connection.execute(delete(ReleaseImage).where(ReleaseImage.release_id == release_id))
    await connection.execute(delete(Release).where(Release.id == release_id, Release.state == "draft"))


async def set_baseline(
    connection: AsyncConnection, board: str, line: str, release_id: int, at: datetime, by: str
) -> int | None:
    """Makes a release the baseline of its board and line; returns the one before."""
    before = await connection.scalar(select(Baseline.release_id).where(Baseline.board == board, Baseline.line == line))
    values = {"release_id": release_id, "set_at": at, "set_by": by}
    statement = insert(Baseline).values(board=board, line=line, brings=False, **values)
    await connection.execute(statement.on_conflict_do_update(index_elements=["board", "line"], set_=values))
    return None if before is None else int(before)


async def clear_baseline(connection: AsyncConnection, release_id: int) -> bool:
    """Takes back that a release is the baseline; tells whether it was."""
    done = await connection.execute(delete(Baseline).where(Baseline.release_id == release_id))
    return bool(done.rowcount)


async def live_rollouts_of(connection: AsyncConnection, release_ids: Collection[int]) -> list[LiveRollout]:
    """The rollouts that bring devices to these releases and have not ended: ``id``, ``name``, ``state``,
    ``release_id`` (one of these). Where two are compared and one was chosen, the other counts while anybody is on the
    way to it."""
    these = sorted(release_ids)
    under_way = select(1).where(AttemptRow.rollout_id == Rollout.id, AttemptRow.live).correlate(Rollout)
    back_to = (
        select(func.min(AttemptRow.back_release_id))
        .where(AttemptRow.rollout_id == Rollout.id, AttemptRow.back_release_id.in_(sorted(release_ids)))
        .scalar_subquery()
    )
    statement = (
        select(
            Rollout.id,
            Rollout.name,
            Rollout.state,
            func.coalesce(
                back_to,
                case((Rollout.release_id.in_(these), Rollout.release_id), else_=Rollout.second_release_id),
            ).label("release_id"),
        )
        .where(
            or_(
                and_(
                    Rollout.release_id.in_(these),
                    Rollout.kind == RolloutKind.FORWARD.value,
                    or_(Rollout.chosen.is_distinct_from(1), under_way.where(AttemptRow.release_id.is_(None)).exists()),
                ),
                and_(
                    Rollout.second_release_id.in_(these),
                    or_(Rollout.chosen.is_distinct_from(0), under_way.where(AttemptRow.release_id.in_(these)).exists()),
                ),
                # A rollback brings devices from its release to others: those are what it depends on.
                exists(
                    select(1).where(
                        AttemptRow.rollout_id == Rollout.id,
                        AttemptRow.live,
                        AttemptRow.back_release_id.in_(sorted(release_ids)),
                    )
                ),
            ),
            Rollout.ended_at.is_(None),
        )
        .order_by(Rollout.id)
    )
    return await fetch_all(connection, statement, LiveRollout)


async def signed_by_others(connection: AsyncConnection, kids: Collection[str]) -> list[StoredRelease]:
    """The releases that none of these keys signed, drafts included."""
    statement = select(Release.__table__).where(Release.kid.not_in(sorted(kids))).order_by(Release.id)
    return await fetch_all(connection, statement, StoredRelease)


def _brings(release_id: Any) -> ColumnElement[bool]:
    """Whether an attempt brings its device to a release: its rollout's, the one it got by lot, or the one a rollback
    goes back to."""
    own = AttemptRow.rollout_id.in_(select(Rollout.id).where(Rollout.release_id == release_id))
    by_lot = AttemptRow.release_id == release_id
    forward = and_(AttemptRow.back_to.is_(None), or_(by_lot, and_(AttemptRow.release_id.is_(None), own)))
    return or_(forward, AttemptRow.back_release_id == release_id)


async def manifest_for_device(connection: AsyncConnection, device_id: int, digest: str) -> Manifest | None:
    """The signed parts of a manifest, if the device has a live attempt at its release."""
    statement = (
        select(Release.authentication, Release.manifest)
        .join(AttemptRow, _brings(Release.id))
        .where(Release.manifest_digest == digest, AttemptRow.device_id == device_id, AttemptRow.live)
    )
    return await fetch_one(connection, statement, Manifest)


async def image_for_device(connection: AsyncConnection, device_id: int, digest: str) -> bool:
    """Whether the device has a live attempt whose release names this image."""
    statement = (
        select(ReleaseImage.digest)
        .join(AttemptRow, _brings(ReleaseImage.release_id))
        .where(ReleaseImage.digest == digest, AttemptRow.device_id == device_id, AttemptRow.live)
    )
    return (await connection.execute(statement)).first() is not None
