"""Attempts: rows to and from the core's state machine, and their timeline."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any, TypedDict

from sqlalchemy import case, func, or_, select, text, update
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import Attempt, DownloadStep, State, WaitingFor
from mellow_herald.core.board import BROKEN
from mellow_herald.core.firmware import APP
from mellow_herald.core.selector import Node
from mellow_herald.store.database import among, as_rows, fetch_all, fetch_one
from mellow_herald.store.rings import Target
from mellow_herald.store.rows import Contents, StoredAttempt, StoredSettlement
from mellow_herald.store.selector_sql import compile_reason, compile_selector
from mellow_herald.store.tables import AttemptRow, Device, Pulse, ReleaseImage, RingSlice, Rollout, Settlement

SAME = (
    "reason",
    "try_number",
    "tries",
    "percent",
    "rate",
    "waiting_until",
    "offered_at",
    "exposed_at",
    "confirmed_at",
    "soak_until",
    "retry_at",
    "clearance",
    "clearance_until",
    "undelivered_at",
    "undelivered_why",
    "harmed_at",
    "harmed_why",
    "first_bad_at",
    "first_bad_why",
    "first_bad_try",
    "fetched",
    "unasked_at",
    "waiting_since",
    "retry_bad",
    "installs",
    "vouched",
    "leave_unknown",
    "closed",
)
# A row that says nothing of these keeps them.
KEPT = frozenset({"parts", "before", "cluster", "wave", "from_version", "from_digest", "came_from"})
CHANGING = (
    *SAME,
    "state",
    "live",
    "step",
    "waiting_for",
    "last_boots",
    "last_seq",
    "changed_at",
    "parts",
    "before",
    "cluster",
    "wave",
    "from_version",
    "from_digest",
    "came_from",
)


class CameFrom(TypedDict):
    """What a device came from: the digest of its app, and what all its slots in use had, where that is known."""

    from_digest: str | None
    came_from: Contents


class ShownAttempt(StoredAttempt):
    """An attempt with its device, its rollout's plan, and the images that it brings."""

    serial: str
    hw_rev: int
    plan: dict[str, Any]
    images: list[dict[str, Any]] | None
    seen_at: datetime | None
    next_s: int | None
    condition: dict[str, Any] | None


class ShownSettlement(StoredSettlement):
    """What was settled, with its rollout and device."""

    rollout_id: int
    serial: str


def to_attempt(row: StoredAttempt) -> Attempt:
    """The core's attempt behind a row."""
    return Attempt(
        state=State(row["state"]),
        soak=timedelta(seconds=row["soak_s"]),
        retry_pause=timedelta(seconds=row["retry_pause_s"]),
        last=None if row["last_boots"] is None else (row["last_boots"], row["last_seq"] or 0),
        step=None if row["step"] is None else DownloadStep(row["step"]),
        waiting_for=None if row["waiting_for"] is None else WaitingFor(row["waiting_for"]),
        **{name: row[name] for name in SAME},  # type: ignore[literal-required]
    )


def from_attempt(attempt_id: int, attempt: Attempt, at: datetime) -> dict[str, Any]:
    """The changing columns of an attempt."""
    boots, seq = attempt.last or (None, None)
    return {
        "id": attempt_id,
        "state": attempt.state,
        "live": attempt.live,
        "step": attempt.step,
        "waiting_for": attempt.waiting_for,
        "last_boots": boots,
        "last_seq": seq,
        "changed_at": at,
        **{name: getattr(attempt, name) for name in SAME},
    }


async def rollouts_of(connection: AsyncConnection, devices: Iterable[int], attempts: Iterable[int]) -> set[int]:
    """The rollouts whose gates are needed to answer these devices about these attempts; takes no lock."""
    return {row.rollout_id for row in await connection.execute(_ROLLOUTS_OF, _named(devices, attempts))}


async def lock_attempts(
    connection: AsyncConnection, devices: Iterable[int], attempts: Iterable[int]
) -> list[StoredAttempt]:
    """The attempts that matter for these devices (live, newest, or named), locked in order of id."""
    return await fetch_all(connection, _LOCK_CONCERNING, StoredAttempt, _named(devices, attempts))


def _named(devices: Iterable[int], attempts: Iterable[int]) -> dict[str, list[int]]:
    return {"devices": sorted(set(devices)), "attempts": sorted(set(attempts))}


def _concerning() -> Any:
    newest = select(func.max(AttemptRow.id)).where(AttemptRow.device_id == among("devices"))
    return or_(
        AttemptRow.live & (AttemptRow.device_id == among("devices")),
        AttemptRow.id.in_(newest.group_by(AttemptRow.device_id)),
        AttemptRow.id == among("attempts"),
    )


_ROLLOUTS_OF = select(AttemptRow.rollout_id).where(_concerning()).distinct()
_LOCK_CONCERNING = (
    select(AttemptRow.__table__).where(_concerning()).order_by(AttemptRow.id).with_for_update(key_share=True)
)


