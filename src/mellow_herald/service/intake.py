"""The intake: the one place where devices' calls change state.

Calls are gathered for a few milliseconds, loaded together under the shared gates of their rollouts, run one by one
through the core, written in one transaction, and only then answered: what was acknowledged is durable.
"""

import asyncio
from collections.abc import Iterable, Mapping
from dataclasses import replace
from datetime import datetime
from typing import Any

import structlog
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core import attempt as core
from mellow_herald.core.attempt import Attempt, Effect, Refusal, State
from mellow_herald.core.calendar import Use
from mellow_herald.core.decide import is_over
from mellow_herald.core.firmware import APP
from mellow_herald.core.history import Happening, Known, Standing, happenings, is_odd
from mellow_herald.core.needs import missing
from mellow_herald.core.order import Answer, Order, Word, answer
from mellow_herald.core.parts import PartWord, after_check_in, after_word, at_first, worst
from mellow_herald.core.relapse import Quiet, relapse
from mellow_herald.core.rollout import RolloutState
from mellow_herald.core.version import version_key
from mellow_herald.service.batch import Batch, Call, Held, Release, Target, holds_back, soaks
from mellow_herald.service.context import Context
from mellow_herald.service.ending import word_of_service
from mellow_herald.service.planning import plan_of
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.surroundings import (
    restart_missing,
    take_families,
    take_pace,
    window_missing,
)
from mellow_herald.store import attempts, fleet, history, releases, rollouts
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.store.gate import draw_numbers, share_gates
from mellow_herald.wire.device import CheckinIn, Clearance, OrderOut, OwnerWord, RefusedReport, ReportIn

log = structlog.get_logger()

GATHER_SECONDS = 0.003
BATCH = 256
SOONEST_CHECKIN_S = 10
MARKING = frozenset({Happening.CLONED, Happening.RESCUED, Happening.BACK})
USUAL_INTERVAL_S = 300
ORDERED = frozenset({State.OFFERED, State.CLEARED})
# What may well be the gateway's doing rather than the device's.
CUT_OFF = frozenset({"no-contact", "download-broken"})


