"""Attempts counted as they move.

Triggers add up what each statement changes, and append it, so that nobody waits for a row that others count in, too.
The counts of a rollout are the sums of its lines; now and then many lines are folded into few.
"""

from collections.abc import Sequence
from typing import Any, TypedDict

from sqlalchemy import func, select, text
from sqlalchemy.ext.asyncio import AsyncConnection, AsyncEngine

from mellow_herald.store.database import fetch_all
from mellow_herald.store.tables import Tally

KEYS = "rollout_id, ring, state, reason, waiting_for, left_out, first_bad_why"
SUMS = ("attempts", "exposed", "live", "ever_bad", "percents", "unasked")
# More lines than this of one rollout are folded.
MOST_LINES = 500
_NAMES = ", ".join(SUMS)
_ADDED = ", ".join(f"sum({name})::bigint AS {name}" for name in SUMS)
_SOME = " OR ".join(f"{name} <> 0" for name in SUMS)
_FOLD = text(
    f"WITH gone AS (DELETE FROM tally WHERE rollout_id IN"
    f" (SELECT rollout_id FROM tally GROUP BY rollout_id HAVING count(*) > :most) RETURNING *),"
    f" added AS (SELECT {KEYS}, {_ADDED} FROM gone GROUP BY {KEYS})"
    f" INSERT INTO tally ({KEYS}, {_NAMES}) SELECT {KEYS}, {_NAMES} FROM added WHERE {_SOME}"
)
_AMISS = (
    f"SELECT {KEYS}, {_ADDED} FROM ("
    f" SELECT {KEYS}, 1 AS attempts, (exposed_at IS NOT NULL)::int AS exposed, live::int AS live,"
    f" (first_bad_at IS NOT NULL)::int AS ever_bad, fetched::bigint AS percents,"
    f" (unasked_at IS NOT NULL)::int AS unasked FROM attempt"
    f" UNION ALL SELECT {KEYS}, {', '.join('-' + name for name in SUMS)} FROM tally) AS compared GROUP BY {KEYS}"
)
_MEND = text(
    f"INSERT INTO tally ({KEYS}, {_NAMES}) SELECT {KEYS}, {_NAMES} FROM ({_AMISS}) AS amiss WHERE {_SOME}"
    " RETURNING rollout_id"
)


class AttemptCount(TypedDict):
    """How many attempts of a rollout's ring are in a state; ``percents`` is the sum of what each ever had of its image,
    in %; ``unasked`` are those that switched without clearance."""

    rollout_id: int
    ring: int
    state: str
    reason: str | None
    waiting_for: str | None
    left_out: bool
    attempts: int
    exposed: int
    live: int
    ever_bad: int
    percents: int
    unasked: int


async def count_attempts(connection: AsyncConnection, ids: Sequence[int]) -> list[AttemptCount]:
    """Attempts of these rollouts counted by ring, state, reason and what they wait for: ``attempts``, ``exposed``,
    ``live``, ``ever_bad``, ``unasked``, and ``percents``, the sum of how much of its image each ever had, in %."""
    keys = (Tally.rollout_id, Tally.ring, Tally.state, Tally.reason, Tally.waiting_for, Tally.left_out)
    statement = (
        select(*keys, *(_sum(name) for name in SUMS))
        .where(Tally.rollout_id.in_(list(ids)))
        .group_by(*keys)
        .having(func.sum(Tally.attempts) > 0)
        .order_by(*keys)
    )
    return await fetch_all(connection, statement, AttemptCount)


async def count_harm(connection: AsyncConnection, ids: Sequence[int]) -> dict[int, dict[str, int]]:
    """For each of these rollouts, its attempts that were ever bad, by why they first were."""
    keys = (Tally.rollout_id, Tally.first_bad_why)
    statement = (
        select(*keys, _sum("ever_bad"))
        .where(Tally.rollout_id.in_(list(ids)))
        .group_by(*keys)
        .having(func.sum(Tally.ever_bad) > 0)
    )
    found: dict[int, dict[str, int]] = {}
    for row in await connection.execute(statement):
        found.setdefault(row.rollout_id, {})[row.first_bad_why] = row.ever_bad
    return found


async def fold(engine: AsyncEngine) -> int:
    """Folds the lines of rollouts that have many; returns how many lines that left. Whoever reads meanwhile sees the
    lines before or those after; several that fold at once each fold what the others have not."""
    async with engine.begin() as connection:
        return (await connection.execute(_FOLD, {"most": MOST_LINES})).rowcount


async def mend(engine: AsyncEngine) -> set[int]:
    """Counts all attempts of all rollouts, and puts right what does not agree; returns the rollouts that did not."""
    async with engine.connect() as connection:
        # Of one moment: what moves meanwhile is counted by its own transaction.
        await connection.execution_options(isolation_level="REPEATABLE READ")
        async with connection.begin():
            # One after the other, each of a moment after the one before: two that found the same would mend it twice.
            await connection.execute(text("LOCK TABLE tally IN SHARE UPDATE EXCLUSIVE MODE"))
            return set((await connection.execute(_MEND)).scalars())


def _sum(name: str) -> Any:
    return func.sum(getattr(Tally, name)).cast(Tally.percents.type).label(name)
