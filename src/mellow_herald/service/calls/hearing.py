"""What devices say in their calls, applied to the attempts and to what is known of the devices."""

from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any

from mellow_herald.core import attempt as core
from mellow_herald.core.attempt import Effect, Refusal, Runs, Shown, State
from mellow_herald.core.firmware import APP
from mellow_herald.core.history import (
    Happening,
    LastHeard,
    Odd,
    Standing,
    happenings,
    is_odd,
    odd_after,
)
from mellow_herald.core.order import NAMES_IMAGES
from mellow_herald.core.parts import Parts, PartTold, PartWord, after_check_in, after_word, at_first, worst
from mellow_herald.core.plan import Plan
from mellow_herald.core.relapse import Quiet, relapse
from mellow_herald.core.version import version_key
from mellow_herald.service.calls.alarms import note_alarms
from mellow_herald.service.calls.batch import Batch, Tracked
from mellow_herald.service.calls.memory import Memory
from mellow_herald.service.calls.targets import Targets
from mellow_herald.service.rollouts.ending import word_of_service
from mellow_herald.store.rows import StoredDevice, StoredPulse
from mellow_herald.wire.device import CheckinIn, Content, ReportIn

MARKING = frozenset({Happening.CLONED, Happening.RESCUED, Happening.BACK})
# What may well be the gateway's doing rather than the device's.
CUT_OFF = frozenset({"no-contact", "download-broken"})
# How the service tells, on a timeline, what a check-in showed.
SEEN = {
    Runs.TARGET: "its check-in shows that it runs the target",
    Runs.PARTLY: "its check-in shows that it runs but a part of the target",
    Runs.FORMER: "its check-in shows that it runs what it ran before",
    Runs.RECOVERY: "its check-in shows that it runs its recovery image",
    Runs.OTHER: "its check-in shows an image that it neither came from nor was to run",
}
WITHOUT_A_WORD = "it restarted and runs what it ran before, without a word of its own"


