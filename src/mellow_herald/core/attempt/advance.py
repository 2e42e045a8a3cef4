"""One device's passage through one rollout, as a state machine.

``advance`` takes an attempt, an event (a device's report, what its check-in shows, or the service's own word) and the
time, and returns a ``Step`` or a ``Refusal``. States and moves are those of docs/concepts.md.
"""

from dataclasses import replace
from datetime import datetime

from mellow_herald.core.attempt.events import (
    CallOff,
    Clear,
    Close,
    EndTries,
    Event,
    Offer,
    OneMore,
    Relapse,
    Report,
    Resume,
    RolledBack,
    Silence,
    StandbyHolds,
    StandbyLost,
    StayedOld,
    TryAgain,
    Wait,
)
from mellow_herald.core.attempt.record import Attempt, Effect, Refusal, Step, move, update, wait
from mellow_herald.core.attempt.reports import stayed_old, take_report
from mellow_herald.core.attempt.running import Shown
from mellow_herald.core.attempt.settling import settle
from mellow_herald.core.attempt.states import (
    BAD,
    BEFORE_SWITCH,
    RETRIED,
    UNDER_WAY,
    State,
    WaitingFor,
)


def advance(attempt: Attempt, event: Event, now: datetime) -> Step | Refusal:
    """Applies one event. Pure: the same arguments give the same answer."""
    if isinstance(event, Report):
        return take_report(attempt, event, now)
    if isinstance(event, RolledBack):
        return _rolled_back(attempt, now)
    if attempt.closed:
        return Refusal("closed", f"the attempt is closed as {attempt.state}")
    match event:
        case Shown():
            return settle(attempt, event, now)
        case Offer():
            return _offer(attempt, now)
        case StandbyHolds():
            if attempt.state in (State.QUEUED, State.OFFERED, State.DOWNLOADING):
                return move(attempt, State.STAGED, now, waiting_for=WaitingFor.NEXT_CHECK_IN)
        case StandbyLost():
            if attempt.state is State.STAGED:
                return move(attempt, State.QUEUED, now, waiting_for=WaitingFor.NEXT_CHECK_IN)
        case Wait(waiting_for, until):
            if attempt.state in (State.QUEUED, State.STAGED):
                return wait(attempt, waiting_for, until, now)
        case Clear(number, until):
            if attempt.state is State.STAGED:
                return move(attempt, State.CLEARED, now, clearance=number, clearance_until=until)
        case StayedOld(halted):
            return stayed_old(attempt, halted, now)
        case Silence():
            if attempt.state in UNDER_WAY and attempt.state is not State.QUEUED:
                return move(attempt, State.SILENT, now)
        case CallOff(cause):
            if attempt.state in BEFORE_SWITCH:
                return move(attempt, State.CALLED_OFF, now, reason=cause)
        case TryAgain():
            if attempt.may_retry and (attempt.retry_at is None or attempt.retry_at <= now):
                return _next_try(attempt, now)
        case OneMore():
            if attempt.state in RETRIED:
                return _next_try(replace(attempt, tries=max(attempt.tries, attempt.try_number + 1)), now)
            if attempt.state is State.CALLED_OFF:
                return move(attempt, State.QUEUED, now, waiting_for=WaitingFor.NEXT_CHECK_IN)
        case EndTries():
            return update(attempt, tries=attempt.try_number) if attempt.may_retry else Step(attempt, Effect.REPEATED)
        case Resume():
            if attempt.state is State.CALLED_OFF:
                # It is told anew in the new round, and counts there.
                anew = replace(attempt, offered_at=None, undelivered_at=None, undelivered_why=None)
                return move(anew, State.QUEUED, now, waiting_for=WaitingFor.NEXT_CHECK_IN)
        case Relapse(reason, as_of):
            if attempt.soaks(as_of or now):
                return move(attempt, State.RELAPSED, now, reason=reason)
        case Close():
            return _close(attempt, now)
    return Refusal("not-possible", f"{type(event).__name__} is not possible while {attempt.state}")


def _offer(attempt: Attempt, now: datetime) -> Step | Refusal:
    if attempt.state in (State.OFFERED, State.DOWNLOADING):
        return Step(attempt, Effect.REPEATED)
    if attempt.state is not State.QUEUED:
        return Refusal("not-possible", f"nothing is offered while {attempt.state}")
    return move(attempt, State.OFFERED, now)


def _next_try(attempt: Attempt, now: datetime) -> Step:
    fresh = replace(attempt, try_number=attempt.try_number + 1, retry_at=None, vouched=False)
    return move(fresh, State.QUEUED, now, waiting_for=WaitingFor.NEXT_CHECK_IN)


def _rolled_back(attempt: Attempt, now: datetime) -> Step | Refusal:
    if attempt.state is State.ROLLED_BACK:
        return Step(attempt, Effect.REPEATED)
    if attempt.exposed and (attempt.state is State.CONFIRMED or attempt.state in BAD):
        return move(replace(attempt, tries=attempt.try_number), State.ROLLED_BACK, now)
    return Refusal("not-possible", f"nothing is to be taken back while {attempt.state}")


def _close(attempt: Attempt, now: datetime) -> Step | Refusal:
    if attempt.at_risk:
        return Refusal("at-risk", f"the device is {attempt.state}; it must be decided first")
    if attempt.state in BEFORE_SWITCH:
        attempt = move(attempt, State.CALLED_OFF, now, reason="rollout-ended").attempt
    return Step(replace(attempt, tries=attempt.try_number, closed=True), Effect.MOVED)
