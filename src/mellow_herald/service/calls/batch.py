"""What the intake works on: calls, and the attempts they concern."""

import asyncio
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from mellow_herald.core.alarms import UpdateTime
from mellow_herald.core.attempt import Attempt, State
from mellow_herald.core.leave import Family, Used
from mellow_herald.core.rollout import RolloutState
from mellow_herald.service.calls.glance import Glance
from mellow_herald.service.calls.harm import Allowed
from mellow_herald.service.calls.reported import Reported
from mellow_herald.store.rows import StoredAttempt, StoredDevice, StoredPulse
from mellow_herald.wire.device import CheckinIn, OrderOut


@dataclass(slots=True)
class Call:
    """One device's call, waiting for its answer: a check-in, with what was ``seen`` of it at a glance, or reports. An
    ``old`` one was said before something that is known already, late on its way or by another unit."""

    device_id: int
    checkin: CheckinIn | None
    seen: Glance | None
    reported: Reported
    epoch: int
    done: "asyncio.Future[OrderOut]"
    old: bool = False


@dataclass(slots=True)
class Tracked:
    """An attempt while a batch works on it."""

    row: StoredAttempt
    attempt: Attempt
    changed: bool = False
    moved: bool = False

    def keep_before(self, before: dict[str, Any]) -> None:
        """Takes over what is kept of the device from before the switch."""
        if before != self.row["before"]:
            self.row["before"], self.changed = before, True

    def renew_came_from(self, device: StoredDevice) -> None:
        """What the device says it runs is what it comes from, from now on."""
        self.row["from_version"], self.row["from_digest"] = device["version"], device["digest"]
        if self.row["came_from"]:
            self.row["came_from"] = device["running"]
        self.changed = True

    def keep_parts(self, parts: dict[str, dict[str, Any]]) -> None:
        """Takes over how the components stand."""
        if parts != self.row["parts"]:
            self.row["parts"], self.changed = parts, True


@dataclass(slots=True)
class Batch:
    """Everything one transaction reads and writes. ``named`` has the version of bytes that a device had not run before,
    where a release has them, by digest; ``updates`` when the devices that alarms are about were on their way to new
    firmware, by serial; ``unstaged`` how many of a rollout's ring have not staged yet, where its plan
    switches nobody before."""

    now: datetime
    devices: dict[int, StoredDevice]
    attempts: dict[int, Tracked]
    states: dict[int, RolloutState]
    numbers: Iterator[int]
    changed_devices: dict[int, StoredDevice] = field(default_factory=dict)
    pulses: dict[int, StoredPulse] = field(default_factory=dict)
    touched: set[int] = field(default_factory=set)
    timeline: list[dict[str, Any]] = field(default_factory=list)
    last_pulses: dict[int, StoredPulse] = field(default_factory=dict)
    history: list[dict[str, Any]] = field(default_factory=list)
    cloned: list[tuple[StoredDevice, str]] = field(default_factory=list)
    of_device: dict[int, list[Tracked]] = field(default_factory=dict)
    used: dict[int, Used] = field(default_factory=dict)
    harm: dict[int, Allowed] = field(default_factory=dict)
    families: dict[int, list[Family]] = field(default_factory=dict)
    named: dict[str, str] = field(default_factory=dict)
    alarms: list[dict[str, Any]] = field(default_factory=list)
    updates: dict[str, list[UpdateTime]] = field(default_factory=dict)
    unstaged: dict[tuple[int, int], int] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for tracked in self.attempts.values():
            self.of_device.setdefault(tracked.row["device_id"], []).append(tracked)

    def change(self, tracked: Tracked, changed: Attempt) -> None:
        """Takes over what became of an attempt, and what that does to its pace and its family."""
        if changed == tracked.attempt:
            return
        before, tracked.attempt, tracked.changed = tracked.attempt, changed, True
        tracked.moved |= (before.state, before.try_number) != (changed.state, changed.try_number)
        allowed = self.harm.get(tracked.row["rollout_id"])
        if allowed is not None:
            allowed.note(tracked.row, before, changed)
        if before.state is not changed.state:
            used = self.used.get(tracked.row["rollout_id"])
            if used is not None:
                used.note(before.state, changed.state)
            for family in self.families.get(tracked.row["device_id"], []):
                family.note(tracked.row["device_id"], changed)

    def current(self, device_id: int) -> Tracked | None:
        """The device's live attempt, or else its newest."""
        own = self.of_device.get(device_id, [])
        live = [tracked for tracked in own if tracked.attempt.live]
        return max(live or own, key=lambda tracked: tracked.row["id"], default=None)


def soaks(attempt: Attempt, now: datetime) -> bool:
    """Whether a confirmed device is still watched."""
    soaking = attempt.state is State.CONFIRMED and not attempt.closed
    return soaking and attempt.soak_until is not None and now <= attempt.soak_until
