"""What a plan will take: when rings open and are done, when the first sign of life is due, how much harm is possible.

All of it is an estimate from a few plain numbers, and says so; nothing here decides anything.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from math import ceil

from mellow_herald.core.calendar import Use, after_open_time, next_opening
from mellow_herald.core.plan import Opens, Plan
from mellow_herald.core.rhythm import LIVE_PART

ASSUMED_RATE = 20_000  # bytes a second, where nothing was measured yet
RESTART = timedelta(seconds=30)


@dataclass(frozen=True, slots=True)
class RingFacts:
    """What is known of a ring's devices: how many, after how long nearly all of them have called (the 95th
    percentile of their check-in intervals), and when the first of them is due next (None: not known)."""

    devices: int
    interval: timedelta
    next_call: datetime | None = None


@dataclass(frozen=True, slots=True)
class RingForecast:
    """``opens`` … ``done`` are instants, None where they never come (a window that never opens, or after the last day).
    ``first_sign``: when the first device should have been told. ``by_hand``: it waits for somebody besides.
    ``at_risk``: the most devices at risk at once; ``unproven``: the most that may run the release, confirmed but not
    yet through their soak, before the next ring opens. ``rules_out``: the failure rate that this ring, with all its
    devices good, rules out at ``alpha``."""

    opens: datetime | None
    first_sign: datetime | None
    through: datetime | None
    done: datetime | None
    by_hand: bool
    at_risk: int
    unproven: int
    rules_out: float


def rules_out(devices: int, alpha: float) -> float:
    """The failure rate (0–1) which a ring of so many devices, all of them good, rules out: 1 − α^(1/n)."""
    return 1.0 if devices == 0 else float(1 - alpha ** (1 / devices))


def forecast(
    plan: Plan,
    rings: Sequence[RingFacts],
    size: int,
    rate: float | None,
    now: datetime,
    waves: Sequence[int] | None = None,
) -> list[RingForecast]:
    """One forecast for each ring. ``size`` is what each device has to fetch in bytes, ``rate`` what a link was
    measured to carry in bytes a second; ``waves`` in how many waves of a harm budget each ring is given leave."""
    calendar, transfer = plan.calendar, timedelta(seconds=size / (rate or ASSUMED_RATE))
    at: datetime | None = max(now, calendar.start or now)
    found = []
    for ring, facts, many in zip(plan.rings, rings, waves or [1] * len(rings), strict=True):
        unproven = at_risk = 0
        if facts.devices:
            unproven = facts.devices
            at_risk = min(facts.devices, plan.pace.at_risk_at_once or facts.devices)
        opens = None if at is None else max(at, ring.not_before or at)
        if opens is not None and calendar.ends is not None and opens >= calendar.ends:
            opens = None
        first_sign, through = (None, None) if opens is None else _passage(plan, facts, transfer, opens)
        if through is not None and many > 1:
            # Each wave runs through its soak before the next begins; a sure budget waits for the trial alone.
            soak = timedelta(0) if plan.harm is not None and plan.harm.sure else ring.soak
            through += (many - 1) * (soak + RESTART + plan.trial_for / 2 + facts.interval / LIVE_PART)
        done = None if through is None else through + (ring.soak if facts.devices else timedelta(0))
        found.append(
            RingForecast(
                opens,
                first_sign,
                through,
                done,
                ring.opens is Opens.BY_HAND,
                at_risk,
                unproven,
                rules_out(facts.devices, plan.brake.alpha),
            )
        )
        at = done
    return found


def _passage(
    plan: Plan, facts: RingFacts, transfer: timedelta, opens: datetime
) -> tuple[datetime | None, datetime | None]:
    """When the first device is told and when the last one is decided."""
    calendar = plan.calendar
    if not facts.devices:
        return None, opens
    fetching = next_opening(calendar.windows, Use.FETCH, calendar.zone, opens)
    if fetching is None:
        return None, None
    call = facts.next_call if facts.next_call is not None and facts.next_call >= fetching else fetching
    first_sign = max(fetching, min(call, fetching + facts.interval))
    again = facts.interval / LIVE_PART
    fetch_waves = ceil(facts.devices / (plan.pace.downloading_at_once or facts.devices))
    risk_waves = ceil(facts.devices / (plan.pace.at_risk_at_once or facts.devices))
    # Whoever waits for its turn notices at its next call.
    fetched = after_open_time(
        calendar.windows,
        Use.FETCH,
        calendar.zone,
        opens,
        facts.interval + transfer * fetch_waves + again * (fetch_waves - 1),
    )
    if fetched is None:
        return first_sign, None
    switching = (RESTART + plan.trial_for / 2) * risk_waves + again * risk_waves
    return first_sign, after_open_time(calendar.windows, Use.SWITCH, calendar.zone, fetched, switching)
