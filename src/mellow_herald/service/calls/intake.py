"""The intake: the one place where devices' calls change state.

Calls are gathered for a few milliseconds, loaded together under the shared gates of their rollouts, run one by one
through the core, written in one transaction, and only then answered: what was acknowledged is durable.
"""

import asyncio
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core import attempt as core
from mellow_herald.core.attempt import Attempt, Effect, Refusal, State
from mellow_herald.core.calendar import Use
from mellow_herald.core.decide import is_over
from mellow_herald.core.firmware import APP
from mellow_herald.core.foresight import HourMarks
from mellow_herald.core.leave import restart_missing, window_missing
from mellow_herald.core.needs import missing
from mellow_herald.core.order import CLEARANCE, NAMES_IMAGES, Answer, Order, Situation, answer
from mellow_herald.core.plan import Plan, SwitchWhen
from mellow_herald.core.rhythm import calls_every
from mellow_herald.core.rollout import RolloutState
from mellow_herald.service.apart import apart
from mellow_herald.service.calls.batch import Batch, Call, Tracked, soaks
from mellow_herald.service.calls.glance import Glance
from mellow_herald.service.calls.harm import take_harm
from mellow_herald.service.calls.hearing import CUT_OFF, Hearing
from mellow_herald.service.calls.reported import Reported, refused
from mellow_herald.service.calls.surroundings import take_families, take_pace
from mellow_herald.service.calls.targets import Targets
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError, away, say_trouble
from mellow_herald.service.rollouts.ending import word_of_service
from mellow_herald.service.room import Turns
from mellow_herald.store import attempts, fleet, history, releases, rollouts
from mellow_herald.store.alarms import add_alarms, updates_of
from mellow_herald.store.conditions import note_conditions
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.store.gate import draw_numbers, share_gates
from mellow_herald.store.progress import Watching, count_unstaged
from mellow_herald.store.rows import StoredAttempt, StoredDevice
from mellow_herald.store.trouble import is_away
from mellow_herald.wire.device import CheckinIn, Clearance, OrderOut, OwnerWord, ReportIn

GATHER_SECONDS = 0.003
BATCH = 256
# So many are worked on before others, engineers among them, have their turn.
TURN = 32
# Some seconds of work. More would wait for longer than a device waits for its answer.
MOST_WAITING = 4096
ORDERED = frozenset({State.OFFERED, State.CLEARED})
# What the intake itself keeps of an attempt, beside what the core does.
KEPT = attempts.KEPT - {"cluster"}


