"""What the intake works on: calls, and the attempts they concern."""

import asyncio
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from mellow_herald.core.attempt import Attempt, State
from mellow_herald.core.rollout import RolloutState
from mellow_herald.service.surroundings import Family, Used
from mellow_herald.wire.device import CheckinIn, OrderOut, ReportIn


@dataclass(slots=True)
class Call:
    """One device's call, waiting for its answer: a check-in, or reports."""

    device_id: int
    checkin: CheckinIn | None
    reports: list[ReportIn]
    epoch: int
    done: "asyncio.Future[OrderOut]"


@dataclass(slots=True)
class Held:
    """An attempt while a batch works on it."""

    row: dict[str, Any]
    attempt: Attempt
    changed: bool = False
    moved: bool = False

    def keep_before(self, before: dict[str, Any]) -> None:
        """Takes over what is kept of the device from before the switch."""
        if before != self.row["before"]:
            self.row["before"], self.changed = before, True

    def keep_parts(self, parts: dict[str, dict[str, Any]]) -> None:
        """Takes over how the components stand."""
        if parts != self.row["parts"]:
            self.row["parts"], self.changed = parts, True


@dataclass(slots=True)
class Batch:
    """Everything one transaction reads and writes."""

    now: datetime
    devices: dict[int, dict[str, Any]]
    attempts: dict[int, Held]
    states: dict[int, RolloutState]
    numbers: Iterator[int]
    changed_devices: dict[int, dict[str, Any]] = field(default_factory=dict)
    pulses: dict[int, dict[str, Any]] = field(default_factory=dict)
    touched: set[int] = field(default_factory=set)
    timeline: list[dict[str, Any]] = field(default_factory=list)
    last_pulses: dict[int, dict[str, Any]] = field(default_factory=dict)
    history: list[dict[str, Any]] = field(default_factory=list)
    odd: set[int] = field(default_factory=set)
    cloned: list[tuple[dict[str, Any], str]] = field(default_factory=list)
    of_device: dict[int, list[Held]] = field(default_factory=dict)
    used: dict[int, Used] = field(default_factory=dict)
    families: dict[int, list[Family]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for held in self.attempts.values():
            self.of_device.setdefault(held.row["device_id"], []).append(held)

    def change(self, held: Held, changed: Attempt) -> None:
        """Takes over what became of an attempt, and what that does to its pace and its family."""
        if changed == held.attempt:
            return
        before, held.attempt, held.changed = held.attempt, changed, True
        held.moved |= (before.state, before.try_number) != (changed.state, changed.try_number)
        if before.state is not changed.state:
            used = self.used.get(held.row["rollout_id"])
            if used is not None:
                used.note(before.state, changed.state)
            for family in self.families.get(held.row["device_id"], []):
                family.note(held.row["device_id"], changed)

    def current(self, device_id: int) -> Held | None:
        """The device's live attempt, or else its newest."""
        own = self.of_device.get(device_id, [])
        live = [held for held in own if held.attempt.live]
        return max(live or own, key=lambda held: held.row["id"], default=None)


def soaks(attempt: Attempt, now: datetime) -> bool:
    """Whether a confirmed device is still watched."""
    soaking = attempt.state is State.CONFIRMED and not attempt.closed
    return soaking and attempt.soak_until is not None and now <= attempt.soak_until
