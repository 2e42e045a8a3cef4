"""The service's own intake for one device, over a store in memory: what it decides is real, only PostgreSQL is not."""

import asyncio
from collections.abc import Iterator
from copy import deepcopy
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from itertools import count, pairwise
from types import SimpleNamespace
from typing import Any

from mellow_herald.core.attempt import (
    BEFORE_SWITCH,
    Attempt,
    CallOff,
    Close,
    Effect,
    EndTries,
    Event,
    OneMore,
    Refusal,
    Resume,
    RolledBack,
    Silence,
    State,
    advance,
)
from mellow_herald.core.plan import Plan
from mellow_herald.core.rollback import Former, Left, Way, way_back
from mellow_herald.core.rollout import RolloutState
from mellow_herald.service.calls.batch import Batch, Call, Tracked
from mellow_herald.service.calls.intake import Intake
from mellow_herald.service.calls.memory import Intervals, Memory
from mellow_herald.service.calls.reported import Reported
from mellow_herald.service.calls.targets import Release, Target, came_from, digests_of
from mellow_herald.service.rollouts.rollbacks import _standing_by
from mellow_herald.wire.device import CheckinIn, OrderOut, ReportIn
from tests.harness.firmware import BOARD

T0 = datetime(2026, 6, 1, 12, tzinfo=UTC)
INTERVAL_S = 300
Digests = dict[str, frozenset[str]]


@dataclass
class Stored:
    """A rollout: what it brings, and whether it brings devices back."""

    id: int
    images: Digests
    back: bool
    state: RolloutState = RolloutState.RUNNING


