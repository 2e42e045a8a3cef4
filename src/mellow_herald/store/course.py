"""What happened in a rollout over time: states, and where its time went."""

from datetime import datetime, timedelta
from typing import Any, TypedDict

from sqlalchemy import Label, cast, func, select, text
from sqlalchemy.dialects.postgresql import INTERVAL
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import State
from mellow_herald.store.database import fetch_all
from mellow_herald.store.rows import StoredEntry
from mellow_herald.store.tables import AttemptEvent, AttemptRow, JournalRow


class Moved(TypedDict):
    """How many attempts left a state for another in a step of time."""

    at: datetime
    left: str | None
    state: str
    devices: int


class Begun(TypedDict):
    """How many attempts began in a step of time."""

    at: datetime
    devices: int


class Times(TypedDict):
    """How long something took the devices of a ring, in s."""

    ring: int
    devices: int
    median_s: float | None
    nearly_all_s: float | None
    longest_s: float | None


class Leg(Times):
    """How long a leg of the way took them."""

    leg: str


# The legs of a device's way: from the first time it was in one state to the first time in another.
LEGS = {
    "waiting for the device": ("queued", State.OFFERED),
    "transfer": (State.OFFERED, State.STAGED),
    "waiting to switch": (State.STAGED, State.CLEARED),
    "installing": (State.CLEARED, State.PROVING),
    "proving": (State.PROVING, State.CONFIRMED),
}
# What the legs add up to: the one may go on for days, the other is when devices are away.
PHASES = {
    "staging": ("queued", State.STAGED),
    "switching": (State.CLEARED, State.CONFIRMED),
}


async def moves(connection: AsyncConnection, rollout_id: int, since: datetime, step: timedelta) -> list[Moved]:
    """Moves from state to state counted by steps of time: ``at`` (the step's begin), ``ring``, ``left`` (None for a
    first word) and ``state``."""
    words = (
        select(
            AttemptEvent.attempt_id,
            AttemptRow.ring,
            func.date_bin(cast(step, INTERVAL), AttemptEvent.at, since).label("at"),
            AttemptEvent.state,
            func.lag(AttemptEvent.state)
            .over(partition_by=AttemptEvent.attempt_id, order_by=AttemptEvent.id)
            .label("left"),
        )
        .join(AttemptRow, AttemptRow.id == AttemptEvent.attempt_id)
        .where(
            AttemptRow.rollout_id == rollout_id,
            # What is told of one component, or came too late, moved nothing.
            AttemptEvent.what.not_in(("late word", "component")),
            AttemptEvent.state.is_not(None),
        )
        .subquery()
    )
    statement = (
        select(words.c.at, words.c.left, words.c.state, func.count().label("devices"))
        .where(words.c.left.is_distinct_from(words.c.state))
        .group_by(words.c.at, words.c.left, words.c.state)
        .order_by(words.c.at)
    )
    await _with_room(connection)
    return await fetch_all(connection, statement, Moved)


async def begun(connection: AsyncConnection, rollout_id: int, since: datetime, step: timedelta) -> list[Begun]:
    """How many attempts there were to begin with, counted by steps of time."""
    at = func.date_bin(cast(step, INTERVAL), AttemptRow.created_at, since)
    statement = select(at.label("at"), func.count().label("devices")).where(AttemptRow.rollout_id == rollout_id)
    return await fetch_all(connection, statement.group_by(at).order_by(at), Begun)


async def spent(connection: AsyncConnection, rollout_id: int) -> list[Leg]:
    """For each ring, and each leg and phase: ``devices`` that went it, and median, 95th percentile and longest time, in
    seconds."""
    firsts = {
        state: func.min(AttemptEvent.at)
        .filter(AttemptEvent.state == state.value, AttemptEvent.what != "component")
        .label(state.value.replace("-", "_"))
        for state in (State.OFFERED, State.STAGED, State.CLEARED, State.PROVING, State.CONFIRMED)
    }
    ways = (
        select(AttemptRow.ring, AttemptRow.created_at.label("queued"), *firsts.values())
        .join(AttemptEvent, AttemptEvent.attempt_id == AttemptRow.id)
        .where(AttemptRow.rollout_id == rollout_id)
        .group_by(AttemptRow.id)
        .subquery()
    )
    ways_of = LEGS | PHASES
    # All at once: there may be millions of words to go through.
    columns: list[Label[Any]] = []
    for number, (begin, end) in enumerate(ways_of.values()):
        took = func.extract("epoch", ways.c[str(end)] - ways.c[str(begin)])
        columns += [
            measure.filter(took >= 0).label(f"{name}{number}")
            for name, measure in {
                "devices": func.count(took),
                "median_s": func.percentile_cont(0.5).within_group(took),
                "nearly_all_s": func.percentile_cont(0.95).within_group(took),
                "longest_s": func.max(took),
            }.items()
        ]
    await _with_room(connection)
    rows = (await connection.execute(select(ways.c.ring, *columns).group_by(ways.c.ring))).mappings().all()
    return [
        Leg(
            ring=row["ring"],
            leg=leg,
            devices=row[f"devices{number}"],
            median_s=row[f"median_s{number}"],
            nearly_all_s=row[f"nearly_all_s{number}"],
            longest_s=row[f"longest_s{number}"],
        )
        for number, leg in enumerate(ways_of)
        for row in rows
        if row[f"devices{number}"]
    ]


async def _with_room(connection: AsyncConnection) -> None:
    """Lets the next statements of this transaction sort in memory what they go through."""
    await connection.execute(text("SELECT set_config('work_mem', '128MB', true), set_config('jit', 'off', true)"))


async def decisions(connection: AsyncConnection, rollout_id: int) -> list[StoredEntry]:
    """The journal's sealed entries about a rollout, oldest first."""
    statement = select(JournalRow.__table__).where(
        JournalRow.subject == f"rollout {rollout_id}", JournalRow.link.is_not(None)
    )
    return await fetch_all(connection, statement.order_by(JournalRow.link), StoredEntry)
