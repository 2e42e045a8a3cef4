"""What lets a device go on, or holds it up, besides itself: the plan's pace and windows, and its gateway or the devices
behind it."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from mellow_herald.core.attempt import AT_RISK, FETCHING, Attempt, State, WaitingFor
from mellow_herald.core.calendar import Use, is_open, next_opening
from mellow_herald.core.order import Missing
from mellow_herald.core.plan import Pace, Plan, Switch


@dataclass(slots=True)
class Used:
    """How much of a rollout's pace is used."""

    pace: Pace
    downloading: int
    at_risk: int

    @property
    def room_to_fetch(self) -> bool:
        """Whether one more may download."""
        cap = self.pace.downloading_at_once
        return cap is None or self.downloading < cap

    @property
    def room_to_switch(self) -> bool:
        """Whether one more may be at risk."""
        cap = self.pace.at_risk_at_once
        return cap is None or self.at_risk < cap

    def note(self, before: State, after: State) -> None:
        """Counts an attempt that moved."""
        self.downloading += (after in FETCHING) - (before in FETCHING)
        self.at_risk += (after in AT_RISK) - (before in AT_RISK)


@dataclass(slots=True)
class Family:
    """A gateway and all devices behind it: who of them is at risk, and who of those behind it is not decided yet, in
    whichever rollout (by device id)."""

    gateway: str
    gateway_id: int | None
    at_risk: set[int] = field(default_factory=set)
    undecided: set[int] = field(default_factory=set)

    def missing_to_switch(self, device_id: int, *, keep_reachable: bool) -> Missing:
        """What a member waits for: never a gateway and what is behind it at risk together; with ``keep_reachable`` the
        gateway goes after all that is behind it."""
        if device_id == self.gateway_id:
            first = self.undecided if keep_reachable else set()
            return (WaitingFor.CHILDREN, None) if (self.at_risk | first) - {device_id} else None
        return (WaitingFor.GATEWAY, None) if self.gateway_id in self.at_risk else None

    def note(self, device_id: int, after: Attempt) -> None:
        """Counts a member whose attempt moved."""
        if after.at_risk:
            self.at_risk.add(device_id)
        else:
            self.at_risk.discard(device_id)
        if device_id != self.gateway_id and not after.live:
            self.undecided.discard(device_id)


def window_missing(plan: Plan, use: Use, labels: Mapping[str, Any], now: datetime) -> Missing:
    """What a device waits for because of the plan's windows: None while one is open."""
    windows = plan.calendar.windows
    if not windows:
        return None
    zone = plan.calendar.zone_of(labels.get("tz"))
    if is_open(windows, use, zone, now):
        return None
    return WaitingFor.WINDOW, next_opening(windows, use, zone, now)


def restart_missing(plan: Plan, after_restart: bool) -> Missing:
    """What a device waits for where the plan switches only as it restarts anyway."""
    waits = plan.switch is Switch.AT_RESTART and not after_restart
    return (WaitingFor.WINDOW, None) if waits else None
