"""Rollouts and their rings; whom they take is in ``store.rings``, how far they are in ``store.progress``."""

from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Any, TypedDict

from sqlalchemy import case, delete, func, literal_column, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection
from sqlalchemy.orm import aliased

from mellow_herald.core.attempt import AT_RISK, BAD, State
from mellow_herald.core.rollout import RingState, RolloutState
from mellow_herald.store.database import fetch_all
from mellow_herald.store.hurt import HURT_AT
from mellow_herald.store.rows import StoredRing, StoredRollout
from mellow_herald.store.tables import (
    AttemptRow,
    ImageRow,
    PassedOverRow,
    Release,
    ReleaseImage,
    RingRow,
    Rollout,
)

# When an attempt went bad, whichever way; NULL if it never did.
WENT_BAD = func.greatest(HURT_AT, AttemptRow.undelivered_at)


class ImageOfRelease(TypedDict):
    """An image of a release: its component by ``name``, its size in bytes."""

    name: str
    digest: str
    version: str
    position: int
    size: int


class BroughtRelease(TypedDict):
    """What a rollout needs to know of a release that it brings."""

    board: str
    line: str
    version: str
    floor: int
    hw_rev_min: int
    hw_rev_max: int
    needs: dict[str, Any]
    independent: bool
    manifest_digest: str
    images: list[ImageOfRelease]


class RolloutOfRelease(StoredRollout, BroughtRelease):
    """A rollout, and what it needs to know of its release, and of the ``second`` where it compares two."""

    published_by: str | None
    second: BroughtRelease | None


class PassedOverCount(TypedDict):
    """How many devices a rollout passed over for a reason."""

    rollout_id: int
    reason: str
    devices: int


async def add_rollout(connection: AsyncConnection, values: dict[str, Any], rings: Sequence[str]) -> int:
    """Adds a rollout with its rings, all closed; returns its id."""
    done = await connection.execute(insert(Rollout).values(**values).returning(Rollout.id))
    rollout_id = int(done.scalar_one())
    await add_rings(connection, rollout_id, rings)
    return rollout_id


async def add_rings(connection: AsyncConnection, rollout_id: int, names: Sequence[str], first: int = 0) -> None:
    """Adds rings from position ``first`` on, all closed; closed ones that stood there before are replaced."""
    await connection.execute(delete(RingRow).where(RingRow.rollout_id == rollout_id, RingRow.position >= first))
    rows = [
        {"rollout_id": rollout_id, "position": n, "name": name, "state": "closed", "planned": 0}
        for n, name in enumerate(names, first)
    ]
    if rows:
        await connection.execute(insert(RingRow), rows)


async def find_by_request(connection: AsyncConnection, request_key: str | None) -> int | None:
    """The rollout that a request with this idempotency key made; None without a key."""
    if request_key is None:
        return None
    return await connection.scalar(select(Rollout.id).where(Rollout.request_key == request_key))


async def list_rollouts(
    connection: AsyncConnection,
    *,
    rollout_id: int | None = None,
    live: bool = False,
    ended_since: datetime | None = None,
    after: int | None = None,
    limit: int = 50,
) -> list[RolloutOfRelease]:
    """Rollouts, newest first, with the name of their release (``board``, ``line``, ``version``) and its ``images``:
    name of the component, digest, version and size."""
    second = aliased(Release)
    known = ("board", "line", "version", "floor", "hw_rev_min", "hw_rev_max", "needs", "independent", "manifest_digest")
    pairs: list[Any] = []
    for name in known:
        pairs += [literal_column(f"'{name}'"), getattr(second, name)]
    statement = (
        select(
            Rollout.__table__,
            Release.board,
            Release.line,
            Release.version,
            Release.floor,
            Release.hw_rev_min,
            Release.hw_rev_max,
            Release.needs,
            Release.independent,
            Release.manifest_digest,
            Release.published_by,
            _images_of(Release.id).label("images"),
            case(
                (
                    second.id.is_not(None),
                    func.jsonb_build_object(*pairs, literal_column("'images'"), _images_of(second.id)),
                )
            ).label("second"),
        )
        .join(Release, Release.id == Rollout.release_id)
        .outerjoin(second, second.id == Rollout.second_release_id)
        .order_by(Rollout.id.desc())
        .limit(limit)
    )
    if rollout_id is not None:
        statement = statement.where(Rollout.id == rollout_id)
    if live:
        statement = statement.where(Rollout.ended_at.is_(None))
    if ended_since is not None:
        # What was tried on the bench all day long would push out what the fleet went through.
        statement = statement.where(Rollout.ended_at >= ended_since, Release.state != "scratch")
        statement = statement.order_by(None).order_by(Rollout.ended_at.desc())
    if after is not None:
        statement = statement.where(Rollout.id < after)
    return await fetch_all(connection, statement, RolloutOfRelease)


