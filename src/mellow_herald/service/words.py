"""What devices say in their calls, applied to the attempts and to what is known of the devices."""

from dataclasses import replace
from typing import Any

from mellow_herald.core import attempt as core
from mellow_herald.core.attempt import Effect, Refusal, State
from mellow_herald.core.history import Happening, Known, Standing, happenings, is_odd
from mellow_herald.core.parts import PartWord, after_check_in, after_word, at_first, worst
from mellow_herald.core.relapse import Quiet, relapse
from mellow_herald.core.version import version_key
from mellow_herald.service.batch import Batch, Held
from mellow_herald.service.ending import word_of_service
from mellow_herald.service.memory import Memory
from mellow_herald.service.targets import Targets
from mellow_herald.wire.device import CheckinIn, RefusedReport, ReportIn

MARKING = frozenset({Happening.CLONED, Happening.RESCUED, Happening.BACK})
# What may well be the gateway's doing rather than the device's.
CUT_OFF = frozenset({"no-contact", "download-broken"})


class Words:
    """Takes in check-ins and reports. Nothing here decides what a device is to do next."""

    def __init__(self, targets: Targets, memory: Memory) -> None:
        self._targets, self._memory = targets, memory

    def note_checkin(self, batch: Batch, device: dict[str, Any], said: CheckinIn) -> None:
        """Notes what a device runs, how it stands and what happened to it, unless it is an old word or another
        unit's."""
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
            "interval_s": self._memory.interval_of(device),
            "next_s": self._memory.interval_of(device),
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
        images = self._targets.of(held).images
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
        target = self._targets.of(held)
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
        batch.change(held, outcome.attempt)
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
        wanted = self._targets.of(held).digests
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
        batch.change(held, outcome.attempt)
        detail = "it restarted and runs what it ran before, without a word of its own"
        batch.timeline.append(word_of_service(held.row["id"], outcome.attempt, batch.now, detail))

    def note_report(self, batch: Batch, device_id: int, said: ReportIn, refused: list[RefusedReport]) -> None:
        """Notes one report of an attempt that is the device's own; what cannot be goes to ``refused``."""
        held = batch.attempts[said.attempt]
        target = self._targets.of(held)
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
        batch.change(held, outcome.attempt)
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
        batch.change(held, replace(held.attempt, last=order))
        self._note_part_word(batch, held, said)
        batch.timeline.append(
            {
                "attempt_id": held.row["id"], "at": batch.now, "said_by": "device", "what": "component failed",
                "try_number": said.try_number, "state": None, "reason": said.reason, "component": said.component,
                "detail": said.detail, "log": said.log,
            }
        )  # fmt: skip

    def _note_part_word(self, batch: Batch, held: Held, said: ReportIn) -> None:
        images = self._targets.of(held).images
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
