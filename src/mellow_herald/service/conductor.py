"""The conductor: moves rollouts on. Any process may do it, and dying at any point loses nothing."""

import asyncio
import contextlib
from collections.abc import Set
from datetime import datetime
from typing import Any

import structlog
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import BEFORE_SWITCH, CallOff, Effect, EndTries, Event, Refusal, Silence, advance
from mellow_herald.core.decide import (
    BeginSoak,
    Decision,
    Finish,
    FinishRing,
    MarkSilent,
    OpenRing,
    Progress,
    decide,
)
from mellow_herald.core.firmware import APP
from mellow_herald.core.placement import Candidate, Rules, rules_for
from mellow_herald.core.plan import Plan
from mellow_herald.core.rollout import RingState, RolloutState
from mellow_herald.core.selector import parse_selector
from mellow_herald.service.context import Context
from mellow_herald.store import attempts, rollouts
from mellow_herald.store.clock import beat
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.store.fleet import write_pulses
from mellow_herald.store.gate import Lock, close_gate, share_gates, try_take
from mellow_herald.wire.rollout import PlanDocument

log = structlog.get_logger()

TURN_SECONDS = 1.0
SHORTEST_TURN = 0.1
CALL_OFF_SLICE = 5000
CONDUCTOR = "conductor"


def plan_of(row: Any) -> Plan:
    """The plan of a stored rollout."""
    return PlanDocument.model_validate(row["plan"]).to_plan()


def rules_of(row: Any, plan: Plan | None = None) -> Rules:
    """Who is passed over by a plan for a stored rollout (or release) row."""
    return rules_for(
        Candidate(
            row["board"], row["line"], row["version"], row["floor"], tuple(row["digests"]),
            row["hw_rev_min"], row["hw_rev_max"], row["needs"].get(APP),
        ),
        plan.allow if plan else (),
    )  # fmt: skip