def _images_of(release_id: Any) -> Any:
    return (
        select(
            func.jsonb_agg(
                func.jsonb_build_object(
                    "name",
                    ReleaseImage.component,
                    "digest",
                    ReleaseImage.digest,
                    "version",
                    ReleaseImage.version,
                    "position",
                    ReleaseImage.position,
                    "size",
                    ImageRow.size,
                )
            )
        )
        .join(ImageRow, ImageRow.digest == ReleaseImage.digest)
        .where(ReleaseImage.release_id == release_id)
        .scalar_subquery()
    )


async def rollbacks_of(connection: AsyncConnection, ids: Sequence[int]) -> dict[int, list[int]]:
    """The rollbacks of each of these rollouts."""
    statement = select(Rollout.rolls_back, Rollout.id).where(Rollout.rolls_back.in_(list(ids))).order_by(Rollout.id)
    found: dict[int, list[int]] = {}
    for row in await connection.execute(statement):
        found.setdefault(row.rolls_back, []).append(row.id)
    return found


async def outcome_of(connection: AsyncConnection, rollout_id: int) -> str | None:
    """What a rollout came to, as far as it is known."""
    return await connection.scalar(select(Rollout.outcome).where(Rollout.id == rollout_id))


async def chosen_of(connection: AsyncConnection, rollout_id: int) -> int | None:
    """Which of two releases was chosen for the rest; true for as long as the caller holds the rollout's gate."""
    return await connection.scalar(select(Rollout.chosen).where(Rollout.id == rollout_id))


async def rollout_states(connection: AsyncConnection, ids: set[int]) -> dict[int, str]:
    """The state of each of these rollouts; true for as long as the caller holds their gates."""
    statement = select(Rollout.id, Rollout.state).where(Rollout.id.in_(sorted(ids)))
    return {row.id: row.state for row in await connection.execute(statement)}


async def move_rollout(connection: AsyncConnection, rollout_id: int, state: RolloutState, **values: Any) -> None:
    """Writes a rollout's new state; the caller holds its gate exclusively."""
    await connection.execute(update(Rollout).where(Rollout.id == rollout_id).values(state=state.value, **values))


async def change_rollout(connection: AsyncConnection, rollout_id: int, **values: Any) -> None:
    """Writes other columns of a rollout; the caller holds its gate exclusively."""
    await connection.execute(update(Rollout).where(Rollout.id == rollout_id).values(**values))


async def note_targeted(connection: AsyncConnection, rollout_id: int, targeted: int) -> None:
    """Writes down how many devices a rollout is for."""
    await connection.execute(update(Rollout).where(Rollout.id == rollout_id).values(targeted=targeted))


async def standing(connection: AsyncConnection, ids: set[int]) -> dict[int, tuple[str, int]]:
    """State and revision of each of these rollouts; true for as long as the caller holds their gates."""
    statement = select(Rollout.id, Rollout.state, Rollout.revision).where(Rollout.id.in_(sorted(ids)))
    return {row.id: (row.state, row.revision) for row in await connection.execute(statement)}


async def list_rings(connection: AsyncConnection, ids: list[int]) -> dict[int, list[StoredRing]]:
    """The rings of these rollouts in order."""
    statement = select(RingRow.__table__).where(RingRow.rollout_id.in_(ids)).order_by(RingRow.position)
    rings: dict[int, list[StoredRing]] = {rollout_id: [] for rollout_id in ids}
    for row in await fetch_all(connection, statement, StoredRing):
        rings[row["rollout_id"]].append(row)
    return rings


