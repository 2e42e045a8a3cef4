"""What a check-in shows that the device runs moves the attempt, whatever is remembered of it. docs/concepts.md has the
table."""

from dataclasses import replace
from datetime import datetime

from mellow_herald.core.attempt.record import Attempt, Effect, Step, move, update
from mellow_herald.core.attempt.running import Runs, Shown
from mellow_herald.core.attempt.states import (
    ALREADY_BACK,
    ARRIVED_OTHERWISE,
    AT_RISK,
    BEFORE_SWITCH,
    FELL_BACK,
    FLASHED_BY_HAND,
    IN_RECOVERY,
    UNDER_WAY,
    UNSAID,
    WRONG_IMAGE,
    State,
)

# What neither good nor bad news of where the device is can change any more.
OVER = frozenset({State.CONFIRMED, State.RELAPSED, State.ROLLED_BACK})


def settle(attempt: Attempt, shown: Shown, now: datetime) -> Step:
    """Moves the attempt to where the device is."""
    if attempt.last is not None and (shown.boots, shown.seq) < attempt.last:
        # Late on its way: the device has said more since, and may run something else by now.
        return Step(attempt, Effect.REPEATED)
    match shown.runs:
        case Runs.TARGET if shown.again and not _installed_again(attempt, shown):
            return Step(attempt, Effect.REPEATED)
        case Runs.TARGET:
            return _runs_target(attempt, shown, now)
        case Runs.PARTLY if shown.trial and (attempt.at_risk or (attempt.leave_unknown and attempt.state in UNDER_WAY)):
            return _prove(attempt, now)
        case Runs.FORMER | Runs.PARTLY:
            return _runs_former(attempt, shown, now)
        case Runs.RECOVERY:
            return _runs_recovery(attempt, now)
        case Runs.OTHER:
            return _runs_other(attempt, now)
        case Runs.UNREADABLE:
            return Step(attempt, Effect.REPEATED)


def arrive_otherwise(attempt: Attempt, now: datetime, *, back: bool) -> Step:
    """The device runs the target, but had no leave to switch and did not say that it does: somebody else's doing. It
    counts for no brake and is no evidence for the release; a way back is good however it was found."""
    if attempt.state in OVER:
        return Step(attempt, Effect.REPEATED)
    if back and attempt.state is not State.CALLED_OFF:
        return move(attempt, State.CONFIRMED, now, reason=ALREADY_BACK)
    if attempt.state is State.CALLED_OFF:
        return update(attempt, reason=ARRIVED_OTHERWISE, offered_at=None)
    ended = replace(attempt, offered_at=None, tries=attempt.try_number)
    return move(ended, State.CALLED_OFF, now, reason=ARRIVED_OTHERWISE)


def restarted_since_report(attempt: Attempt, shown: Shown) -> bool:
    """Whether the device started anew after its newest report."""
    return attempt.last is None or shown.boots > attempt.last[0]


def _installed_again(attempt: Attempt, shown: Shown) -> bool:
    """The same bytes as before: only that it said it installs, and restarted, tells that they were installed."""
    switching = attempt.state in (State.INSTALLING, State.PROVING)
    return switching and bool(attempt.installs) and restarted_since_report(attempt, shown)


def _runs_target(attempt: Attempt, shown: Shown, now: datetime) -> Step:
    if attempt.state in OVER or (attempt.state is State.FAILED and shown.given_up is not None):
        return Step(attempt, Effect.REPEATED)
    if not attempt.may_have_leave:
        return arrive_otherwise(attempt, now, back=shown.back)
    if shown.trial or (shown.trial is None and not attempt.vouched):
        return _prove(attempt, now)
    if shown.given_up is not None:
        # The attempt is as good as its worst component.
        return move(attempt, State.FAILED, now, reason=shown.given_up)
    return move(attempt, State.CONFIRMED, now)


def _prove(attempt: Attempt, now: datetime) -> Step:
    if attempt.state is State.PROVING:
        return Step(attempt, Effect.REPEATED)
    return move(attempt, State.PROVING, now)


def _runs_former(attempt: Attempt, shown: Shown, now: datetime) -> Step:
    back_again = attempt.state is State.INSTALLING and restarted_since_report(attempt, shown)
    if attempt.state is State.PROVING or back_again:
        return move(attempt, State.REVERTED, now, reason=UNSAID)
    if attempt.soaks(now):
        return move(attempt, State.RELAPSED, now, reason=FELL_BACK)
    return Step(attempt, Effect.REPEATED)


def _runs_recovery(attempt: Attempt, now: datetime) -> Step:
    if attempt.state in AT_RISK:
        return move(attempt, State.REVERTED, now, reason=IN_RECOVERY)
    if attempt.soaks(now):
        return move(attempt, State.RELAPSED, now, reason=FELL_BACK)
    return Step(attempt, Effect.REPEATED)


def _runs_other(attempt: Attempt, now: datetime) -> Step:
    if attempt.soaks(now):
        return move(attempt, State.RELAPSED, now, reason=FLASHED_BY_HAND)
    if not attempt.may_have_leave and (attempt.state in BEFORE_SWITCH or attempt.may_retry):
        ended = replace(attempt, offered_at=None, tries=attempt.try_number)
        return move(ended, State.CALLED_OFF, now, reason=FLASHED_BY_HAND)
    if attempt.may_have_leave and attempt.state in UNDER_WAY:
        return move(attempt, State.FAILED, now, reason=WRONG_IMAGE)
    return Step(attempt, Effect.REPEATED)