class Hearing:
    """Takes in check-ins and reports. Nothing here decides what a device is to do next."""

    def __init__(self, targets: Targets, memory: Memory) -> None:
        self._targets, self._memory = targets, memory

    def note_checkin(self, batch: Batch, device: StoredDevice, checkin: CheckinIn) -> bool:
        """Notes what a device runs, how it stands and what happened to it, unless it is an old word or another
        unit's; tells whether it was noted."""
        app = checkin.running.get("app")
        last = batch.last_pulses.get(device["id"])
        odd = self._note_history(batch, device, last, checkin)
        if odd is not None:
            # Not this unit's word, or an old one: what is known of the device stays.
            before = batch.pulses.get(device["id"]) or last
            assert before is not None, "odd is what is older than a call before"
            batch.pulses[device["id"]] = {**before, "odd": _plain(odd)}
            batch.last_pulses[device["id"]] = batch.pulses[device["id"]]
            return False
        tracked = batch.current(device["id"])
        if (
            tracked is not None
            and tracked.attempt.last is not None
            and (checkin.boots, checkin.seq) < tracked.attempt.last
        ):
            # Overtaken on its way by a report of what the device did since.
            batch.touched.add(device["id"])
            return False
        version = _version_of(batch, device, app)
        versions = {name: content.version for name, content in checkin.running.items()} | {APP: version}
        word = {
            "running": {name: content.model_dump() for name, content in checkin.running.items()},
            "standby": {name: content.model_dump() for name, content in checkin.standby.items()},
            "version": version,
            "version_key": version_key(version) if version else None,
            "version_keys": {n: version_key(v).hex() for n, v in versions.items() if v},
            "digest": app.digest if app else None,
            "floor": app.floor if app else None,
            "updater": checkin.updater,
            "settings_digest": checkin.settings_digest,
            "parts": device["parts"] if checkin.parts is None else f",{','.join(checkin.parts)},",
        }
        said = StoredDevice(**{**device, **word})  # type: ignore[typeddict-item]
        if said != device or not device["token_used"]:
            device.update({**said, "token_used": True, "changed_at": batch.now})
            batch.changed_devices[device["id"]] = device
        batch.pulses[device["id"]] = {
            "device_id": device["id"],
            "seen_at": batch.now,
            "boots": checkin.boots,
            "seq": checkin.seq,
            "interval_s": self._memory.interval_of(device),
            "next_s": self._memory.interval_of(device),
            "condition": checkin.condition.model_dump(exclude_none=True),
            "readings": checkin.readings,
            "odd": None,
        }
        batch.last_pulses[device["id"]] = batch.pulses[device["id"]]
        note_alarms(batch, device, checkin)
        if device["cloned_at"] is not None:
            return True  # whose word it is, nobody knows: it moves nothing
        self._settle(batch, device, checkin)
        self._note_parts(batch, device)
        self._note_soak(batch, device, last, checkin)
        return True

    def _note_history(
        self, batch: Batch, device: StoredDevice, last: StoredPulse | None, checkin: CheckinIn
    ) -> Odd | None:
        """Writes down what the check-in shows of the device's past; for one that is older than what is known, returns
        what the pulse is to remember of it."""
        app = checkin.running.get("app")
        heard = Standing(
            checkin.boots,
            checkin.seq,
            app.digest if app else None,
            app.version if app else None,
            app.slot if app else "",
            checkin.settings_digest,
        )
        known = self._last_heard(batch, device, last)
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
        return odd_after(known, heard, batch.now) if is_odd(known, heard) else None

    def _settle(self, batch: Batch, device: StoredDevice, checkin: CheckinIn) -> None:
        """What the device runs decides where its attempt stands."""
        tracked = batch.current(device["id"])
        if tracked is None:
            return
        shown = self._shown(
            batch, tracked, device, on_trial(checkin, self._targets.of(tracked).plan), checkin.boots, checkin.seq
        )
        before = tracked.attempt
        outcome = core.advance(before, shown, batch.now)
        if isinstance(outcome, Refusal):
            return
        batch.change(tracked, outcome.attempt)
        if outcome.effect in (Effect.MOVED, Effect.UPDATED):
            detail = SEEN[shown.runs]
            if outcome.attempt.state is State.REVERTED and outcome.attempt.reason == core.UNSAID:
                detail = WITHOUT_A_WORD
            batch.timeline.append(word_of_service(tracked.row["id"], outcome.attempt, batch.now, detail))
        if outcome.attempt.state is State.CONFIRMED and before.state is not State.CONFIRMED:
            tracked.keep_before({**tracked.row["before"], "confirmed_boot": checkin.boots})
        says = (device["running"].get(APP) or {}).get("version")
        differs = says is not None and says != device["version"]  # who says nothing says nothing wrong
        if shown.runs is Runs.TARGET and differs and "says_version" not in tracked.row["before"]:
            tracked.keep_before({**tracked.row["before"], "says_version": says})
            detail = f"version-differs: it says it is {says}; these bytes are {device['version']}"
            batch.timeline.append(word_of_service(tracked.row["id"], outcome.attempt, batch.now, detail))
        unknown = tracked.row["from_digest"] is None and not before.exposed and shown.runs is Runs.FORMER
        if unknown or (shown.runs is Runs.OTHER and before.exposed and before.state is not State.CONFIRMED):
            tracked.renew_came_from(device)

    def _shown(
        self, batch: Batch, tracked: Tracked, device: StoredDevice, trial: bool | None, boots: int, seq: int
    ) -> Shown:
        target = self._targets.of(tracked)
        runs = target.runs(tracked.row, device, self._memory.in_place.get(device["board"], frozenset()))
        given_up = worst(tracked.row["parts"]) if target.without else None
        return Shown(
            runs,
            boots,
            seq,
            trial,
            back=target.back,
            again=target.again(tracked.row),
            given_up=None if given_up is None else given_up[1],
        )

    def _note_parts(self, batch: Batch, device: StoredDevice) -> None:
        """What a device runs and has standing by shows how its components stand."""
        tracked = batch.current(device["id"])
        if tracked is None or tracked.attempt.closed or tracked.attempt.state in (State.QUEUED, State.CALLED_OFF):
            return
        images = self._targets.of(tracked).all_images
        if images.keys() != {APP}:
            before = tracked.row["parts"] or at_first(images, device["running"])
            running, standby = device["running"], device["standby"]
            tracked.keep_parts(after_check_in(before, images, running, standby, tracked.attempt.state))

    def _note_soak(self, batch: Batch, device: StoredDevice, last: StoredPulse | None, checkin: CheckinIn) -> None:
        """What a check-in shows of a device that confirmed: its settings as they are now, and whether it goes bad."""
        tracked = batch.current(device["id"])
        if tracked is None or tracked.attempt.state is not State.CONFIRMED or tracked.attempt.closed:
            return
        if checkin.settings_digest is not None and "settings_after" not in tracked.row["before"]:
            tracked.keep_before({**tracked.row["before"], "settings_after": checkin.settings_digest})
        target = self._targets.of(tracked)
        boot = tracked.row["before"].get("confirmed_boot")
        if boot is None:
            boot = tracked.attempt.last[0] if tracked.attempt.last else checkin.boots
            tracked.keep_before({**tracked.row["before"], "confirmed_boot": boot})
        known = Quiet(
            boot,
            tracked.row["before"].get("readings", {}),
            [*([] if last is None else [last["readings"]]), checkin.readings],
        )
        found = relapse(known, checkin.boots, target.plan.brake.readings)
        if found is None:
            return
        outcome = core.advance(tracked.attempt, core.Relapse(found[0]), batch.now)
        if isinstance(outcome, Refusal) or outcome.effect is not Effect.MOVED:
            return
        batch.change(tracked, outcome.attempt)
        batch.timeline.append(word_of_service(tracked.row["id"], outcome.attempt, batch.now, found[1]))

    def _last_heard(self, batch: Batch, device: StoredDevice, last: StoredPulse | None) -> LastHeard:
        if last is None:
            return LastHeard(None, None)
        tracked = batch.current(device["id"])
        running = device["running"].get("app") or {}
        standing = Standing(
            last["boots"],
            last["seq"],
            device["digest"],
            device["version"],
            running.get("slot", ""),
            device["settings_digest"],
        )
        known = LastHeard(standing, last["seen_at"], odd=_odd_of(last), interval=timedelta(seconds=last["interval_s"]))
        if tracked is None:
            return known
        wanted = self._targets.of(tracked).images.get("app", frozenset())
        lost = tracked.attempt.state is State.SILENT
        return replace(known, lost=lost, from_digest=tracked.row["from_digest"], wanted=wanted)

    def note_report(self, batch: Batch, device_id: int, checkin: ReportIn) -> Refusal | None:
        """Notes one report of an attempt that is the device's own; returns why, if that cannot be."""
        tracked = batch.attempts[checkin.attempt]
        target = self._targets.of(tracked)
        if checkin.goes_on and checkin.component in target.images and target.independent:
            self._note_part_alone(batch, tracked, checkin)
            return None
        state, reason = checkin.state, checkin.reason
        if state is State.CONFIRMED and (bad := worst(tracked.row["parts"])) is not None:
            # The others are confirmed, but one was given up: the attempt is as good as its worst.
            state, reason = State.FAILED, bad[1]
        device = batch.devices[device_id]
        report = core.Report(
            state=state,
            boots=checkin.boots,
            seq=checkin.seq,
            try_number=checkin.try_number,
            reason=reason,
            step=checkin.step,
            percent=checkin.percent,
            rate=checkin.rate,
            other_live=any(other.attempt.live and other is not tracked for other in batch.of_device.get(device_id, [])),
            names=target.runs_named(tracked.row, checkin.digests),
            shown=self._shown_since(batch, tracked, device, checkin),
            back=target.back,
            counts=device["cloned_at"] is None,
            clearance=checkin.clearance,
        )
        before = tracked.attempt
        outcome = core.advance(before, report, batch.now)
        if isinstance(outcome, Refusal):
            return outcome
        if outcome.effect is Effect.REPEATED and outcome.attempt == before:
            return None
        batch.change(tracked, outcome.attempt)
        tracked_before = tracked.row["parts"]
        self._note_part_word(batch, tracked, checkin)
        self._tell_parts(batch, tracked, checkin, tracked_before)
        # Percent alone goes to the attempt and the feed; the timeline keeps what tells a story.
        tells = checkin.step != before.step or checkin.detail or checkin.tests or checkin.log
        if outcome.effect is not Effect.UPDATED or tells or outcome.attempt.reason != before.reason:
            batch.timeline.append(
                {
                    "attempt_id": checkin.attempt,
                    "at": batch.now,
                    "said_by": "device",
                    "what": "report" if outcome.effect is not Effect.NOTED else "late word",
                    "try_number": checkin.try_number,
                    "state": checkin.state,
                    "reason": checkin.reason,
                    "step": checkin.step,
                    "percent": checkin.percent,
                    "detail": self._with_gateway(batch, device_id, checkin),
                    "component": checkin.component,
                    "tests": [test.model_dump() for test in checkin.tests],
                    "log": checkin.log,
                }
            )
        if outcome.effect is Effect.MOVED and outcome.attempt.state is not checkin.state:
            # What it said and what that amounts to are not the same here: both are to be read.
            batch.timeline.append(word_of_service(checkin.attempt, outcome.attempt, batch.now, _why(report)))
        return None

    def _shown_since(self, batch: Batch, tracked: Tracked, device: StoredDevice, checkin: ReportIn) -> Shown | None:
        """What the newest check-in showed, if the report was made before it."""
        pulse = batch.last_pulses.get(device["id"])
        if pulse is None or (checkin.boots, checkin.seq) >= (pulse["boots"], pulse["seq"]):
            return None
        shown = self._shown(batch, tracked, device, None, pulse["boots"], pulse["seq"])
        # Where it does not know itself what it runs, its own older word is the best there is.
        return None if shown.runs is Runs.UNREADABLE else shown

    def _note_part_alone(self, batch: Batch, tracked: Tracked, checkin: ReportIn) -> None:
        """One component was given up and the device goes on with the others: a repeated word has no second effect."""
        order = (checkin.boots, checkin.seq)
        if tracked.attempt.last is not None and order <= tracked.attempt.last:
            return
        batch.change(tracked, replace(tracked.attempt, last=order))
        self._note_part_word(batch, tracked, checkin)
        batch.timeline.append(
            {
                "attempt_id": tracked.row["id"],
                "at": batch.now,
                "said_by": "device",
                "what": "component failed",
                "try_number": checkin.try_number,
                "state": None,
                "reason": checkin.reason,
                "component": checkin.component,
                "detail": checkin.detail,
                "log": checkin.log,
            }
        )

    def _note_part_word(self, batch: Batch, tracked: Tracked, checkin: ReportIn) -> None:
        images = self._targets.of(tracked).all_images
        if images.keys() != {APP}:
            running = batch.devices[tracked.row["device_id"]]["running"]
            before = tracked.row["parts"] or at_first(images, running)
            told = {n: PartTold(p.state, p.reason, p.percent, p.detail) for n, p in checkin.parts.items()}
            state, reason, detail = checkin.state, checkin.reason, checkin.detail
            word = PartWord(state, checkin.component, reason, detail, checkin.percent, checkin.goes_on, told)
            tracked.keep_parts(after_word(before, word))

    def _tell_parts(self, batch: Batch, tracked: Tracked, checkin: ReportIn, before: Parts) -> None:
        """What a report tells of single components goes on the timeline as theirs, with their own log."""
        for name, part in checkin.parts.items():
            same = before.get(name, {}).get("state") == part.state and not part.log
            if name not in tracked.row["parts"] or same:
                continue
            batch.timeline.append(
                {
                    "attempt_id": tracked.row["id"],
                    "at": batch.now,
                    "said_by": "device",
                    "what": "component",
                    "try_number": checkin.try_number,
                    "state": part.state,
                    "reason": part.reason,
                    "percent": part.percent,
                    "detail": part.detail,
                    "component": name,
                    "log": part.log,
                }
            )

    def _with_gateway(self, batch: Batch, device_id: int, checkin: ReportIn) -> str:
        """A device's words; where the way to us failed it while its gateway was being updated, that is said too."""
        if checkin.reason not in CUT_OFF:
            return checkin.detail
        away = [f.gateway for f in batch.families.get(device_id, []) if f.gateway_id in f.at_risk - {device_id}]
        return f"while its gateway {away[0]} was being updated: {checkin.detail}" if away else checkin.detail