class Intake:
    """Takes calls, batches them, answers them."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._waiting: asyncio.Queue[Call] = asyncio.Queue()
        self._turns = Turns()
        self._targets = Targets()
        self._hearing = Hearing(self._targets, context.memory)

    async def checkin(self, device_id: int, message: CheckinIn, seen: Glance | None = None) -> OrderOut:
        """Records a check-in, of which so much was ``seen`` at a glance; returns the order that stands."""
        return await self._submit(device_id, message, seen, Reported.of())

    async def reports(self, device_id: int, reported: Reported) -> OrderOut:
        """Records reports; returns the order that stands after them, with those that could not be taken."""
        return await self._submit(device_id, None, None, reported)

    async def _submit(
        self, device_id: int, checkin: CheckinIn | None, seen: Glance | None, reported: Reported
    ) -> OrderOut:
        if self._waiting.qsize() >= MOST_WAITING:
            raise self._turns.later()
        done: asyncio.Future[OrderOut] = asyncio.get_running_loop().create_future()
        await self._waiting.put(Call(device_id, checkin, seen, reported, self._context.memory.epoch, done))
        return await done

    async def run(self) -> None:
        """Works until cancelled."""
        while True:
            calls = [await self._waiting.get()]
            await asyncio.sleep(GATHER_SECONDS)
            while len(calls) < BATCH and not self._waiting.empty():
                calls.append(self._waiting.get_nowait())
            self._context.figures.batch.observe(len(calls))
            self._context.figures.queue.set(self._waiting.qsize())
            failed = await apart(calls, self._work)
            self._turns.served(len(calls), waiting=not self._waiting.empty())
            if failed:
                self._context.memory.hour_marks = HourMarks()  # what was not written down is to be noted once more
            for call, error in failed:
                say_trouble("a device's call could not be recorded", error, device=call.device_id)
                if not call.done.done():
                    call.done.set_exception(_not_recorded(error))

    async def _work(self, calls: Sequence[Call]) -> None:
        answers: list[OrderOut | ProblemError] = []
        async with self._context.engine.begin() as connection:
            batch = await self._load(connection, calls)
            for number, call in enumerate(calls):
                if number % TURN == TURN - 1:
                    await asyncio.sleep(0)
                try:
                    answers.append(self._answer(batch, call))
                except ProblemError as problem:
                    answers.append(problem)
            await self._write(connection, batch)
        moved = [tracked for tracked in batch.attempts.values() if tracked.moved]
        self._context.signals.note_harm(
            {tracked.row["rollout_id"] for tracked in moved if tracked.attempt.state in core.BAD}
        )
        for call, result in zip(calls, answers, strict=True):
            if call.done.done():  # the device hung up while we worked; what it said is kept all the same
                continue
            if isinstance(result, ProblemError):
                call.done.set_exception(result)
                continue
            if call.checkin is not None:
                self._remember(batch, call, result)
            call.done.set_result(result)

    async def _load(self, connection: AsyncConnection, calls: Sequence[Call]) -> Batch:
        devices = {call.device_id for call in calls}
        named = {report.attempt for call in calls for _, report in call.reported.reports}
        gates = await attempts.rollouts_of(connection, devices, named)
        await share_gates(connection, gates)
        standing = await rollouts.standing(connection, gates)
        await self._targets.load(connection, {rollout_id: revision for rollout_id, (_, revision) in standing.items()})
        now = self._context.clock.now()
        states = {rollout_id: self._state_now(rollout_id, state, now) for rollout_id, (state, _) in standing.items()}
        asking = any(call.checkin is not None for call in calls)
        running = {one: self._targets.plan(one) for one, state in states.items() if state is RolloutState.RUNNING}
        used = await take_pace(connection, running) if asking else {}
        harm = await take_harm(connection, running, {one: self._targets.watched(one) for one in running})
        # Only who may be handed something, or blames the way to us, is looked at together with its gateway.
        behind = asking or any(report.reason in CUT_OFF for call in calls for _, report in call.reported.reports)
        families = await take_families(connection, devices, running, now) if gates and behind else {}
        unstaged = await self._unstaged(connection, running, now) if asking else {}
        device_rows = await fleet.lock_devices(connection, devices)
        rows = await attempts.lock_attempts(connection, devices, named)
        await self._targets.load_ways_back(connection, rows)
        named_now = await self._named(connection, calls, device_rows)
        # An attempt that came up after the gates were taken is left for the device's next call.
        tracked = {
            r["id"]: Tracked(StoredAttempt(**r), attempts.to_attempt(r)) for r in rows if r["rollout_id"] in states
        }
        batch = Batch(
            now,
            {device_id: StoredDevice(**row) for device_id, row in device_rows.items()},
            tracked,
            states,
            iter(()),
            last_pulses=await fleet.last_pulses(connection, devices) if asking or rows else {},
            used=used,
            harm=harm,
            families=families,
            named=named_now,
            updates=await updates_of(connection, _alarmed(calls)),
            unstaged=unstaged,
        )
        wanted = sum(self._may_be_cleared(batch, call) for call in calls)
        if wanted:
            batch.numbers = iter(await draw_numbers(connection, wanted))
        return batch

    async def _unstaged(
        self, connection: AsyncConnection, running: Mapping[int, Plan], now: datetime
    ) -> dict[tuple[int, int], int]:
        """Of the rollouts that switch nobody before a whole ring has staged: by rollout and ring, how many have not."""
        found: dict[tuple[int, int], int] = {}
        for rollout_id, plan in running.items():
            if plan.order.switch is SwitchWhen.ALL_STAGED:
                counts = await count_unstaged(connection, Watching(rollout_id, plan, 1, None, now))
                found |= {(rollout_id, ring): count for ring, count in counts.items()}
        return found

    async def _named(
        self, connection: AsyncConnection, calls: Sequence[Call], devices: Mapping[int, StoredDevice]
    ) -> dict[str, str]:
        """The versions of bytes that devices run since their last word, by digest: bytes decide, not what is said."""
        running = {call.device_id: call.checkin.running.get(APP) for call in calls if call.checkin is not None}
        fresh = {
            app.digest
            for one, app in running.items()
            if app and one in devices and app.digest != devices[one]["digest"]
        }
        return await releases.versions_of(connection, fresh) if fresh else {}

    def _may_be_cleared(self, batch: Batch, call: Call) -> bool:
        tracked = batch.current(call.device_id)
        if tracked is None or call.checkin is None or not call.checkin.ready:
            return False
        return batch.states[tracked.row["rollout_id"]] is RolloutState.RUNNING

    def _state_now(self, rollout_id: int, state: str, now: datetime) -> RolloutState:
        """A running rollout whose last day is over hands out nothing any more, as if it were held."""
        over = state == RolloutState.RUNNING and is_over(self._targets.plan(rollout_id), now)
        return RolloutState.HELD if over else RolloutState(state)

    def _situation(self, batch: Batch, device: StoredDevice, checkin: CheckinIn | None, tracked: Tracked) -> Situation:
        rollout_id = tracked.row["rollout_id"]
        target = self._targets.of(tracked)
        stands: dict[str, Any] = {
            "runs": target.runs(tracked.row, device, self._context.memory.in_place.get(device["board"], frozenset())),
            "standby": target.standby(device),
            "updater": device["updater"] or 0,
            "back": target.back,
            "again": target.again(tracked.row),
            "fetchable": target.fetchable,
            "clearance": _clearance(device),
        }
        if checkin is None:
            return Situation(check_in=False, **stands)
        condition, plan = checkin.condition.model_dump(), target.plan
        used = batch.used.get(rollout_id)
        to_fetch, to_switch = (
            missing(plan.needs, condition, switching=switching)
            or window_missing(plan, Use.SWITCH if switching else Use.FETCH, device["labels"], batch.now)
            for switching in (False, True)
        )
        keep = plan.order.keep_reachable
        for family in batch.families.get(device["id"], []):
            to_switch = to_switch or family.missing_to_switch(device["id"], keep_reachable=keep)
        allowed = batch.harm.get(rollout_id)
        if allowed is not None and plan.harm is not None:
            to_switch = to_switch or allowed.missing(tracked.row, tracked.attempt)
        if batch.unstaged.get((rollout_id, tracked.row["ring"])):
            to_switch = to_switch or (core.WaitingFor.RING, None)
        return Situation(
            check_in=True,
            ready=checkin.ready and not checkin.trial,
            missing_to_fetch=to_fetch,
            missing_to_switch=to_switch or restart_missing(plan, checkin.after_restart),
            room_to_fetch=used is None or used.room_to_fetch,
            room_to_switch=used is None or used.room_to_switch,
            **stands,
        )

    def _answer(self, batch: Batch, call: Call) -> OrderOut:
        device = batch.devices.get(call.device_id)
        if device is None or device["admission"] != "admitted":
            raise ProblemError(403, "not-admitted", "The device is not admitted. Ask the engineer to admit it.")
        if call.checkin is not None:
            call.old = not self._hearing.note_checkin(batch, device, call.checkin)
            return self._order(batch, device, call)
        not_taken = [*call.reported.refused]
        for place, report in call.reported.reports:
            if (why := self._take_report(batch, call.device_id, report)) is not None:
                not_taken.append(refused(place, {"boots": report.boots, "seq": report.seq}, *why))
        batch.touched.add(call.device_id)
        order = self._order(batch, device, call)
        order.refused = sorted(not_taken, key=lambda one: one.index)
        return order

    def _take_report(self, batch: Batch, device_id: int, report: ReportIn) -> tuple[str, str] | None:
        """Notes a report; returns of what kind it is if it cannot be taken, and why."""
        tracked = batch.attempts.get(report.attempt)
        if tracked is None or tracked.row["device_id"] != device_id:
            why = f"Attempt {report.attempt} is not one of this device's. Report only what an order named."
            return "not-your-attempt", why
        refusal = self._hearing.note_report(batch, device_id, report)
        return None if refusal is None else (refusal.kind, refusal.detail)

    def _order(self, batch: Batch, device: StoredDevice, call: Call) -> OrderOut:
        interval = self._context.memory.interval_of(device)
        tracked = batch.current(call.device_id)
        log_asked = device["log_until"] is not None and device["log_until"] > batch.now
        # An old word, or one that two units may have said, is given nothing: nobody acts on it, or the wrong one.
        if tracked is None or call.old or device["cloned_at"] is not None:
            return OrderOut(next_checkin_s=interval, log=log_asked)
        target = self._targets.of(tracked)
        situation = self._situation(batch, device, call.checkin, tracked)
        before = tracked.attempt
        found = answer(before, batch.states[tracked.row["rollout_id"]], situation, batch.now, batch.numbers)
        batch.change(tracked, found.attempt)
        if found.attempt.try_number != before.try_number:
            tracked.keep_parts({})  # what was given up is tried again, too
        self._note_service_moves(batch, tracked, before, found)
        if before.exposed_at is None and tracked.attempt.exposed_at is not None and call.checkin is not None:
            checkin = call.checkin
            tracked.keep_before({"readings": checkin.readings, "settings": checkin.settings_digest})
        if device["radio_interval_s"] is None:
            soak = tracked.attempt.soak if soaks(tracked.attempt, batch.now) else None
            interval = calls_every(interval, soak=soak, live=tracked.attempt.live)
        if call.checkin is not None:
            batch.pulses[device["id"]]["next_s"] = interval
        plan = target.plan
        log_asked = log_asked or (plan.log and tracked.attempt.live)
        if found.order is None:
            return OrderOut(next_checkin_s=interval, log=log_asked)
        order = OrderOut(
            order=found.order,
            attempt=tracked.row["id"],
            try_number=found.attempt.try_number,
            manifest=target.manifest,
            trial_s=int(plan.trial_for.total_seconds()),
            next_checkin_s=interval,
            urgent=plan.needs.urgent,
            owner=OwnerWord(
                may_postpone=plan.owner.may_postpone,
                postpone_by_s=int(plan.owner.postpone_by.total_seconds()),
                must_consent=plan.owner.must_consent,
                message=plan.owner.message,
                contact=plan.owner.contact,
            ),
            log=log_asked,
        )
        if found.order in (Order.SWITCH, Order.SWITCH_BACK):
            left = (found.attempt.clearance_until or batch.now) - batch.now
            order.clearance = Clearance(number=found.attempt.clearance or 0, seconds=int(left.total_seconds()))
            order.to = target.to(device) if (device["updater"] or 0) >= NAMES_IMAGES else None
        return order

    def _note_service_moves(self, batch: Batch, tracked: Tracked, before: Attempt, found: Answer) -> None:
        attempt = before
        for event in found.events:
            outcome = core.advance(attempt, event, batch.now)
            if isinstance(outcome, Refusal) or outcome.effect is not Effect.MOVED:
                continue
            attempt = outcome.attempt
            detail = f"clearance {attempt.clearance}" if attempt.state is State.CLEARED else ""
            word = word_of_service(tracked.row["id"], attempt, batch.now, detail)
            batch.timeline.append(word | {"what": "order"} if attempt.state in ORDERED else word)

    async def _write(self, connection: AsyncConnection, batch: Batch) -> None:
        changed = [tracked for tracked in batch.attempts.values() if tracked.changed]
        rows = [
            attempts.from_attempt(h.row["id"], h.attempt, batch.now)
            | {name: value for name, value in h.row.items() if name in KEPT}
            | {"cluster": self._cluster(batch, h)}
            for h in changed
        ]
        await attempts.save_attempts(connection, rows)
        await attempts.add_to_timeline(connection, batch.timeline)
        await fleet.update_devices(connection, list(batch.changed_devices.values()))
        pulses = list(batch.pulses.values())
        await fleet.write_pulses(connection, pulses)
        await note_conditions(connection, self._context.memory.hour_marks, pulses)
        await history.add_events(connection, batch.history)
        await add_alarms(connection, batch.alarms)
        for device, detail in batch.cloned:
            entry = JournalEntry(batch.now, "service", "two devices use one token", device["serial"], detail)
            await write_journal(connection, entry)
        await fleet.touch_pulses(connection, list(batch.touched - batch.pulses.keys()), batch.now)
        events = [self._event(batch, tracked) for tracked in changed]
        events += [
            FeedEvent(
                batch.now, "device", device_id=row["id"], data={"serial": row["serial"], "version": row["version"]}
            )
            for row in batch.changed_devices.values()
        ]
        await publish(connection, events)

    def _cluster(self, batch: Batch, tracked: Tracked) -> str | None:
        """The common cause by which a device goes bad just now: all that lose power at one site in one hour have one
        vote with the brake."""
        attempt, before = tracked.attempt, tracked.row["cluster"]
        if before is not None and before.startswith(core.UNSAID) and attempt.harmed_why != core.UNSAID:
            return f"alone {tracked.row['id']}"  # it came to say why: not for want of power, and that is its own vote
        if attempt.harmed_at != batch.now or attempt.harmed_why != core.UNSAID:
            return None
        site = tracked.row["facts"].get("site")
        return None if site is None else f"{core.UNSAID} {site} {batch.now:%Y-%m-%dT%H}"

    def _event(self, batch: Batch, tracked: Tracked) -> FeedEvent:
        attempt, row = tracked.attempt, tracked.row
        data = {
            "serial": batch.devices[row["device_id"]]["serial"],
            "ring": row["ring"],
            "state": attempt.state,
            "reason": attempt.reason,
            "step": attempt.step,
            "percent": attempt.percent,
            "try": attempt.try_number,
            "live": attempt.live,
            "moved": tracked.moved,
        }
        return FeedEvent(batch.now, "attempt", row["rollout_id"], row["device_id"], row["id"], data)

    def _remember(self, batch: Batch, call: Call, answer: OrderOut) -> None:
        tracked = batch.current(call.device_id)
        quiet = answer.order is None and not answer.log and not call.old
        # What is new in a soak shows in what the memory compares, but for readings.
        watched = (
            tracked is not None and soaks(tracked.attempt, batch.now) and self._targets.of(tracked).plan.brake.readings
        )
        if quiet and call.seen is not None and (tracked is None or not (tracked.attempt.live or watched)):
            interval = self._context.memory.interval_of(batch.devices[call.device_id])
            self._context.memory.remember(call.device_id, call.seen, interval, call.epoch)
        else:
            self._context.memory.forget(call.device_id)


def _clearance(device: StoredDevice) -> timedelta:
    """How long leave to switch holds: who is on narrow radio may hear of it only when it speaks the next time."""
    seldom = timedelta(seconds=device["radio_interval_s"] or 0)
    return max(CLEARANCE, 2 * seldom + timedelta(minutes=1) if seldom else CLEARANCE)


def _alarmed(calls: Sequence[Call]) -> list[str]:
    """The devices that alarms are about."""
    return [alarm.about for call in calls if call.checkin is not None for alarm in call.checkin.alarms]


def _not_recorded(error: Exception) -> ProblemError:
    if is_away(error):
        return away()
    detail = "This call alone could not be recorded, for what is in it; the service's log says why."
    return ProblemError(503, "not-recorded", detail, {"Retry-After": "60"})
