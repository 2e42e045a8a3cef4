"""Calling attempts off and ending rollouts: what conductor and engineers both do."""

from collections.abc import Iterable, Mapping, Set
from datetime import datetime
from types import MappingProxyType
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import BAD, BEFORE_SWITCH, Attempt, CallOff, Effect, EndTries, Event, Refusal, advance
from mellow_herald.core.rollout import Outcome, RolloutState
from mellow_herald.store import attempts, rollouts
from mellow_herald.store.feed import FeedEvent, publish
from mellow_herald.store.gate import close_gate
from mellow_herald.store.rows import StoredAttempt

CALL_OFF_SLICE = 5000


async def apply_to(
    connection: AsyncConnection,
    rows: Iterable[StoredAttempt],
    event: Event,
    now: datetime,
    detail: str = "",
    clusters: Mapping[int, str] = MappingProxyType({}),
) -> int:
    """Applies a word of the service to locked attempts, where it is possible; returns to how many. ``clusters`` names,
    by attempt, the common cause of what went bad."""
    changed, timeline, events = [], [], []
    for row in rows:
        outcome = advance(attempts.to_attempt(row), event, now)
        if isinstance(outcome, Refusal) or outcome.effect is Effect.REPEATED:
            continue
        changed.append(attempts.from_attempt(row["id"], outcome.attempt, now) | {"cluster": clusters.get(row["id"])})
        timeline.append(word_of_service(row["id"], outcome.attempt, now, detail))
        events.append(attempt_event(row, outcome.attempt, now))
    await attempts.save_attempts(connection, changed)
    await attempts.add_to_timeline(connection, timeline)
    await publish(connection, events)
    return len(changed)


async def call_off_slice(connection: AsyncConnection, rollout_id: int, cause: str, now: datetime) -> int:
    """Calls off up to 5,000 attempts that were never cleared; returns how many."""
    rows = await attempts.lock_slice(connection, rollout_id, BEFORE_SWITCH, CALL_OFF_SLICE)
    return await apply_to(connection, rows, CallOff(cause), now)


async def go_on_without(
    connection: AsyncConnection, rollout_id: int, devices: Iterable[int], now: datetime, why: str
) -> tuple[int, int]:
    """Leaves devices out of a rollout that runs: they hold no ring, are not tried again, and what they had not switched
    to is called off. Returns how many there are, and of how many something was called off."""
    chosen = sorted(set(devices))
    await attempts.leave_out(connection, rollout_id, chosen)
    rows = await attempts.lock_of_devices(connection, rollout_id, chosen)
    off = await apply_to(connection, rows, CallOff("left-out"), now, why)
    await apply_to(connection, [one for one in rows if one["state"] in BAD], EndTries(), now, why)
    return len(rows), off


async def finish(
    connection: AsyncConnection,
    rollout_id: int,
    state: RolloutState,
    now: datetime,
    allowed: Set[RolloutState],
    outcome: Outcome,
    **values: Any,
) -> bool:
    """Ends a rollout of which no device is at risk: calls off what never began, ends tries, closes all attempts; writes
    down what it came to, and other columns.

    Does nothing and returns False if, once its gate is closed, the rollout is not in a state of ``allowed`` or a
    device is at risk."""
    await close_gate(connection, rollout_id)
    states = await rollouts.rollout_states(connection, {rollout_id})
    if states[rollout_id] not in allowed or await rollouts.count_at_risk(connection, rollout_id):
        return False
    while await call_off_slice(connection, rollout_id, "rollout-ended", now):
        pass
    await rollouts.end_tries(connection, rollout_id)
    await rollouts.close_attempts(connection, rollout_id)
    await rollouts.move_rollout(connection, rollout_id, state, ended_at=now, outcome=outcome.value, **values)
    return True


def word_of_service(attempt_id: int, attempt: Attempt, now: datetime, detail: str = "") -> dict[str, Any]:
    """A timeline entry for what the service says."""
    return {
        "attempt_id": attempt_id,
        "at": now,
        "said_by": "service",
        "what": "state",
        "try_number": attempt.try_number,
        "state": attempt.state,
        "reason": attempt.reason,
        "detail": detail,
    }


def attempt_event(row: StoredAttempt, attempt: Attempt, now: datetime) -> FeedEvent:
    """The feed's word that an attempt moved."""
    data = {
        "ring": row["ring"],
        "state": attempt.state,
        "reason": attempt.reason,
        "try": attempt.try_number,
        "live": attempt.live,
        "moved": True,
    }
    return FeedEvent(now, "attempt", row["rollout_id"], row["device_id"], row["id"], data)
