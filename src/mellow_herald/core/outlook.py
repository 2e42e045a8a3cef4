"""When the rings that are closed open at the earliest, and what that hangs on."""

from dataclasses import dataclass
from datetime import datetime

from mellow_herald.core.decide import Progress, RingProgress, is_through, least_good, stands_still
from mellow_herald.core.plan import Opens, Plan, Ring
from mellow_herald.core.rollout import RingState, RolloutState
from mellow_herald.core.say import Asks

OVER = frozenset({RolloutState.HALTED, RolloutState.FINISHED, RolloutState.CANCELLED})


@dataclass(frozen=True, slots=True)
class Outlook:
    """Of one ring: ``earliest`` is a bound, not a promise (it moves as long as devices are under way); None where no
    time leads there by itself. ``hangs_on`` says in words what has to come to pass first."""

    position: int
    earliest: datetime | None
    hangs_on: tuple[str, ...]


def outlook(plan: Plan, progress: Progress, now: datetime) -> list[Outlook]:
    """What each ring that is not open yet waits for, in order; nothing for a rollout that opens no more rings."""
    if progress.state in OVER:
        return []
    found: list[Outlook] = []
    earliest: datetime | None = now
    whole: list[str] = []
    if progress.state is RolloutState.SCHEDULED and plan.calendar.start is not None:
        earliest, whole = plan.calendar.start, [f"the plan's start, {_moment(plan.calendar.start)}"]
    if progress.state is RolloutState.HELD:
        earliest, whole = None, ["somebody resumes it: it is held"]
    for position, (ring, planned) in enumerate(zip(progress.rings, plan.rings, strict=True)):
        if ring.state in (RingState.CLOSED, RingState.AWAITING_GO):
            asks = position not in progress.go and (
                planned.opens is Opens.BY_HAND or (ring.state is RingState.AWAITING_GO and ring.asks in (None, Asks.GO))
            )
            own, hangs = earliest, list(whole)
            if planned.not_before is not None and planned.not_before > now:
                own = None if own is None else max(own, planned.not_before)
                hangs.append(f"not before {_moment(planned.not_before)}")
            if position and not found and progress.at_risk:
                hangs.append(f"{_devices(progress.at_risk)} at risk")
            still = progress.say.still_asks(position, plan.approval) if not found else None
            if still is not None:
                hangs.append(f"{still[0].awaited}: {still[1]}")
            if asks:
                # Who says so may do it at once: what is told is when it can be said.
                hangs.append("somebody says go")
            found.append(Outlook(position, own, tuple(hangs)))
            earliest = None if own is None else own + planned.soak
            whole = [f"ring {planned.name} opens and soaks first"]
            continue
        until, why = _of_ring_before(plan, position, ring, planned, now)
        if ring.state is not RingState.DONE:
            earliest = None if earliest is None or until is None else max(earliest, until)
            whole += why
    return found


def _of_ring_before(
    plan: Plan, position: int, ring: RingProgress, planned: Ring, now: datetime
) -> tuple[datetime | None, list[str]]:
    """What an open ring holds those after it up with, and until when at the least."""
    least = least_good(plan, position)
    if stands_still(ring, planned.enough, least) is not None:
        return None, [f"ring {planned.name} stands still"]
    hangs = []
    until = max(now, ring.soak_until or now)
    if ring.undecided or ring.expected:
        until = max(until, now + planned.soak)
        if ring.undecided:
            hangs.append(f"{_devices(ring.undecided)} of ring {planned.name} under way")
        if ring.expected:
            hangs.append(f"{_devices(ring.expected)} of ring {planned.name} not heard of since it opened")
        if ring.good < least and least > 1:
            hangs.append(f"{ring.good} of min_good {least} good in ring {planned.name}")
    if ring.soak_until is not None and ring.soak_until > now:
        hangs.append(f"soak of {_devices(ring.good)} of ring {planned.name} until {_moment(ring.soak_until)}")
    if not hangs and is_through(ring, planned.enough, least):
        hangs.append(f"ring {planned.name} is through")
    return until, hangs


def _devices(count: int) -> str:
    return f"{count} device{'' if count == 1 else 's'}"


def _moment(at: datetime) -> str:
    return f"{at:%Y-%m-%d %H:%M}"