async def lock_some(connection: AsyncConnection, ids: Iterable[int]) -> list[StoredAttempt]:
    """Attempts by id, locked in order of id."""
    statement = select(AttemptRow.__table__).where(AttemptRow.id.in_(sorted(set(ids)))).order_by(AttemptRow.id)
    return await fetch_all(connection, statement.with_for_update(key_share=True), StoredAttempt)


async def lock_slice(
    connection: AsyncConnection, rollout_id: int, states: Iterable[State], limit: int
) -> list[StoredAttempt]:
    """Up to ``limit`` attempts of a rollout that are in these states and not closed, locked in order of id."""
    statement = (
        select(AttemptRow.__table__)
        .where(
            AttemptRow.rollout_id == rollout_id,
            AttemptRow.state.in_([state.value for state in states]),
            AttemptRow.closed.is_(False),
        )
        .order_by(AttemptRow.id)
        .limit(limit)
    )
    return await fetch_all(connection, statement.with_for_update(key_share=True), StoredAttempt)


async def lock_overtakable(
    connection: AsyncConnection, rollout_id: int, position: int | None, target: Target, now: datetime, limit: int = 5000
) -> list[StoredAttempt]:
    """Waiting attempts of other rollouts whose devices a rollout would take over: those drawn for the ring at
    ``position``, or (None) all its target; locked in order of id."""
    statement = (
        select(AttemptRow.__table__)
        .join(Device, Device.id == AttemptRow.device_id)
        .where(
            AttemptRow.live,
            AttemptRow.rollout_id != rollout_id,
            AttemptRow.state.in_([State.QUEUED.value, State.STAGED.value]),
            compile_selector(target.where, now),
            compile_reason(target.rules, now).is_(None),
        )
        .order_by(AttemptRow.id)
        .limit(limit)
    )
    if position is not None:
        drawn = select(func.unnest(RingSlice.devices)).where(
            RingSlice.rollout_id == rollout_id, RingSlice.position == position, RingSlice.given.is_(False)
        )
        statement = statement.where(AttemptRow.device_id.in_(drawn))
    return await fetch_all(connection, statement.with_for_update(key_share=True, of=AttemptRow), StoredAttempt)


async def save_attempts(connection: AsyncConnection, rows: Sequence[dict[str, Any]]) -> None:
    """Writes the changing columns of many attempts in one statement; rows as ``from_attempt`` makes them."""
    if rows:
        columns = ", ".join(
            f"{name} = coalesce(new.{name}, attempt.{name})" if name in KEPT else f"{name} = new.{name}"
            for name in CHANGING
        )
        await connection.execute(
            text(
                f"UPDATE attempt SET {columns}"
                " FROM jsonb_populate_recordset(NULL::attempt, CAST(:rows AS jsonb)) AS new WHERE attempt.id = new.id"
            ),
            {"rows": as_rows(rows)},
        )


TIMELINE = (
    "attempt_id",
    "at",
    "said_by",
    "what",
    "try_number",
    "state",
    "reason",
    "step",
    "percent",
    "detail",
    "component",
    "tests",
    "log",
)


async def add_to_timeline(connection: AsyncConnection, rows: Sequence[dict[str, Any]]) -> None:
    """Appends to the timelines of attempts; columns that a row lacks are empty."""
    if rows:
        full = [{"detail": "", "tests": [], "log": "", **row} for row in rows]
        columns = ", ".join(TIMELINE)
        await connection.execute(
            text(
                f"INSERT INTO attempt_event ({columns}) SELECT {columns}"
                " FROM jsonb_populate_recordset(NULL::attempt_event, CAST(:rows AS jsonb))"
            ),
            {"rows": as_rows(full)},
        )


def _shown() -> Any:
    # One that goes back is brought what ran before, not what the release has.
    forward = func.coalesce(AttemptRow.release_id, Rollout.release_id)
    brings = case((AttemptRow.back_to.is_(None), forward), else_=AttemptRow.back_release_id)
    images = (
        select(func.jsonb_agg(func.jsonb_build_object("name", ReleaseImage.component, "version", ReleaseImage.version)))
        .where(ReleaseImage.release_id == brings)
        .scalar_subquery()
    )
    return (
        select(
            AttemptRow.__table__,
            Device.serial,
            Device.hw_rev,
            Rollout.plan,
            images.label("images"),
            Pulse.seen_at,
            Pulse.next_s,
            Pulse.condition,
        )
        .join(Device, Device.id == AttemptRow.device_id)
        .join(Rollout, Rollout.id == AttemptRow.rollout_id)
        .outerjoin(Pulse, Pulse.device_id == AttemptRow.device_id)
    )