async def move_ring(
    connection: AsyncConnection, rollout_id: int, position: int, state: RingState, **values: Any
) -> None:
    """Writes a ring's new state."""
    await change_ring(connection, rollout_id, position, state=state.value, **values)


async def count_bad_in_ring(connection: AsyncConnection, rollout_id: int, position: int, since: datetime | None) -> int:
    """How many devices of a ring went bad since then (None: none did), without those that are left out."""
    statement = select(func.count()).where(
        AttemptRow.rollout_id == rollout_id, AttemptRow.ring == position, since <= WENT_BAD, ~AttemptRow.left_out
    )
    return 0 if since is None else int(await connection.scalar(statement) or 0)


async def change_ring(connection: AsyncConnection, rollout_id: int, position: int, **values: Any) -> None:
    """Writes other columns of a ring than its state."""
    statement = update(RingRow).where(RingRow.rollout_id == rollout_id, RingRow.position == position)
    await connection.execute(statement.values(**values))


async def look_again(connection: AsyncConnection, rollout_id: int) -> None:
    """Takes back that rings stand still, since somebody has done something about it: if it helps nothing, it is told
    again."""
    await connection.execute(update(RingRow).where(RingRow.rollout_id == rollout_id).values(stands_why=None))


async def count_passed_over(connection: AsyncConnection, ids: list[int]) -> list[PassedOverCount]:
    """Devices passed over by these rollouts, counted by reason."""
    statement = (
        select(PassedOverRow.rollout_id, PassedOverRow.reason, func.count().label("devices"))
        .where(PassedOverRow.rollout_id.in_(ids))
        .group_by(PassedOverRow.rollout_id, PassedOverRow.reason)
    )
    return await fetch_all(connection, statement, PassedOverCount)


async def under_way(connection: AsyncConnection, rollouts: Iterable[int]) -> dict[int, tuple[int, int]]:
    """How many devices of each of these rollouts are downloading (or told to), and how many are at risk."""
    states = [state.value for state in (State.OFFERED, State.DOWNLOADING, *AT_RISK)]
    at_risk = AttemptRow.state.in_([state.value for state in AT_RISK])
    statement = (
        select(
            AttemptRow.rollout_id,
            func.count().filter(~at_risk).label("downloading"),
            func.count().filter(at_risk).label("at_risk"),
        )
        .where(AttemptRow.rollout_id.in_(sorted(set(rollouts))), AttemptRow.state.in_(states))
        .group_by(AttemptRow.rollout_id)
    )
    found = {row.rollout_id: (row.downloading, row.at_risk) for row in await connection.execute(statement)}
    return {rollout_id: found.get(rollout_id, (0, 0)) for rollout_id in rollouts}


async def rings_with_go(connection: AsyncConnection, rollout_id: int) -> frozenset[int]:
    """The positions of the rings for which somebody said go."""
    statement = select(RingRow.position).where(RingRow.rollout_id == rollout_id, RingRow.go_at.is_not(None))
    return frozenset((await connection.execute(statement)).scalars())


async def count_at_risk(connection: AsyncConnection, rollout_id: int) -> int:
    """Devices exposed, not yet confirmed or bad."""
    states = [state.value for state in AT_RISK]
    statement = select(func.count()).where(AttemptRow.rollout_id == rollout_id, AttemptRow.state.in_(states))
    return int(await connection.scalar(statement) or 0)


async def end_tries(connection: AsyncConnection, rollout_id: int) -> None:
    """Ends the remaining tries of all bad attempts of a rollout."""
    statement = update(AttemptRow).where(
        AttemptRow.rollout_id == rollout_id,
        AttemptRow.state.in_([state.value for state in BAD]),
        AttemptRow.live,
    )
    await connection.execute(statement.values(tries=AttemptRow.try_number, live=False, retry_at=None))


async def close_attempts(connection: AsyncConnection, rollout_id: int) -> None:
    """Closes all attempts of a rollout that has ended; those at risk must be decided before."""
    statement = update(AttemptRow).where(AttemptRow.rollout_id == rollout_id, AttemptRow.closed.is_(False))
    await connection.execute(statement.values(closed=True, live=False))
