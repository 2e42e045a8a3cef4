"""Attempts: rows to and from the core's state machine, and their timeline."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import func, or_, select, text
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import Attempt, DownloadStep, State, WaitingFor
from mellow_herald.core.selector import Node
from mellow_herald.store.database import among, as_rows
from mellow_herald.store.placing import Target
from mellow_herald.store.selector_sql import compile_reason, compile_selector
from mellow_herald.store.tables import AttemptRow, Device, Pulse, ReleaseImage, RingSlice, Rollout

Row = Mapping[str, Any]
SAME = (
    "reason", "try_number", "tries", "percent", "rate", "waiting_until", "offered_at", "exposed_at", "confirmed_at",
    "soak_until", "retry_at", "clearance", "clearance_until", "undelivered_at", "undelivered_why", "harmed_at",
    "harmed_why", "installs", "closed",
)  # fmt: skip
# A row that says nothing of these keeps them.
KEPT = frozenset({"parts", "before", "cluster"})
CHANGING = (
    *SAME, "state", "live", "step", "waiting_for", "last_boots", "last_seq", "changed_at", "parts", "before",
    "cluster",
)  # fmt: skip


def to_attempt(row: Row) -> Attempt:
    """The core's attempt behind a row."""
    return Attempt(
        state=State(row["state"]),
        soak=timedelta(seconds=row["soak_s"]),
        retry_pause=timedelta(seconds=row["retry_pause_s"]),
        last=None if row["last_boots"] is None else (row["last_boots"], row["last_seq"]),
        step=None if row["step"] is None else DownloadStep(row["step"]),
        waiting_for=None if row["waiting_for"] is None else WaitingFor(row["waiting_for"]),
        **{name: row[name] for name in SAME},
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


async def lock_attempts(connection: AsyncConnection, devices: Iterable[int], attempts: Iterable[int]) -> list[Row]:
    """The attempts that matter for these devices (live, newest, or named), locked in order of id."""
    return list((await connection.execute(_LOCK_CONCERNING, _named(devices, attempts))).mappings())


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


async def lock_some(connection: AsyncConnection, ids: Iterable[int]) -> list[Row]:
    """Attempts by id, locked in order of id."""
    statement = select(AttemptRow.__table__).where(AttemptRow.id.in_(sorted(set(ids)))).order_by(AttemptRow.id)
    return list((await connection.execute(statement.with_for_update(key_share=True))).mappings())


async def lock_slice(connection: AsyncConnection, rollout_id: int, states: Iterable[State], limit: int) -> list[Row]:
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
    return list((await connection.execute(statement.with_for_update(key_share=True))).mappings())


async def lock_overtakable(
    connection: AsyncConnection, rollout_id: int, position: int | None, target: Target, now: datetime, limit: int = 5000
) -> list[Row]:
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
    return list((await connection.execute(statement.with_for_update(key_share=True, of=AttemptRow))).mappings())


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
    images = (
        select(func.jsonb_agg(func.jsonb_build_object("name", ReleaseImage.component, "version", ReleaseImage.version)))
        .where(ReleaseImage.release_id == Rollout.release_id)
        .scalar_subquery()
    )
    return (
        select(
            AttemptRow.__table__, Device.serial, Device.hw_rev, Rollout.plan, images.label("images"),
            Pulse.seen_at, Pulse.next_s, Pulse.condition,
        )
        .join(Device, Device.id == AttemptRow.device_id)
        .join(Rollout, Rollout.id == AttemptRow.rollout_id)
        .outerjoin(Pulse, Pulse.device_id == AttemptRow.device_id)
    )  # fmt: skip


async def list_attempts(
    connection: AsyncConnection,
    rollout_id: int,
    *,
    state: str | None = None,
    reason: str | None = None,
    ring: int | None = None,
    waiting_for: str | None = None,
    where: Node | None = None,
    now: datetime | None = None,
    after: int = 0,
    limit: int = 100,
) -> list[Row]:
    """Attempts of a rollout by id, with what is known of their device and the plan; ``where`` picks devices."""
    statement = (
        _shown().where(AttemptRow.rollout_id == rollout_id, AttemptRow.id > after).order_by(AttemptRow.id).limit(limit)
    )
    if state is not None:
        statement = statement.where(AttemptRow.state == state)
    if reason is not None:
        statement = statement.where(AttemptRow.reason == reason)
    if ring is not None:
        statement = statement.where(AttemptRow.ring == ring)
    if waiting_for is not None:
        statement = statement.where(AttemptRow.live, AttemptRow.waiting_for == waiting_for)
    if where is not None:
        statement = statement.where(compile_selector(where, now))
    return list((await connection.execute(statement)).mappings())


async def find_attempt(connection: AsyncConnection, attempt_id: int) -> Row | None:
    """One attempt with what is known of its device and the plan."""
    statement = _shown().where(AttemptRow.id == attempt_id)
    return (await connection.execute(statement)).mappings().first()


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


async def live_elsewhere(connection: AsyncConnection, devices: Iterable[int]) -> set[int]:
    """Which of these devices have a live attempt."""
    statement = select(AttemptRow.device_id).where(AttemptRow.live, AttemptRow.device_id.in_(sorted(set(devices))))
    return {row.device_id for row in await connection.execute(statement)}