@dataclass
class Desk:
    """``checkin`` and ``reports`` are what a call does; the rest is what people and the conductor do."""

    loop: asyncio.AbstractEventLoop
    plan: Plan
    in_place: frozenset[str] = frozenset()
    tries: int = 1
    rollouts: dict[int, Stored] = field(default_factory=dict)
    attempts: dict[int, dict[str, Any]] = field(default_factory=dict)
    timeline: list[dict[str, Any]] = field(default_factory=list)
    history: list[dict[str, Any]] = field(default_factory=list)
    pulses: dict[int, dict[str, Any]] = field(default_factory=dict)
    numbers: Iterator[int] = field(default_factory=lambda: count(1))

    def __post_init__(self) -> None:
        memory = Memory()
        memory.intervals[BOARD] = Intervals(INTERVAL_S)
        memory.in_place[BOARD] = self.in_place
        self.intake = Intake(SimpleNamespace(memory=memory))  # type: ignore[arg-type]
        self.device: dict[str, Any] = {
            "id": 1,
            "serial": "TA-1",
            "board": BOARD,
            "labels": {},
            "admission": "admitted",
            "running": {},
            "standby": {},
            "version": None,
            "version_key": None,
            "version_keys": {},
            "digest": None,
            "floor": None,
            "updater": None,
            "settings_digest": None,
            "token_used": True,
            "rescued_at": None,
            "cloned_at": None,
            "log_until": None,
            "arriving": False,
            "radio_interval_s": None,
            "coap_lifetime_s": None,
        }

    @property
    def now(self) -> datetime:
        """Service time."""
        return T0 + timedelta(seconds=self.loop.time())

    # What devices say ----------------------------------------------------------------------------------------------

    def checkin(self, said: CheckinIn) -> OrderOut:
        """A check-in, as the intake answers it."""
        return self._call(said, [])

    def reports(self, said: list[ReportIn]) -> OrderOut:
        """Reports, as the intake answers them. Raises ``ProblemError`` for another's attempt."""
        return self._call(None, said)

    def _call(self, checkin: CheckinIn | None, reports: list[ReportIn]) -> OrderOut:
        call = Call(1, checkin, None, Reported.of(*reports), 0, asyncio.Future(loop=self.loop))
        held = {
            row["id"]: Tracked(deepcopy({k: v for k, v in row.items() if k != "attempt"}), row["attempt"])
            for row in self.attempts.values()
        }
        states = {one.id: one.state for one in self.rollouts.values()}
        batch = Batch(
            self.now, {1: deepcopy(self.device)}, held, states, self.numbers, last_pulses=deepcopy(self.pulses)
        )
        answer = self.intake._answer(batch, call)  # raises: then nothing is written
        for one in batch.attempts.values():
            self.attempts[one.row["id"]] = {**one.row, "attempt": one.attempt}
        self.device = batch.devices[1]
        self.timeline += batch.timeline
        self.history += batch.history
        for pulse in batch.pulses.values():
            known = self.pulses.get(1)
            if known is None or (pulse["boots"], pulse["seq"]) >= (known["boots"], known["seq"]):
                self.pulses[1] = {**pulse, "odd": pulse["odd"] or (known or {}).get("odd")}
        return answer

    # What people and the conductor do ------------------------------------------------------------------------------

    @property
    def current(self) -> dict[str, Any] | None:
        """The device's live attempt, or else its newest."""
        rows = list(self.attempts.values())
        live = [row for row in rows if row["attempt"].live]
        return (live or rows)[-1] if rows else None

    def begin(self, images: Digests) -> bool:
        """Starts a rollout for the device, if it is in none."""
        if self._busy() or not self.device["running"]:
            return False
        if all((self.device["running"].get(n) or {}).get("digest") in d for n, d in images.items()):
            return False  # passed over: already-running
        self._add(images, back=False)
        return True

    def roll_back(self, known: Digests) -> bool:
        """Brings the device back from its newest forward rollout; ``known`` are the images of the release it came
        from."""
        row = next((r for r in reversed(self.attempts.values()) if not self.rollouts[r["rollout_id"]].back), None)
        if row is None or self._busy() or self.rollouts[row["rollout_id"]].state is RolloutState.RUNNING:
            return False
        attempt: Attempt = row["attempt"]
        brings = self.rollouts[row["rollout_id"]].images
        images = {name: digest for name, digest in came_from(row).items() if digest is not None and name in brings}
        whole = all(digest in known.get(name, ()) for name, digest in images.items())
        switched = attempt.exposed and attempt.state is not State.CALLED_OFF
        left = Left(
            switched,
            images,
            digests_of(self.device["running"]),
            _standing_by(self.device["standby"]),
            self.device["floor"],
            Former(4) if whole else None,
        )
        way = way_back(left)
        if way is Way.ALREADY_BACK:
            self._apply(row, RolledBack())
        if way not in (Way.SWITCH_BACK, Way.REINSTALL):
            return False
        release_id = None
        if whole:
            release_id = 1
            self.intake._targets._releases[1] = Release("f" * 64, known)
        self._add({name: frozenset({digest}) for name, digest in images.items()}, back=True, release_id=release_id)
        return True

    def mark_rolled_back(self) -> None:
        """Marks in the first rollout that its device is back."""
        rows = list(self.attempts.values())
        for first, second in pairwise(rows):
            if self.rollouts[second["rollout_id"]].back and second["attempt"].state is State.CONFIRMED:
                self._apply(first, RolledBack())

    def halt(self) -> None:
        """Halts what runs."""
        for one in self.rollouts.values():
            if one.state in (RolloutState.RUNNING, RolloutState.HELD):
                one.state = RolloutState.HALTED
                for row in self._rows(one):
                    if row["attempt"].state in BEFORE_SWITCH:
                        self._apply(row, CallOff("halted"))
                    self._apply(row, EndTries())

    def hold(self) -> None:
        """Holds what runs."""
        for one in self.rollouts.values():
            if one.state is RolloutState.RUNNING:
                one.state = RolloutState.HELD

    def resume(self) -> None:
        """Goes on with the newest that is held or halted."""
        one = self._newest((RolloutState.HELD, RolloutState.HALTED))
        if one is None:
            return
        for row in self._rows(one):
            if one.state is RolloutState.HALTED and not any(r["attempt"].live for r in self.attempts.values()):
                self._apply(row, Resume())
        one.state = RolloutState.RUNNING

    def retry(self) -> None:
        """One more try for the device."""
        one = self._newest((RolloutState.RUNNING, RolloutState.HELD))
        if one is not None and not any(row["attempt"].live for row in self.attempts.values()):
            for row in self._rows(one):
                self._apply(row, OneMore())

    def finish(self) -> None:
        """Ends what has nothing at risk."""
        for one in self.rollouts.values():
            rows = self._rows(one)
            if one.state is not RolloutState.FINISHED and not any(row["attempt"].at_risk for row in rows):
                one.state = RolloutState.FINISHED
                for row in rows:
                    self._apply(row, Close())

    def fall_silent(self, answer_within: timedelta) -> None:
        """What the conductor says of one that has not called for so long."""
        if 1 in self.pulses and self.now - self.pulses[1]["seen_at"] > answer_within:
            for row in list(self.attempts.values()):
                self._apply(row, Silence())

    def enrol_again(self) -> None:
        """An engineer allowed it, and the device did: its boots are counted anew."""
        self.pulses.clear()
        self.device["cloned_at"] = None
        for row in self.attempts.values():
            row["attempt"] = replace(row["attempt"], last=None)

    def _busy(self) -> bool:
        running = (RolloutState.RUNNING, RolloutState.HELD)
        return any(row["attempt"].live for row in self.attempts.values()) or any(
            one.state in running for one in self.rollouts.values()
        )

    def _newest(self, states: tuple[RolloutState, ...]) -> Stored | None:
        return next((one for one in reversed(self.rollouts.values()) if one.state in states), None)

    def _rows(self, one: Stored) -> list[dict[str, Any]]:
        return [row for row in self.attempts.values() if row["rollout_id"] == one.id]

    def _add(self, images: Digests, *, back: bool, release_id: int | None = None) -> None:
        number = len(self.rollouts) + 1
        self.rollouts[number] = Stored(number, images, back)
        self.intake._targets._targets[number] = Target(1, self.plan, f"{number:064x}", images, False)
        several = back or set(images) != {"app"}
        self.attempts[number] = {
            "id": number,
            "rollout_id": number,
            "device_id": 1,
            "ring": 0,
            "facts": {},
            "parts": {},
            "before": {},
            "from_version": self.device["version"],
            "from_digest": self.device["digest"],
            "came_from": deepcopy(self.device["running"]) if several else {},
            "back_to": {name: next(iter(digests)) for name, digests in images.items()} if back else None,
            "back_release_id": release_id,
            "release_id": None,
            "attempt": Attempt(tries=self.tries, soak=timedelta(hours=2), retry_pause=timedelta(minutes=5)),
        }

    def _apply(self, row: dict[str, Any], event: Event) -> None:
        outcome = advance(row["attempt"], event, self.now)
        if not isinstance(outcome, Refusal) and outcome.effect is not Effect.REPEATED:
            row["attempt"] = outcome.attempt