async def list_attempts(
    connection: AsyncConnection,
    rollout_id: int,
    *,
    state: str | None = None,
    reason: str | None = None,
    ring: int | None = None,
    waiting_for: str | None = None,
    ever_bad: bool | None = None,
    where: Node | None = None,
    now: datetime | None = None,
    after: int = 0,
    limit: int = 100,
) -> list[ShownAttempt]:
    """Attempts of a rollout by id, with what is known of their device and the plan; ``where`` picks devices, ``reason``
    is why they are as they are, or first went bad."""
    statement = (
        _shown().where(AttemptRow.rollout_id == rollout_id, AttemptRow.id > after).order_by(AttemptRow.id).limit(limit)
    )
    if state is not None:
        statement = statement.where(AttemptRow.state == state)
    if reason is not None:
        statement = statement.where(or_(AttemptRow.reason == reason, AttemptRow.first_bad_why == reason))
    if ever_bad is not None:
        went = AttemptRow.first_bad_at
        statement = statement.where(went.is_not(None) if ever_bad else went.is_(None))
    if ring is not None:
        statement = statement.where(AttemptRow.ring == ring)
    if waiting_for is not None:
        statement = statement.where(AttemptRow.live, AttemptRow.waiting_for == waiting_for)
    if where is not None:
        statement = statement.where(compile_selector(where, now))
    return await fetch_all(connection, statement, ShownAttempt)


async def find_attempt(connection: AsyncConnection, attempt_id: int) -> ShownAttempt | None:
    """One attempt with what is known of its device and the plan."""
    statement = _shown().where(AttemptRow.id == attempt_id)
    return await fetch_one(connection, statement, ShownAttempt)


async def list_settlements(connection: AsyncConnection, limit: int = 1000) -> list[ShownSettlement]:
    """Attempts that were settled after the fact, the newest first."""
    statement = (
        select(Settlement.__table__, AttemptRow.rollout_id, Device.serial)
        .join(AttemptRow, AttemptRow.id == Settlement.attempt_id)
        .join(Device, Device.id == AttemptRow.device_id)
        .order_by(Settlement.id.desc())
        .limit(limit)
    )
    return await fetch_all(connection, statement, ShownSettlement)


async def serial_of(connection: AsyncConnection, device_id: int) -> str:
    """A device's serial."""
    return str(await connection.scalar(select(Device.serial).where(Device.id == device_id)))


async def picked(connection: AsyncConnection, rollout_id: int, where: Node, now: datetime) -> set[int]:
    """Which devices with an attempt of this rollout a selector picks."""
    statement = (
        select(AttemptRow.device_id)
        .join(Device, Device.id == AttemptRow.device_id)
        .where(AttemptRow.rollout_id == rollout_id, compile_selector(where, now))
    )
    return set((await connection.execute(statement)).scalars())


async def in_the_way(connection: AsyncConnection, rollout_id: int, position: int) -> set[int]:
    """The devices of a ring that are neither good nor out of it."""
    through = [state.value for state in (State.CONFIRMED, State.CALLED_OFF, State.ROLLED_BACK)]
    statement = select(AttemptRow.device_id).where(
        AttemptRow.rollout_id == rollout_id,
        AttemptRow.ring == position,
        AttemptRow.state.not_in(through),
        ~AttemptRow.left_out,
    )
    return set((await connection.execute(statement)).scalars())


async def lock_of_devices(connection: AsyncConnection, rollout_id: int, devices: Iterable[int]) -> list[StoredAttempt]:
    """A rollout's attempts of these devices, locked in order of id."""
    statement = (
        select(AttemptRow.__table__)
        .where(AttemptRow.rollout_id == rollout_id, AttemptRow.device_id.in_(sorted(set(devices))))
        .order_by(AttemptRow.id)
    )
    return await fetch_all(connection, statement.with_for_update(key_share=True), StoredAttempt)


async def leave_out(connection: AsyncConnection, rollout_id: int, devices: Iterable[int]) -> None:
    """Marks the attempts of these devices: later rounds go on without them."""
    statement = update(AttemptRow).where(AttemptRow.rollout_id == rollout_id, AttemptRow.device_id.in_(sorted(devices)))
    await connection.execute(statement.values(left_out=True))


async def live_elsewhere(connection: AsyncConnection, devices: Iterable[int]) -> set[int]:
    """Which of these devices have a live attempt."""
    statement = select(AttemptRow.device_id).where(AttemptRow.live, AttemptRow.device_id.in_(sorted(set(devices))))
    return {row.device_id for row in await connection.execute(statement)}


def came_from(attempt: CameFrom) -> dict[str, str | None]:
    """The digests of what a device ran before an attempt, by component."""
    return digests_of(attempt["came_from"]) or {APP: attempt["from_digest"]}


def digests_of(contents: Mapping[str, Mapping[str, Any]]) -> dict[str, str | None]:
    """What slots hold, by component; None where it is in pieces."""
    broken = {name for name, content in contents.items() if content.get("slot") == BROKEN}
    return {name: None if name in broken else content.get("digest") for name, content in contents.items()}