class Conductor:
    """Looks at every live rollout once a turn."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._serving_since: datetime = context.clock.now()

    async def run(self) -> None:
        """Works until cancelled."""
        signal = self._context.signals.conductor
        while True:
            try:
                await self.turn()
            except Exception:
                log.exception("a turn of the conductor failed; trying again")
                await asyncio.sleep(TURN_SECONDS)
            await asyncio.sleep(SHORTEST_TURN)
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(signal.wait(), TURN_SECONDS)
            signal.clear()

    async def beat_and_write_pulses(self) -> None:
        """Notes once a second that the service serves, and writes the calls that the memory answered."""
        while True:
            try:
                clock, engine = self._context.clock, self._context.engine
                self._serving_since = await beat(engine, clock.real(), clock.now())
                pulses = self._context.memory.take_pulses()
                async with engine.begin() as connection:
                    await write_pulses(connection, pulses)
            except Exception:
                log.exception("the beat failed; trying again")
            await asyncio.sleep(TURN_SECONDS)

    async def turn(self) -> None:
        """One look at every live rollout."""
        async with self._context.engine.connect() as connection:
            live = await rollouts.list_rollouts(connection, live=True, limit=1000)
        for row in live:
            if row["state"] == RolloutState.HALTED:
                await self._call_off(row["id"], "halted")
            elif row["state"] in (RolloutState.RUNNING, RolloutState.HELD):
                await self._conduct(row)

    async def _conduct(self, row: Any) -> None:
        plan = plan_of(row)
        # Every decision is taken anew after the one before was applied, so each sees the truth.
        for _ in range(len(plan.rings) * 3 + 2):
            now = self._context.clock.now()
            async with self._context.engine.begin() as connection:
                if not await try_take(connection, Lock.CONDUCTOR, row["id"]):
                    return
                progress = await self._progress(connection, row["id"], plan, now)
                decisions = decide(plan, progress, now)
                if not decisions:
                    return
                decision = decisions[0]
                if not isinstance(decision, OpenRing):
                    await self._apply(connection, row, decision, now)
            if isinstance(decision, OpenRing):
                await self._open_ring(row, plan, decision.position)

    async def _progress(self, connection: AsyncConnection, rollout_id: int, plan: Plan, now: datetime) -> Progress:
        states = await rollouts.rollout_states(connection, {rollout_id})
        return Progress(
            RolloutState(states[rollout_id]),
            tuple(await rollouts.ring_progress(connection, rollout_id, now)),
            self._serving_since,
            await rollouts.unheard(connection, rollout_id, now, plan.answer_within),
        )

    async def _apply(self, connection: AsyncConnection, row: Any, decision: Decision, now: datetime) -> None:
        rollout_id = row["id"]
        match decision:
            case BeginSoak(position):
                await rollouts.move_ring(connection, rollout_id, position, RingState.SOAKING)
                await self._say(connection, rollout_id, f"ring {position + 1} soaking", "its devices are through", now)
            case FinishRing(position):
                await rollouts.move_ring(connection, rollout_id, position, RingState.DONE, done_at=now)
                await self._say(connection, rollout_id, f"ring {position + 1} done", "its soak is over", now)
            case MarkSilent(ids):
                await self._mark_silent(connection, rollout_id, ids, now)
            case Finish():
                if await finish(connection, rollout_id, RolloutState.FINISHED, now, {RolloutState.RUNNING}):
                    await self._say(connection, rollout_id, "finished", "all rings are done", now)

    async def _open_ring(self, row: Any, plan: Plan, position: int) -> None:
        """Opens a ring in slices, each under the shared gate with a look whether the rollout still runs."""
        target, rules, engine = parse_selector(plan.target), rules_of(row, plan), self._context.engine
        placed = None
        while placed != 0:
            now = self._context.clock.now()
            async with engine.begin() as connection:
                await share_gates(connection, [row["id"]])
                states = await rollouts.rollout_states(connection, {row["id"]})
                if states[row["id"]] != RolloutState.RUNNING:
                    return
                placed = await rollouts.open_slice(connection, row["id"], position, plan, target, rules, now)
                if placed:
                    await publish(connection, [FeedEvent(now, "orders", row["id"], data={"placed": placed})])
                    continue
                await rollouts.move_ring(connection, row["id"], position, RingState.OPEN, opened_at=now)
                await self._say(connection, row["id"], f"ring {position + 1} opened", "its turn has come", now)
        self._context.memory.epoch += 1  # this process at once, the others by the feed

    async def _mark_silent(
        self, connection: AsyncConnection, rollout_id: int, ids: tuple[int, ...], now: datetime
    ) -> None:
        changed, timeline, events = [], [], []
        for row in await attempts.lock_some(connection, ids):
            attempt = attempts.to_attempt(row)
            word: Event = EndTries() if attempt.may_retry else Silence()
            outcome = advance(attempt, word, now)
            if isinstance(outcome, Refusal) or outcome.effect is Effect.REPEATED:
                continue
            changed.append(attempts.from_attempt(row["id"], outcome.attempt, now))
            timeline.append(word_of_service(row["id"], outcome.attempt, now, "no call within the plan's answer_within"))
            events.append(attempt_event(row, outcome.attempt, now))
        await attempts.save_attempts(connection, changed)
        await attempts.add_to_timeline(connection, timeline)
        await publish(connection, events)

    async def _call_off(self, rollout_id: int, cause: str) -> None:
        """Calls off, slice by slice, what a halted rollout had not cleared."""
        done = None
        while done != 0:
            now = self._context.clock.now()
            async with self._context.engine.begin() as connection:
                if not await try_take(connection, Lock.CONDUCTOR, rollout_id):
                    return
                states = await rollouts.rollout_states(connection, {rollout_id})
                if states[rollout_id] != RolloutState.HALTED:
                    return
                done = await call_off_slice(connection, rollout_id, cause, now)

    async def _say(self, connection: AsyncConnection, rollout_id: int, what: str, why: str, now: datetime) -> None:
        entry = JournalEntry(now, CONDUCTOR, what, f"rollout {rollout_id}", why)
        await write_journal(connection, entry)
        await publish(connection, [FeedEvent(now, "rollout", rollout_id, data={"what": what, "why": why})])


async def call_off_slice(connection: AsyncConnection, rollout_id: int, cause: str, now: datetime) -> int:
    """Calls off up to 5,000 attempts that were never cleared; returns how many."""
    rows = await attempts.lock_slice(connection, rollout_id, BEFORE_SWITCH, CALL_OFF_SLICE)
    changed, timeline, events = [], [], []
    for row in rows:
        outcome = advance(attempts.to_attempt(row), CallOff(cause), now)
        if isinstance(outcome, Refusal):
            continue
        changed.append(attempts.from_attempt(row["id"], outcome.attempt, now))
        timeline.append(word_of_service(row["id"], outcome.attempt, now))
        events.append(attempt_event(row, outcome.attempt, now))
    await attempts.save_attempts(connection, changed)
    await attempts.add_to_timeline(connection, timeline)
    await publish(connection, events)
    return len(changed)


async def finish(
    connection: AsyncConnection, rollout_id: int, state: RolloutState, now: datetime, allowed: Set[RolloutState]
) -> bool:
    """Ends a rollout of which no device is at risk: calls off what never began, ends tries, closes all attempts.

    Does nothing and returns False if, once its gate is closed, the rollout is not in a state of ``allowed``.
    """
    await close_gate(connection, rollout_id)
    states = await rollouts.rollout_states(connection, {rollout_id})
    if states[rollout_id] not in allowed:
        return False
    while await call_off_slice(connection, rollout_id, "rollout-ended", now):
        pass
    await rollouts.end_tries(connection, rollout_id)
    await rollouts.close_attempts(connection, rollout_id)
    await rollouts.move_rollout(connection, rollout_id, state, ended_at=now)
    return True


def word_of_service(attempt_id: int, attempt: Any, now: datetime, detail: str = "") -> dict[str, Any]:
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


def attempt_event(row: Any, attempt: Any, now: datetime) -> FeedEvent:
    """The feed's word that an attempt moved."""
    data = {
        "ring": row["ring"], "state": attempt.state, "reason": attempt.reason, "try": attempt.try_number,
        "live": attempt.live, "moved": True,
    }  # fmt: skip
    return FeedEvent(now, "attempt", row["rollout_id"], row["device_id"], row["id"], data)
