"""The conductor: moves rollouts on. Any process may do it, and dying at any point loses nothing."""

import asyncio
import time
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import replace
from datetime import date, datetime, timedelta

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core import limits
from mellow_herald.core.arms import Compared
from mellow_herald.core.attempt import CallOff, EndTries, Relapse, Silence
from mellow_herald.core.decide import (
    AskForGo,
    Begin,
    BeginSoak,
    BeginWave,
    Decision,
    Finish,
    FinishRing,
    Halt,
    MarkSilent,
    MovesAgain,
    OpenRing,
    Progress,
    StandsStill,
    Unheard,
    decide,
)
from mellow_herald.core.foresight import HourMarks
from mellow_herald.core.harm.waves import HarmProgress, wave_due
from mellow_herald.core.plan import Plan
from mellow_herald.core.rollout import RingState, RolloutKind, RolloutState
from mellow_herald.core.steady import JUMP
from mellow_herald.service.apart import apart
from mellow_herald.service.context import Context
from mellow_herald.service.problems import brief, say_trouble
from mellow_herald.service.rollouts.brakes import read_brakes
from mellow_herald.service.rollouts.ending import apply_to, call_off_slice, finish
from mellow_herald.service.rollouts.halting import CONDUCTOR
from mellow_herald.service.rollouts.life import halt_within
from mellow_herald.service.rollouts.people_say import load_say
from mellow_herald.service.rollouts.planning import compared_by, plan_of, target_of
from mellow_herald.service.rollouts.record import record_decision, renew_orders
from mellow_herald.service.rollouts.rollbacks import count_to_come, end_what_was_left, go_back
from mellow_herald.service.tasks import woken
from mellow_herald.store import attempts, brakes, harm, progress, rings, rollouts
from mellow_herald.store.clock import Ticks, beat
from mellow_herald.store.conditions import forget_old_days, note_conditions
from mellow_herald.store.feed import JournalEntry, write_journal
from mellow_herald.store.fleet import write_pulses
from mellow_herald.store.gate import Lock, close_gate, share_gates, take, try_take
from mellow_herald.store.rings import Portion, Target
from mellow_herald.store.rollouts import RolloutOfRelease
from mellow_herald.store.rows import StoredPulse
from mellow_herald.store.trouble import is_away

TURN_SECONDS = 1.0
SHORTEST_REST = 0.1
# After each turn so many times as long is left to the calls of devices.
REST = 3.0
# That holds of large rollouts, too, but for no longer than this (s). Where nothing happens, they are looked at once in
# so many times as long as a look takes, but at least every two minutes (of service time).
LONGEST_REST, IDLE_REST, LONGEST_IDLE = 10.0, 100.0, 120.0
MOST_DECISIONS = 100
# Portions of a ring that are given under one gate, and of these so many at once: PostgreSQL uses one core for each.
PORTIONS, SIDE_BY_SIDE = 4, 2
UNHEARD = "no call within the plan's answer_within"
# A gateway not heard for so long, in service time, may be why those behind it are not heard either.
SHORTEST_SILENCE = timedelta(minutes=5)
# One slice of something long; tells whether there is more to do.
Work = Callable[[AsyncConnection, datetime], Awaitable[bool]]