def on_trial(checkin: CheckinIn, plan: Plan) -> bool | None:
    """Whether what runs is on trial; None where a device of updater 1 does not say. It is over once the device could
    switch again and has been up for longer than a trial may take."""
    if checkin.updater >= NAMES_IMAGES:
        return checkin.trial
    return False if checkin.ready and checkin.uptime_s > plan.trial_for.total_seconds() else None


def _why(report: core.Report) -> str:
    if report.shown is not None:
        return f"told late: {SEEN[report.shown.runs]}"
    if report.state is State.CONFIRMED and report.names is None:
        return "it does not name what it vouches for: a check-in has to show it"
    return "it vouches for another image than the target" if report.names is not Runs.TARGET else ""


def _plain(odd: Odd) -> dict[str, Any]:
    return {"said": list(odd.heard), "known": list(odd.last_heard), "at": odd.at.isoformat()}


def _odd_of(pulse: StoredPulse) -> Odd | None:
    odd = pulse["odd"]
    if odd is None:
        return None
    return Odd(tuple(odd["said"]), tuple(odd["known"]), datetime.fromisoformat(odd["at"]))


def _version_of(batch: Batch, device: StoredDevice, app: Content | None) -> str | None:
    """The version that a device runs: that of its bytes, where a release has them, or else what it says."""
    if app is None:
        return None
    if app.digest in batch.named:
        return batch.named[app.digest]
    said = (device["running"].get(APP) or {}).get("version")
    named_before = app.digest == device["digest"] and device["version"] != said
    return device["version"] if named_before else app.version