class Intake:
    """Takes calls, batches them, answers them."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._waiting: asyncio.Queue[Call] = asyncio.Queue()
        self._targets: dict[int, Target] = {}
        self._releases: dict[int, Release] = {}

    async def checkin(self, device_id: int, said: CheckinIn) -> OrderOut:
        """Records a check-in; returns the order that stands."""
        return await self._submit(device_id, said, [])

    async def reports(self, device_id: int, said: list[ReportIn]) -> OrderOut:
        """Records reports; returns the order that stands after them."""
        return await self._submit(device_id, None, said)

    async def _submit(self, device_id: int, checkin: CheckinIn | None, reports: list[ReportIn]) -> OrderOut:
        done: asyncio.Future[OrderOut] = asyncio.get_running_loop().create_future()
        await self._waiting.put(Call(device_id, checkin, reports, self._context.memory.epoch, done))
        return await done

    async def run(self) -> None:
        """Works until cancelled."""
        while True:
            calls = [await self._waiting.get()]
            await asyncio.sleep(GATHER_SECONDS)
            while len(calls) < BATCH and not self._waiting.empty():
                calls.append(self._waiting.get_nowait())
            try:
                await self._work(calls)
            except Exception:
                log.exception("a batch of device calls failed", calls=len(calls))
                problem = ProblemError(
                    503, "not-recorded", "The call could not be recorded; repeat it.", {"Retry-After": "2"}
                )
                for call in calls:
                    if not call.done.done():
                        call.done.set_exception(problem)

    async def _work(self, calls: list[Call]) -> None:
        answers: list[OrderOut | ProblemError] = []
        async with self._context.engine.begin() as connection:
            batch = await self._load(connection, calls)
            for call in calls:
                try:
                    answers.append(self._answer(batch, call))
                except ProblemError as problem:
                    answers.append(problem)
            await self._write(connection, batch)
        moved = [held for held in batch.attempts.values() if held.moved]
        self._context.signals.note_harm({held.row["rollout_id"] for held in moved if held.attempt.state in core.BAD})
        for call, said in zip(calls, answers, strict=True):
            if call.done.done():  # the device hung up while we worked; what it said is kept all the same
                continue
            if isinstance(said, ProblemError):
                call.done.set_exception(said)
                continue
            if call.checkin is not None:
                self._remember(batch, call, said)
            call.done.set_result(said)

    async def _load(self, connection: AsyncConnection, calls: list[Call]) -> Batch:
        devices = {call.device_id for call in calls}
        named = {report.attempt for call in calls for report in call.reports}
        gates = await attempts.rollouts_of(connection, devices, named)
        await share_gates(connection, gates)
        standing = await rollouts.standing(connection, gates)
        await self._load_targets(connection, {rollout_id: revision for rollout_id, (_, revision) in standing.items()})
        now = self._context.clock.now()
        states = {rollout_id: self._state_now(rollout_id, state, now) for rollout_id, (state, _) in standing.items()}
        asking = any(call.checkin is not None for call in calls)
        running = {one: self._targets[one].plan for one, state in states.items() if state is RolloutState.RUNNING}
        used = await take_pace(connection, running) if asking else {}
        # Only who may be handed something, or blames the way to us, is looked at together with its gateway.
        behind = asking or any(report.reason in CUT_OFF for call in calls for report in call.reports)
        families = await take_families(connection, devices, now) if gates and behind else {}
        device_rows = await fleet.lock_devices(connection, devices)
        rows = await attempts.lock_attempts(connection, devices, named)
        await self._load_releases(connection, rows)
        # An attempt that came up after the gates were taken is left for the device's next call.
        held = {r["id"]: Held(dict(r), attempts.to_attempt(r)) for r in rows if r["rollout_id"] in states}
        batch = Batch(
            now,
            {device_id: dict(row) for device_id, row in device_rows.items()},
            held,
            states,
            iter(()),
            last_pulses=await fleet.last_pulses(connection, devices) if asking else {},
            used=used,
            families=families,
        )
        wanted = sum(self._may_be_cleared(batch, call) for call in calls)
        if wanted:
            batch.numbers = iter(await draw_numbers(connection, wanted))
        return batch

    def _may_be_cleared(self, batch: Batch, call: Call) -> bool:
        held = batch.current(call.device_id)
        ready = held is not None and call.checkin is not None and call.checkin.ready
        return ready and batch.states[held.row["rollout_id"]] is RolloutState.RUNNING

    def _state_now(self, rollout_id: int, state: str, now: datetime) -> RolloutState:
        """A running rollout whose last day is over hands out nothing any more, as if it were held."""
        over = state == RolloutState.RUNNING and is_over(self._targets[rollout_id].plan, now)
        return RolloutState.HELD if over else RolloutState(state)

    def _word(self, batch: Batch, device: dict[str, Any], said: CheckinIn | None, held: Held) -> Word:
        rollout_id = held.row["rollout_id"]
        target = self._target(held)
        back = target.back_to is not None
        holds = holds_back(device, target) if back else target.stands_by(device)
        runs = back and device["digest"] in target.digests
        way = {"back": back, "fetchable": target.fetchable, "runs_already": runs}
        if said is None:
            return Word(check_in=False, standby_holds=holds, **way)
        condition, plan = said.condition.model_dump(), target.plan
        used = batch.used.get(rollout_id)
        to_fetch, to_switch = (
            missing(plan.needs, condition, switching=switching)
            or window_missing(plan, Use.SWITCH if switching else Use.FETCH, device["labels"], batch.now)
            for switching in (False, True)
        )
        for family in batch.families.get(device["id"], []):
            to_switch = to_switch or family.missing_to_switch(device["id"])
        return Word(
            True, said.ready, holds, to_fetch, to_switch or restart_missing(plan, said.after_restart),
            used is None or used.room_to_fetch, used is None or used.room_to_switch, **way,
        )  # fmt: skip

    def _target(self, held: Held) -> Target:
        """What an attempt brings its device to: its rollout's release, or the way back that is the device's own."""
        target, back_to = self._targets[held.row["rollout_id"]], held.row["back_to"]
        if back_to is None:
            return target
        release = self._releases.get(held.row["back_release_id"])
        digests = frozenset({back_to}) if release is None else release.digests | {back_to}
        manifest = None if release is None else release.manifest
        return replace(
            target, manifest=manifest, images={APP: digests}, independent=False, back_to=back_to,
            fetchable=release is not None,
        )  # fmt: skip

    async def _load_releases(self, connection: AsyncConnection, rows: Iterable[Mapping[str, Any]]) -> None:
        """The releases that attempts of rollbacks go back to; they never change."""
        for release_id in {row["back_release_id"] for row in rows} - {None} - self._releases.keys():
            (row,) = await releases.list_releases(connection, release_id=release_id)
            digests = frozenset(image["digest"] for image in row["components"] if image["name"] == APP)
            self._releases[release_id] = Release(row["manifest_digest"], digests)

    async def _load_targets(self, connection: AsyncConnection, revisions: Mapping[int, int]) -> None:
        for rollout_id, revision in revisions.items():
            known = self._targets.get(rollout_id)
            if known is not None and known.revision == revision:
                continue
            (row,) = await rollouts.list_rollouts(connection, rollout_id=rollout_id)
            names = {image["name"] for image in row["images"]}
            images = {name: frozenset(i["digest"] for i in row["images"] if i["name"] == name) for name in names}
            self._targets[rollout_id] = Target(
                row["revision"], plan_of(row), row["manifest_digest"], images, row["independent"]
            )

    def _answer(self, batch: Batch, call: Call) -> OrderOut:
        device = batch.devices.get(call.device_id)
        if device is None or device["admission"] != "admitted":
            raise ProblemError(403, "not-admitted", "The device is not admitted. Ask the engineer to admit it.")
        refused: list[RefusedReport] = []
        if call.checkin is not None:
            self._note_word(batch, device, call.checkin)
        else:
            for report in call.reports:
                held = batch.attempts.get(report.attempt)
                if held is None or held.row["device_id"] != call.device_id:
                    raise ProblemError(
                        403, "not-your-attempt",
                        f"Attempt {report.attempt} is not one of this device's. Report only what an order named.",
                    )  # fmt: skip
            for report in call.reports:
                self._note_report(batch, call.device_id, report, refused)
            batch.touched.add(call.device_id)
        order = self._order(batch, device, call)
        order.refused = refused
        return order

    def _note_word(self, batch: Batch, device: dict[str, Any], said: CheckinIn) -> None:
        app = said.running.get("app")
        last = batch.last_pulses.get(device["id"])
        odd = self._note_history(batch, device, last, said)
        if odd is not None:
            # Not this unit's word, or an old one: what is known of the device stays.
            batch.pulses[device["id"]] = {**(batch.pulses.get(device["id"]) or last or {}), **odd}
            batch.odd.add(device["id"])
            return
        word = {
            "running": {name: content.model_dump() for name, content in said.running.items()},
            "standby": {name: content.model_dump() for name, content in said.standby.items()},
            "version": app.version if app else None,
            "version_key": version_key(app.version) if app and app.version else None,
            "version_keys": {n: version_key(c.version).hex() for n, c in said.running.items() if c.version},
            "digest": app.digest if app else None,
            "floor": app.floor if app else None,
            "updater": said.updater,
            "settings_digest": said.settings_digest,
        }
        if any(device[name] != value for name, value in word.items()) or not device["token_used"]:
            device.update(word, token_used=True, changed_at=batch.now)
            batch.changed_devices[device["id"]] = device
        batch.pulses[device["id"]] = {
            "device_id": device["id"],
            "seen_at": batch.now,
            "boots": said.boots,
            "seq": said.seq,
            "interval_s": self._interval(device),
            "next_s": self._interval(device),
            "condition": said.condition.model_dump(exclude_none=True),
            "readings": said.readings,
            "odd_boots": None,
            "odd_seq": None,
        }
        batch.last_pulses[device["id"]] = batch.pulses[device["id"]]
        self._note_parts(batch, device)
        self._note_soak(batch, device, last, said)

    def _note_history(
        self, batch: Batch, device: dict[str, Any], last: dict[str, Any] | None, said: CheckinIn
    ) -> dict[str, Any] | None:
        """Writes down what the check-in shows of the device's past; for one that is older than what is known, returns
        what the pulse is to remember of it."""
        app = said.running.get("app")
        heard = Standing(
            said.boots, said.seq, app.digest if app else None, app.version if app else None,
            app.slot if app else "", said.settings_digest,
        )  # fmt: skip
        known = self._known(batch, device, last)
        events = list(happenings(known, heard, batch.now))
        for event in events:
            row = {"device_id": device["id"], "at": batch.now, "what": event.what, "detail": event.detail}
            if event.what is Happening.CLONED:
                if device["cloned_at"] is not None:
                    continue  # it is known, and shown, until somebody settles it
                device["cloned_at"] = batch.now
                batch.cloned.append((device, event.detail))
            elif event.what is Happening.RESCUED:
                device["rescued_at"] = batch.now
            elif event.what is Happening.BACK:
                device["arriving"] = True
            batch.history.append({**row, "count": event.count})
        if any(event.what in MARKING for event in events):
            batch.changed_devices[device["id"]] = device
        if is_odd(known, heard):
            return {"odd_boots": said.boots, "odd_seq": said.seq}
        self._note_way_back(batch, device, known, heard)
        return None

    def _note_parts(self, batch: Batch, device: dict[str, Any]) -> None:
        """What a device runs and has standing by shows how its components stand."""
        held = batch.current(device["id"])
        if held is None or not held.attempt.live or held.attempt.state is State.QUEUED:
            return
        images = self._target(held).images
        if len(images) > 1:
            before = held.row["parts"] or at_first(images, device["running"])
            held.keep_parts(after_check_in(before, images, device["running"], device["standby"]))

    def _note_soak(self, batch: Batch, device: dict[str, Any], last: dict[str, Any] | None, said: CheckinIn) -> None:
        """What a check-in shows of a device that confirmed: its settings as they are now, and whether it goes bad."""
        held = batch.current(device["id"])
        if held is None or held.attempt.state is not State.CONFIRMED or held.attempt.closed:
            return
        if said.settings_digest is not None and "settings_after" not in held.row["before"]:
            held.keep_before({**held.row["before"], "settings_after": said.settings_digest})
        target = self._target(held)
        known = Quiet(
            held.attempt.last[0] if held.attempt.last else said.boots,
            held.row["from_digest"],
            target.digests,
            held.row["before"].get("readings", {}),
            [*([] if last is None else [last["readings"]]), said.readings],
        )
        found = relapse(known, said.boots, device["digest"], target.plan.brake.readings)
        if found is None:
            return
        outcome = core.advance(held.attempt, core.Relapse(found[0]), batch.now)
        if isinstance(outcome, Refusal) or outcome.effect is not Effect.MOVED:
            return
        self._change(batch, held, outcome.attempt)
        batch.timeline.append(word_of_service(held.row["id"], outcome.attempt, batch.now, found[1]))

    def _known(self, batch: Batch, device: dict[str, Any], last: dict[str, Any] | None) -> Known:
        if last is None:
            return Known(None, None)
        held = batch.current(device["id"])
        running = device["running"].get("app") or {}
        standing = Standing(
            last["boots"], last["seq"], device["digest"], device["version"], running.get("slot", ""),
            device["settings_digest"],
        )  # fmt: skip
        odd = None if last["odd_boots"] is None else (last["odd_boots"], last["odd_seq"])
        if held is None:
            return Known(standing, last["seen_at"], odd=odd)
        wanted = self._target(held).digests
        lost = held.attempt.state is State.SILENT
        return Known(standing, last["seen_at"], lost, held.row["from_digest"], wanted, odd)

    def _note_way_back(self, batch: Batch, device: dict[str, Any], known: Known, heard: Standing) -> None:
        """A device that restarted while it was to install, and runs what it ran, went back, said so or not."""
        held = batch.current(device["id"])
        restarted = known.last is not None and heard.boots > known.last.boots
        if held is None or not restarted or heard.digest != held.row["from_digest"] or heard.digest in known.wanted:
            return
        outcome = core.advance(held.attempt, core.CameBackOld(), batch.now)
        if isinstance(outcome, Refusal) or outcome.effect is not Effect.MOVED:
            return
        self._change(batch, held, outcome.attempt)
        detail = "it restarted and runs what it ran before, without a word of its own"
        batch.timeline.append(word_of_service(held.row["id"], outcome.attempt, batch.now, detail))

    def _interval(self, device: dict[str, Any]) -> int:
        intervals = self._context.memory.intervals.get(device["board"])
        if intervals is None:
            return USUAL_INTERVAL_S
        return intervals.of({**device["labels"], **device}) if intervals.exceptions else intervals.usual_s

    def _note_report(self, batch: Batch, device_id: int, said: ReportIn, refused: list[RefusedReport]) -> None:
        held = batch.attempts[said.attempt]
        target = self._target(held)
        if said.goes_on and said.component in target.images and target.independent:
            self._note_part_alone(batch, held, said)
            return
        state, reason = said.state, said.reason
        if state is State.CONFIRMED and (bad := worst(held.row["parts"])) is not None:
            # The others are confirmed, but one was given up: the attempt is as good as its worst.
            state, reason = State.FAILED, bad[1]
        report = core.Report(
            state=state,
            boots=said.boots,
            seq=said.seq,
            try_number=said.try_number,
            reason=reason,
            step=said.step,
            percent=said.percent,
            rate=said.rate,
            other_live=any(other.attempt.live and other is not held for other in batch.of_device.get(device_id, [])),
        )
        before = held.attempt
        outcome = core.advance(before, report, batch.now)
        if isinstance(outcome, Refusal):
            refused.append(RefusedReport(seq=said.seq, kind=outcome.kind, detail=outcome.detail))
            return
        if outcome.effect is Effect.REPEATED and outcome.attempt == before:
            return
        self._change(batch, held, outcome.attempt)
        self._note_part_word(batch, held, said)
        # Percent alone goes to the attempt and the feed; the timeline keeps what tells a story.
        if outcome.effect is not Effect.UPDATED or said.step != before.step or said.detail or said.tests:
            batch.timeline.append(
                {
                    "attempt_id": said.attempt,
                    "at": batch.now,
                    "said_by": "device",
                    "what": "report" if outcome.effect is not Effect.NOTED else "late word",
                    "try_number": said.try_number,
                    "state": said.state,
                    "reason": said.reason,
                    "step": said.step,
                    "percent": said.percent,
                    "detail": self._with_gateway(batch, device_id, said),
                    "component": said.component,
                    "tests": [test.model_dump() for test in said.tests],
                    "log": said.log,
                }
            )

    def _note_part_alone(self, batch: Batch, held: Held, said: ReportIn) -> None:
        """One component was given up and the device goes on with the others: a repeated word has no second effect."""
        order = (said.boots, said.seq)
        if held.attempt.last is not None and order <= held.attempt.last:
            return
        self._change(batch, held, replace(held.attempt, last=order))
        self._note_part_word(batch, held, said)
        batch.timeline.append(
            {
                "attempt_id": held.row["id"], "at": batch.now, "said_by": "device", "what": "component failed",
                "try_number": said.try_number, "state": None, "reason": said.reason, "component": said.component,
                "detail": said.detail, "log": said.log,
            }
        )  # fmt: skip

    def _note_part_word(self, batch: Batch, held: Held, said: ReportIn) -> None:
        images = self._target(held).images
        if len(images) > 1:
            running = batch.devices[held.row["device_id"]]["running"]
            before = held.row["parts"] or at_first(images, running)
            word = PartWord(said.state, said.component, said.reason, said.detail)
            held.keep_parts(after_word(before, word))

    def _with_gateway(self, batch: Batch, device_id: int, said: ReportIn) -> str:
        """A device's words; where the way to us failed it while its gateway was being updated, that is said too."""
        if said.reason not in CUT_OFF:
            return said.detail
        away = [f.gateway for f in batch.families.get(device_id, []) if f.gateway_id in f.at_risk - {device_id}]
        return f"while its gateway {away[0]} was being updated: {said.detail}" if away else said.detail

    def _change(self, batch: Batch, held: Held, changed: Attempt) -> None:
        if changed == held.attempt:
            return
        before, held.attempt, held.changed = held.attempt, changed, True
        held.moved |= (before.state, before.try_number) != (changed.state, changed.try_number)
        if before.state is not changed.state:
            used = batch.used.get(held.row["rollout_id"])
            if used is not None:
                used.note(before.state, changed.state)
            for family in batch.families.get(held.row["device_id"], []):
                family.note(held.row["device_id"], changed)

    def _order(self, batch: Batch, device: dict[str, Any], call: Call) -> OrderOut:
        interval = self._interval(device)
        held = batch.current(call.device_id)
        log_asked = device["log_until"] is not None and device["log_until"] > batch.now
        if held is None:
            return OrderOut(next_checkin_s=interval, log=log_asked)
        target = self._target(held)
        word = self._word(batch, device, call.checkin, held)
        before = held.attempt
        found = answer(before, batch.states[held.row["rollout_id"]], word, batch.now, batch.numbers)
        self._change(batch, held, found.attempt)
        self._note_service_words(batch, held, before, found)
        if before.exposed_at is None and held.attempt.exposed_at is not None and call.checkin is not None:
            said = call.checkin
            held.keep_before({"readings": said.readings, "settings": said.settings_digest})
        if soaks(held.attempt, batch.now):
            # Often enough to be heard within its soak; a long soak needs no more calls than usual.
            interval = max(SOONEST_CHECKIN_S, min(interval, int(held.attempt.soak.total_seconds()) // 2))
        if held.attempt.live:
            interval = max(SOONEST_CHECKIN_S, interval // 4)
        if call.checkin is not None:
            batch.pulses[device["id"]]["next_s"] = interval
        plan = target.plan
        log_asked = log_asked or (plan.log and held.attempt.live)
        if found.order is None:
            return OrderOut(next_checkin_s=interval, log=log_asked)
        order = OrderOut(
            order=found.order,
            attempt=held.row["id"],
            try_number=found.attempt.try_number,
            manifest=target.manifest,
            trial_s=int(plan.trial_for.total_seconds()),
            next_checkin_s=interval,
            urgent=plan.needs.urgent,
            owner=OwnerWord(
                may_postpone=plan.owner.may_postpone, postpone_by_s=int(plan.owner.postpone_by.total_seconds()),
                must_consent=plan.owner.must_consent, message=plan.owner.message, contact=plan.owner.contact,
            ),
            log=log_asked,
        )  # fmt: skip
        if found.order in (Order.SWITCH, Order.SWITCH_BACK):
            left = (found.attempt.clearance_until or batch.now) - batch.now
            order.clearance = Clearance(number=found.attempt.clearance or 0, seconds=int(left.total_seconds()))
        return order

    def _note_service_words(self, batch: Batch, held: Held, before: Attempt, found: Answer) -> None:
        attempt = before
        for event in found.events:
            outcome = core.advance(attempt, event, batch.now)
            if isinstance(outcome, Refusal) or outcome.effect is not Effect.MOVED:
                continue
            attempt = outcome.attempt
            detail = f"clearance {attempt.clearance}" if attempt.state is State.CLEARED else ""
            word = word_of_service(held.row["id"], attempt, batch.now, detail)
            batch.timeline.append(word | {"what": "order"} if attempt.state in ORDERED else word)

    async def _write(self, connection: AsyncConnection, batch: Batch) -> None:
        changed = [held for held in batch.attempts.values() if held.changed]
        rows = [
            attempts.from_attempt(h.row["id"], h.attempt, batch.now)
            | {"parts": h.row["parts"], "before": h.row["before"], "cluster": self._cluster(batch, h)}
            for h in changed
        ]
        await attempts.save_attempts(connection, rows)
        await attempts.add_to_timeline(connection, batch.timeline)
        await fleet.update_devices(connection, list(batch.changed_devices.values()))
        await fleet.write_pulses(connection, list(batch.pulses.values()))
        await history.add_events(connection, batch.history)
        for device, detail in batch.cloned:
            entry = JournalEntry(batch.now, "service", "two devices use one token", device["serial"], detail)
            await write_journal(connection, entry)
        await fleet.touch_pulses(connection, list(batch.touched - batch.pulses.keys()), batch.now)
        events = [self._event(batch, held) for held in changed]
        events += [
            FeedEvent(
                batch.now, "device", device_id=row["id"], data={"serial": row["serial"], "version": row["version"]}
            )
            for row in batch.changed_devices.values()
        ]
        await publish(connection, events)

    def _cluster(self, batch: Batch, held: Held) -> str | None:
        """The common cause by which a device goes bad just now: all that lose power at one site in one hour have one
        vote with the brake."""
        if held.attempt.harmed_at != batch.now or held.attempt.harmed_why != core.UNSAID:
            return None
        site = held.row["facts"].get("site")
        return None if site is None else f"power-lost {site} {batch.now:%Y-%m-%dT%H}"

    def _event(self, batch: Batch, held: Held) -> FeedEvent:
        attempt, row = held.attempt, held.row
        data = {
            "serial": batch.devices[row["device_id"]]["serial"],
            "ring": row["ring"],
            "state": attempt.state,
            "reason": attempt.reason,
            "step": attempt.step,
            "percent": attempt.percent,
            "try": attempt.try_number,
            "live": attempt.live,
            "moved": held.moved,
        }
        return FeedEvent(batch.now, "attempt", row["rollout_id"], row["device_id"], row["id"], data)

    def _remember(self, batch: Batch, call: Call, said: OrderOut) -> None:
        held = batch.current(call.device_id)
        assert call.checkin is not None
        quiet = said.order is None and not said.log and call.device_id not in batch.odd
        # What is new in a soak shows in what the memory compares, but for readings.
        watched = held is not None and soaks(held.attempt, batch.now) and self._target(held).plan.brake.readings
        if quiet and (held is None or not (held.attempt.live or watched)):
            interval = self._interval(batch.devices[call.device_id])
            self._context.memory.remember(call.device_id, call.checkin, interval, call.epoch)
        else:
            self._context.memory.forget(call.device_id)
