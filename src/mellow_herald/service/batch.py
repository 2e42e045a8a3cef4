"""What the intake works on: calls, the attempts they concern, and what those attempts are to bring."""

import asyncio
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from mellow_herald.core.attempt import Attempt, State
from mellow_herald.core.firmware import APP
from mellow_herald.core.plan import Plan
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


@dataclass(frozen=True, slots=True)
class Target:
    """A rollout's plan as of one ``revision``, and what does not change about it: the digests of its manifest and
    of each component's images. Where devices are brought back, ``back_to`` is the image that one of them ran before,
    and ``fetchable`` tells whether there is a release to fetch it from."""

    revision: int
    plan: Plan
    manifest: str | None
    images: Mapping[str, frozenset[str]]
    independent: bool
    back_to: str | None = None
    fetchable: bool = True

    @property
    def digests(self) -> frozenset[str]:
        """Those of its ``app`` images."""
        return self.images.get(APP, frozenset())

    def stands_by(self, device: Mapping[str, Any]) -> bool:
        """Whether the device has everything standing by that it does not run yet."""
        missing_ = {
            name for name, digests in self.images.items()
            if (device["running"].get(name) or {}).get("digest") not in digests
        }  # fmt: skip
        wanted = missing_ or self.images.keys()
        return all((device["standby"].get(name) or {}).get("digest") in self.images[name] for name in wanted)


@dataclass(frozen=True, slots=True)
class Release:
    """What a way back leads to: the digest of its manifest and those of its ``app`` images."""

    manifest: str
    digests: frozenset[str]


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

    def current(self, device_id: int) -> Held | None:
        """The device's live attempt, or else its newest."""
        own = self.of_device.get(device_id, [])
        live = [held for held in own if held.attempt.live]
        return max(live or own, key=lambda held: held.row["id"], default=None)


def soaks(attempt: Attempt, now: datetime) -> bool:
    """Whether a confirmed device is still watched."""
    soaking = attempt.state is State.CONFIRMED and not attempt.closed
    return soaking and attempt.soak_until is not None and now <= attempt.soak_until


def holds_back(device: Mapping[str, Any], target: Target) -> bool:
    """Whether the standby slot of ``app`` still holds what the device came from, and the device may boot it."""
    standby = device["standby"].get(APP) or {}
    floor, least = standby.get("floor"), device["floor"]
    return standby.get("digest") in target.digests and (floor is None or least is None or floor >= least)