class Conductor:
    """Looks at every live rollout once a turn."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._again_at: dict[int, float] = {}
        self._serving_since: datetime = context.clock.now()
        self._tidied: date | None = None
        self._turned = time.monotonic()

    async def run(self) -> None:
        """Works until cancelled."""
        signal = self._context.signals.conductor
        while True:
            began = time.monotonic()
            try:
                await self.turn()
                self._turned = time.monotonic()
            except Exception as error:
                say_trouble("a turn of the conductor failed; trying again", error)
                await asyncio.sleep(TURN_SECONDS)
            took = time.monotonic() - began
            longest = LONGEST_REST if self._again_at else TURN_SECONDS
            await self._rest(min(max(SHORTEST_REST, REST * took), longest))
            await woken(signal, TURN_SECONDS)
            signal.clear()

    async def _rest(self, seconds: float) -> None:
        """Leaves the processor to devices' calls, unless somebody waits for a ring to open."""
        begun = self._context.signals.begun
        await woken(begun, seconds)
        begun.clear()

    async def beat_and_write_pulses(self) -> None:
        """Notes once a second that the service serves, and writes the calls that the memory answered."""
        while True:
            self._note_figures()
            try:
                clock, engine = self._context.clock, self._context.engine
                ahead = clock.steady.follow()
                self._context.memory.clock_ahead = ahead
                told = await beat(engine, clock.steady.now(), clock.now(), ahead, Ticks.now())
                self._serving_since = told.serving_since
                if told.database_was_gone is not None:
                    await self._say_database_was_gone(told.database_was_gone)
                if told.clock_jumped is not None:
                    await self._say_clock_jumped(told.clock_jumped)
                await self._write_pulses()
                if clock.now().date() != self._tidied:
                    async with engine.begin() as connection:
                        await forget_old_days(connection, clock.now())
                    self._tidied = clock.now().date()
                self._context.memory.beat_failed = ""
            except Exception as error:
                self._context.memory.beat_failed = brief(error)
                say_trouble("the beat failed; trying again", error)
            await asyncio.sleep(TURN_SECONDS)

    def _note_figures(self) -> None:
        context = self._context
        figures = context.figures
        figures.followers.set(context.signals.followers)
        figures.held.set(context.waiting.count)
        figures.feed_lag.set(context.memory.feed_age)
        figures.turn.set(time.monotonic() - self._turned)
        figures.note_pools(context.pools)

    async def _say_clock_jumped(self, ahead: timedelta) -> None:
        way = "ahead of" if ahead > timedelta() else "behind"
        by = f"{abs(ahead.total_seconds()):.0f} s"
        why = (
            f"it is {by} {way} what has passed; service time takes that in slowly: no leave, soak or window jumps"
            if abs(ahead) > JUMP
            else "it agrees with what has passed again"
        )
        now = self._context.clock.now()
        entry = JournalEntry(
            now, "service", "machine's clock was set", "clock", why, {"ahead_s": ahead.total_seconds()}
        )
        async with self._context.engine.begin() as connection:
            await write_journal(connection, entry)

    async def _say_database_was_gone(self, gone: timedelta) -> None:
        why = (
            f"it ended without having been asked to; nothing could be written for {gone.total_seconds():.0f} s."
            " What was acknowledged is there; new numbers may leave some out."
        )
        entry = JournalEntry(self._context.clock.now(), "service", "database started again", "PostgreSQL", why)
        async with self._context.engine.begin() as connection:
            await write_journal(connection, entry)

    async def _write_pulses(self) -> None:
        """Writes the calls that were answered from memory. Each was answered, so none is lost to a fault of another's
        or of the database: what cannot be written now is kept for the next beat."""
        memory = self._context.memory

        async def write(pulses: Sequence[StoredPulse]) -> None:
            async with self._context.engine.begin() as connection:
                await write_pulses(connection, pulses)
                await note_conditions(connection, memory.hour_marks, pulses)

        failed = await apart(memory.take_pulses(), write)
        if failed:
            memory.hour_marks = HourMarks()
        for pulse, error in failed:
            say_trouble("a device's last call could not be written", error, device=pulse["device_id"])
        memory.put_back(pulse for pulse, error in failed if is_away(error))

    async def turn(self) -> None:
        """One look at every live rollout."""
        moved = self._context.signals.take_moved()
        async with self._context.engine.connect() as connection:
            live = await rollouts.list_rollouts(connection, live=True, limit=1000)
        self._again_at = {row["id"]: self._again_at[row["id"]] for row in live if row["id"] in self._again_at}
        for row in live:
            if row["id"] not in moved and time.monotonic() < self._again_at.get(row["id"], 0.0):
                continue
            # What is wrong with one rollout must not stand in the way of the others.
            try:
                if row["state"] == RolloutState.HALTED:
                    await self._call_off(row["id"], "halted")
                elif row["state"] in (RolloutState.SCHEDULED, RolloutState.RUNNING, RolloutState.HELD):
                    await self._conduct(row)
            except Exception as error:
                say_trouble("a rollout could not be moved on; trying again", error, rollout=row["id"])

    async def _conduct(self, row: RolloutOfRelease) -> None:
        if row["state"] == RolloutState.RUNNING and row["kind"] == RolloutKind.ROLLBACK:
            await self._take_in(row)
        # Every decision is taken anew after the one before was applied, so each sees the truth.
        for _ in range(MOST_DECISIONS):
            now = self._context.clock.now()
            async with self._context.engine.begin() as connection:
                if not await try_take(connection, Lock.CONDUCTOR, row["id"]):
                    return
                # Read again under the lock: somebody may have edited the plan meanwhile.
                (row,) = await rollouts.list_rollouts(connection, rollout_id=row["id"])
                plan = plan_of(row)
                began = time.monotonic()
                decisions = decide(plan, await self._progress(connection, row, plan, now), now)
                if not decisions:
                    self._look_again(row, time.monotonic() - began)
                    return
                decision = decisions[0]
                if not isinstance(decision, OpenRing | BeginWave):
                    await self._apply(connection, row, decision, now)
            if isinstance(decision, OpenRing):
                await self._open_ring(row, plan, decision.position)
            elif isinstance(decision, BeginWave):
                await self._begin_wave(row, plan)
            elif isinstance(decision, Halt | Finish | Begin):
                self._context.memory.epoch += 1  # this process at once, the others by the feed

    def _look_again(self, row: RolloutOfRelease, took: float) -> None:
        """Nothing is to be decided for now: notes when to look at a large rollout again, if nothing happens before."""
        if row["targeted"] >= limits.LARGE:
            longest = LONGEST_IDLE / self._context.clock.scale
            self._again_at[row["id"]] = time.monotonic() + max(TURN_SECONDS, min(longest, IDLE_REST * took))

    async def _progress(
        self, connection: AsyncConnection, row: RolloutOfRelease, plan: Plan, now: datetime
    ) -> Progress:
        rollout_id, within = row["id"], plan.answer_within
        looked = progress.Watching(rollout_id, plan, row["round"], row["round_at"], now)
        bad = await brakes.count_bad(connection, rollout_id, row["round_at"])
        return Progress(
            RolloutState(row["state"]),
            tuple(await progress.ring_progress(connection, looked, self._serving_since)),
            self._serving_since,
            await progress.unheard(connection, rollout_id, now, within),
            bad,
            await rollouts.count_at_risk(connection, rollout_id)
            + await progress.count_unsure(connection, rollout_id, now, within),
            await rollouts.rings_with_go(connection, rollout_id),
            # Without a bad device there is no evidence to speak of, however many good ones there are.
            await read_brakes(connection, row, plan) if bad else (),
            await brakes.quiet(connection, rollout_id, now, within),
            await count_to_come(connection, row, now),
            await self._harm(connection, row, plan, now),
            await load_say(connection, row, plan, (await rollouts.list_rings(connection, [rollout_id]))[rollout_id]),
        )

    async def _harm(
        self, connection: AsyncConnection, row: RolloutOfRelease, plan: Plan, now: datetime
    ) -> HarmProgress:
        if plan.harm is None:
            return HarmProgress()
        foreseen = row["watch"]["foreseen"]
        return await harm.load_progress(connection, row["id"], plan, foreseen, now, self._serving_since)

    async def _apply(
        self, connection: AsyncConnection, row: RolloutOfRelease, decision: Decision, now: datetime
    ) -> None:
        rollout_id = row["id"]
        match decision:
            case Begin():
                await close_gate(connection, rollout_id)
                await rollouts.move_rollout(connection, rollout_id, RolloutState.RUNNING, started_at=now, round_at=now)
                await self._record(connection, rollout_id, "started", "the time of its plan has come", now)
                await renew_orders(connection, rollout_id, "started", now)
            case AskForGo(position, why, asks):
                asking = {"asks": asks.value, "asks_why": why}
                await rollouts.move_ring(connection, rollout_id, position, RingState.AWAITING_GO, **asking)
                await self._record(connection, rollout_id, f"ring {position + 1} awaits {asks.awaited}", why, now)
            case BeginSoak(position):
                await rollouts.move_ring(connection, rollout_id, position, RingState.SOAKING, stands_why=None)
                what = f"ring {position + 1} soaking"
                await self._record(connection, rollout_id, what, "its devices are through", now)
            case FinishRing(position):
                await rollouts.move_ring(connection, rollout_id, position, RingState.DONE, done_at=now, stands_why=None)
                await self._record(connection, rollout_id, f"ring {position + 1} done", "its soak is over", now)
            case StandsStill(position, why):
                await rollouts.change_ring(connection, rollout_id, position, stands_why=why)
                await self._record(connection, rollout_id, f"ring {position + 1} stands still", why, now)
            case MovesAgain(position):
                await rollouts.change_ring(connection, rollout_id, position, stands_why=None)
                await self._record(connection, rollout_id, f"ring {position + 1} moves again", "it can go on", now)
            case MarkSilent(ids, quiet):
                await self._mark_silent(connection, ids, now)
                await self._mark_quiet(connection, quiet, now)
            case Halt(why):
                await halt_within(connection, self._context, rollout_id, CONDUCTOR, why)
            case Finish(why, outcome):
                if await finish(connection, rollout_id, RolloutState.FINISHED, now, {RolloutState.RUNNING}, outcome):
                    await self._record(connection, rollout_id, "finished", why, now)
                    await renew_orders(connection, rollout_id, "finished", now)
                    await end_what_was_left(connection, row, now)

    async def _open_ring(self, row: RolloutOfRelease, plan: Plan, position: int) -> None:
        """Opens a ring in slices, each under the shared gate with a look whether the rollout still runs."""
        if row["kind"] != RolloutKind.FORWARD:
            await self._open_way_back(row)
            return
        target = target_of(row, plan)
        if position == 0 and not await self._in_slices(row["id"], self._note_passed_over(row["id"], target)):
            return
        if row["overtakes"]:
            target_ids = self._overtake(row, plan, target, position)
            if not await self._in_slices(row["id"], target_ids):
                return
        if not await self._give_ring(row, position, plan, target):
            return
        now = self._context.clock.now()
        async with self._context.engine.begin() as connection:
            if not await self._may_open(connection, row["id"]):
                return
            await rollouts.move_ring(connection, row["id"], position, RingState.OPEN, opened_at=now)
            if position == len(plan.rings) - 1:
                targeted = await rings.recount_target(connection, row["id"], target, now)
                await rollouts.note_targeted(connection, row["id"], targeted)
            await self._record(connection, row["id"], f"ring {position + 1} opened", "its turn has come", now)
            await renew_orders(connection, row["id"], "ring opened", now)
        self._context.memory.epoch += 1  # this process at once, the others by the feed

    async def _begin_wave(self, row: RolloutOfRelease, plan: Plan) -> None:
        """Begins the wave that is due, counted anew while nobody is given leave."""
        now = self._context.clock.now()
        async with self._context.engine.begin() as connection:
            if plan.harm is None or not await self._may_open(connection, row["id"]):
                return
            await take(connection, Lock.PACE, row["id"])
            wave = wave_due(plan.harm, await self._harm(connection, row, plan, now))
            if wave is None:
                return
            await harm.add_wave(connection, row["id"], wave, now)
            await self._record(connection, row["id"], f"wave {wave.number} begins", wave.summary(plan.harm), now)
            await renew_orders(connection, row["id"], "wave", now)
        self._context.memory.epoch += 1  # this process at once, the others by the feed

    async def _take_in(self, row: RolloutOfRelease) -> None:
        """Gives devices their way back that were at risk, or busy in another rollout, when the rollback began."""
        now = self._context.clock.now()
        async with self._context.engine.begin() as connection:
            (ring,) = (await rollouts.list_rings(connection, [row["id"]]))[row["id"]]
            if ring["state"] != RingState.CLOSED and await self._may_open(connection, row["id"]):
                await go_back(connection, row, now)

    async def _open_way_back(self, row: RolloutOfRelease) -> None:
        """Opens the only ring of a rollback or a swap."""
        if not await self._in_slices(row["id"], lambda connection, now: go_back(connection, row, now)):
            return
        now = self._context.clock.now()
        async with self._context.engine.begin() as connection:
            if await self._may_open(connection, row["id"]):
                await rollouts.move_ring(connection, row["id"], 0, RingState.OPEN, opened_at=now)
                await self._record(connection, row["id"], "ring 1 opened", "its devices are known", now)
                await renew_orders(connection, row["id"], "ring opened", now)
        self._context.memory.epoch += 1  # this process at once, the others by the feed

    async def _may_open(self, connection: AsyncConnection, rollout_id: int) -> bool:
        """Whether the rollout still runs and no other process conducts it, for as long as the transaction lasts."""
        await share_gates(connection, [rollout_id])
        if not await try_take(connection, Lock.CONDUCTOR, rollout_id):
            return False
        states = await rollouts.rollout_states(connection, {rollout_id})
        return states[rollout_id] == RolloutState.RUNNING

    async def _in_slices(self, rollout_id: int, work: Work) -> bool:
        """Does some work slice by slice, each in a transaction of its own; False if the rollout stopped meanwhile."""
        more = True
        while more:
            now = self._context.clock.now()
            async with self._context.engine.begin() as connection:
                if not await self._may_open(connection, rollout_id):
                    return False
                more = await work(connection, now)
                await renew_orders(connection, rollout_id, "slice", now)
        return True

    def _note_passed_over(self, rollout_id: int, target: Target) -> Work:
        last: int | None = 0

        async def work(connection: AsyncConnection, now: datetime) -> bool:
            nonlocal last
            last = await rings.note_passed_over(connection, rollout_id, target, now, last or 0)
            return last is not None

        return work

    async def _give_ring(self, row: RolloutOfRelease, position: int, plan: Plan, target: Target) -> bool:
        """Gives a ring's devices their attempts, some portions side by side; False if the rollout stopped meanwhile."""
        rollout_id, compared = row["id"], compared_by(row, plan)
        after = 0 if plan.rings[position].takes_rest else None
        turns = asyncio.Semaphore(SIDE_BY_SIDE)

        async def give(portion: Portion, now: datetime, compared: Compared | None) -> None:
            async with turns, self._context.engine.begin() as connection:
                await rings.give(connection, rollout_id, position, plan, target, now, portion, compared)

        while True:
            now = self._context.clock.now()
            # The gate that this transaction shares stands for all portions: it ends after they have.
            async with self._context.engine.begin() as connection:
                if not await self._may_open(connection, rollout_id):
                    return False
                if compared is not None:
                    # Somebody may choose while the ring is being given its devices.
                    compared = replace(compared, chosen=await rollouts.chosen_of(connection, rollout_id))
                portions = await rings.next_portions(
                    connection, rollout_id, position, target, now, rest_after=after, most=PORTIONS
                )
                if not portions:
                    return True
                async with asyncio.TaskGroup() as giving:
                    for portion in portions:
                        giving.create_task(give(portion, now, compared))
                await renew_orders(connection, rollout_id, "slice", now)
            after = None if after is None else portions[-1].ids[-1]

    def _overtake(self, row: RolloutOfRelease, plan: Plan, target: Target, position: int) -> Work:
        """Calls off what waits in other rollouts for devices that this ring is to have."""

        async def work(connection: AsyncConnection, now: datetime) -> bool:
            rest = plan.rings[position].takes_rest
            taken = await attempts.lock_overtakable(connection, row["id"], None if rest else position, target, now)
            done = await apply_to(connection, taken, CallOff("overtaken"), now, f"overtaken by rollout {row['id']}")
            for other in sorted({one["rollout_id"] for one in taken}):
                devices = sum(one["rollout_id"] == other for one in taken)
                data = {"devices": devices, "by": row["id"]}
                entry = JournalEntry(
                    now,
                    CONDUCTOR,
                    "rollout overtaken",
                    f"rollout {other}",
                    f"rollout {row['id']}, which is urgent, takes over {devices} waiting devices",
                    data,
                )
                await write_journal(connection, entry)
            return done > 0

        return work

    async def _mark_silent(self, connection: AsyncConnection, ids: tuple[int, ...], now: datetime) -> None:
        rows = await attempts.lock_some(connection, ids)
        retried = [row for row in rows if attempts.to_attempt(row).may_retry]
        clusters = await self._clusters(connection, ids, now)
        await apply_to(connection, retried, EndTries(), now, UNHEARD)
        await apply_to(connection, [row for row in rows if row not in retried], Silence(), now, UNHEARD, clusters)

    async def _mark_quiet(self, connection: AsyncConnection, quiet: tuple[Unheard, ...], now: datetime) -> None:
        """Confirmed devices that fell silent in their soak."""
        heard = {one.attempt_id: one.heard_at for one in quiet}
        clusters = await self._clusters(connection, tuple(heard), now)
        for row in await attempts.lock_some(connection, heard):
            await apply_to(connection, [row], Relapse("went-silent", heard[row["id"]]), now, UNHEARD, clusters)

    async def _clusters(self, connection: AsyncConnection, ids: tuple[int, ...], now: datetime) -> dict[int, str]:
        """Devices that fall silent behind one gateway that is silent itself have one vote with the brake."""
        if not ids:
            return {}
        behind = await brakes.silent_gateways(connection, ids, now - SHORTEST_SILENCE)
        return {attempt_id: f"silent behind {gateway}" for attempt_id, gateway in behind.items()}

    async def _call_off(self, rollout_id: int, cause: str) -> None:
        """Calls off, slice by slice, what a halted rollout had not cleared."""
        done = None
        while done != 0:
            now = self._context.clock.now()
            async with self._context.engine.begin() as connection:
                # Under the gate: it may be resumed at this moment, and what is queued anew is not the halt's.
                await share_gates(connection, [rollout_id])
                if not await try_take(connection, Lock.CONDUCTOR, rollout_id):
                    return
                states = await rollouts.rollout_states(connection, {rollout_id})
                if states[rollout_id] != RolloutState.HALTED:
                    return
                done = await call_off_slice(connection, rollout_id, cause, now)
                await rollouts.end_tries(connection, rollout_id)

    async def _record(self, connection: AsyncConnection, rollout_id: int, what: str, why: str, now: datetime) -> None:
        await record_decision(connection, rollout_id, what, CONDUCTOR, why, now, entry=what)
