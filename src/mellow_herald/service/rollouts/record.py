"""A stored rollout, and what is written down of each decision about one."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.service.problems import ProblemError
from mellow_herald.store import rollouts, tallies
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.store.rollouts import RolloutOfRelease

# After these a rollout has another outcome.
CLOSING = frozenset({"halted", "finished", "cancelled", "rolled back"})


async def stored_rollout(connection: AsyncConnection, rollout_id: int) -> RolloutOfRelease:
    """A stored rollout; a problem if there is none."""
    rows = await rollouts.list_rollouts(connection, rollout_id=rollout_id)
    if not rows:
        raise ProblemError(404, "not-found", f"There is no rollout {rollout_id}. See `herald rollout list`.")
    return rows[0]


async def record_decision(
    connection: AsyncConnection,
    rollout_id: int,
    what: str,
    by: str,
    why: str,
    now: datetime,
    data: Mapping[str, Any] | None = None,
    *,
    entry: str | None = None,
) -> None:
    """Writes a decision about a rollout into the journal (as ``entry``, or else "rollout" and what it was) and into the
    feed; there with what it came to, where that has changed."""
    named = entry or f"rollout {what}"
    await write_journal(connection, JournalEntry(now, by, named, f"rollout {rollout_id}", why, dict(data or {})))
    told: dict[str, Any] = {"what": what, "why": why, "by": by}
    if what in CLOSING:
        outcome, harm = (
            await rollouts.outcome_of(connection, rollout_id),
            await tallies.count_harm(connection, [rollout_id]),
        )
        told |= {"outcome": outcome, "ever_bad": harm.get(rollout_id, {})}
    await publish(connection, [FeedEvent(now, "rollout", rollout_id, data=told)])


async def renew_orders(connection: AsyncConnection, rollout_id: int, what: str, now: datetime) -> None:
    """Makes every worker forget, once this transaction commits, which devices had nothing to do."""
    await publish(connection, [FeedEvent(now, "orders", rollout_id, data={"what": what})])
