"""What a device reports about its attempt.

A report is the truth: what a device says it did is recorded even where it was told otherwise. Reports are ordered by
(boots, seq); a repeated or older one has no second effect. One that was made before the newest check-in never
contradicts what that showed: it tells how the device came to run that.
"""

from dataclasses import replace
from datetime import datetime

from mellow_herald.core.attempt.events import Report
from mellow_herald.core.attempt.record import Attempt, Effect, Refusal, Step, count_bad, move, tell_why, update
from mellow_herald.core.attempt.running import Runs
from mellow_herald.core.attempt.settling import arrive_otherwise
from mellow_herald.core.attempt.states import (
    BAD,
    BEFORE_SWITCH,
    FELL_BACK,
    RANK,
    REPORTABLE,
    SWITCHED,
    UNDER_WAY,
    UNSAID,
    WRONG_IMAGE,
    State,
    WaitingFor,
)

LATE = frozenset({State.SILENT, State.CALLED_OFF})
# Who says this needs clearance for it.
UNASKED = frozenset({State.INSTALLING, State.CONFIRMED})


def take_report(attempt: Attempt, report: Report, now: datetime) -> Step | Refusal:
    """Applies a report."""
    if report.state not in REPORTABLE:
        return Refusal("not-reportable", f"a device cannot report {report.state}")
    if report.try_number > attempt.try_number:
        return Refusal(
            "unknown-try",
            f"try {report.try_number} was never offered; the attempt is at {attempt.try_number}",
        )
    order = (report.boots, report.seq)
    if attempt.last is not None and order <= attempt.last:
        return Step(attempt, Effect.REPEATED)
    attempt = replace(attempt, last=order)
    if not report.counts:
        return Step(attempt, Effect.NOTED)
    if report.state is State.REVERTED:
        attempt = tell_why(attempt, report.reason, report.try_number)
    if attempt.closed or report.try_number < attempt.try_number:
        return Step(attempt, Effect.NOTED)
    # A word from before the newest check-in may be of a clearance that stood then.
    had_leave = attempt.leave_unknown or (report.shown is not None and attempt.clearance is not None)
    if report.state in UNASKED and attempt.state in BEFORE_SWITCH | {State.CALLED_OFF} and not had_leave:
        attempt = replace(attempt, unasked_at=attempt.unasked_at or now)
    if report.state is State.INSTALLING and report.clearance not in (None, attempt.clearance) and not had_leave:
        # It goes by leave that ran out and was given anew, or by none of ours.
        attempt = replace(attempt, unasked_at=attempt.unasked_at or now)
    if report.state is State.INSTALLING:
        attempt = replace(attempt, installs=attempt.installs + 1)
    if report.shown is not None:
        return _older(attempt, report, now)
    if report.state is State.INSTALLING and attempt.installs > attempt.tries:
        return _install_loop(attempt, now)
    if report.state is State.CONFIRMED:
        return _confirmed(attempt, report, now)
    if report.state is State.PROVING and not attempt.may_have_leave:
        return arrive_otherwise(attempt, now, back=report.back)
    return _newest(attempt, report, now)


def _newest(attempt: Attempt, report: Report, now: datetime) -> Step:
    state, reported = attempt.state, report.state
    if state in UNDER_WAY:
        return _forward(attempt, report, now)
    if state is State.SILENT and not report.other_live:
        return _say(attempt, report, now)
    if state is State.REVERTED and reported is State.REVERTED and attempt.reason == UNSAID:
        return update(attempt, reason=report.reason)
    if state is State.CALLED_OFF and reported in SWITCHED and not report.other_live:
        # Told to stop, it switched all the same: the record must show where it really is.
        return _say(attempt, report, now)
    if reported is State.REVERTED and attempt.soaks(now):
        return move(attempt, State.RELAPSED, now, reason=FELL_BACK)
    return Step(attempt, Effect.NOTED)


def _confirmed(attempt: Attempt, report: Report, now: datetime) -> Step:
    """A device vouches for what it runs, and what that is decides."""
    if not attempt.may_have_leave:
        if report.names in (Runs.TARGET, None):
            return arrive_otherwise(attempt, now, back=report.back)
        return Step(attempt, Effect.NOTED)
    match report.names:
        case None:
            # Updater 1 does not name what it runs: a check-in has to show it.
            vouched = replace(attempt, vouched=True)
            step = _newest(vouched, replace(report, state=State.PROVING), now)
            return Step(step.attempt, Effect.UPDATED) if step.effect is Effect.REPEATED else step
        case Runs.TARGET:
            elsewhere = attempt.state in LATE and report.other_live
            if attempt.state in (UNDER_WAY | BAD | LATE) - {State.RELAPSED} and not elsewhere:
                return move(attempt, State.CONFIRMED, now)
        case Runs.OTHER:
            if attempt.state in UNDER_WAY or (attempt.state in LATE and not report.other_live):
                return move(attempt, State.FAILED, now, reason=WRONG_IMAGE)
        case _:
            if attempt.state in UNDER_WAY or (attempt.state in LATE and not report.other_live):
                return move(attempt, State.REVERTED, now, reason=FELL_BACK)
            if attempt.soaks(now):
                return move(attempt, State.RELAPSED, now, reason=FELL_BACK)
    return Step(attempt, Effect.NOTED)


def _older(attempt: Attempt, report: Report, now: datetime) -> Step:
    """A report that was made before the newest check-in."""
    assert report.shown is not None
    if report.state is State.REVERTED:
        attempt = replace(attempt, exposed_at=attempt.exposed_at or now)
    if report.shown.runs in (Runs.TARGET, Runs.OTHER):
        if report.state is State.CONFIRMED and report.names is None:
            attempt = replace(attempt, vouched=True)
            if attempt.state is State.PROVING and report.shown.runs is Runs.TARGET:
                return move(attempt, State.CONFIRMED, now)
        if report.state in BAD:
            attempt = count_bad(attempt, report.reason or report.state.value, now)
        return Step(attempt, Effect.NOTED)
    return _how_it_came_back(attempt, report, now)


def _how_it_came_back(attempt: Attempt, report: Report, now: datetime) -> Step:
    """The device runs what it came from, or its recovery image: if it had switched before, it went back."""
    assert report.shown is not None
    moves = attempt.state in UNDER_WAY or (attempt.state in LATE and not report.other_live)
    bad, reason = report.state, report.reason
    if report.state in (State.INSTALLING, State.PROVING):
        bad, reason = State.REVERTED, UNSAID
        moves = moves and report.boots < report.shown.boots
    elif report.state is State.CONFIRMED:
        bad, reason = State.REVERTED, FELL_BACK
    elif report.state not in BAD:
        return Step(attempt, Effect.NOTED)
    if moves:
        return move(attempt, bad, now, reason=reason)
    if attempt.state is State.REVERTED and bad is State.REVERTED and attempt.reason == UNSAID:
        return update(attempt, reason=reason)
    if report.state in BAD:
        attempt = count_bad(attempt, reason or bad.value, now)
    return Step(attempt, Effect.NOTED)


def _install_loop(attempt: Attempt, now: datetime) -> Step:
    """It installs the same image more often than there are tries: neither telling it again nor waiting will help."""
    ended = replace(attempt, tries=attempt.try_number)
    if attempt.state in UNDER_WAY:
        return move(ended, State.FAILED, now, reason="install-loop")
    if attempt.soaks(now):
        return move(ended, State.RELAPSED, now, reason="install-loop")
    return Step(attempt, Effect.NOTED)


def _forward(attempt: Attempt, report: Report, now: datetime) -> Step:
    state, reported = attempt.state, report.state
    if reported in BAD or RANK[reported] > RANK[state]:
        return _say(attempt, report, now)
    if reported is state:
        fetched = max(attempt.fetched, report.percent or 0)
        return update(attempt, step=report.step, percent=report.percent, rate=report.rate, fetched=fetched)
    if state is State.CLEARED:
        stayed = stayed_old(attempt, halted=False, now=now)
        return stayed if stayed.effect is Effect.MOVED else Step(attempt, Effect.NOTED)
    return Step(attempt, Effect.NOTED)


def _say(attempt: Attempt, report: Report, now: datetime) -> Step:
    """Moves to what the device says."""
    waiting = WaitingFor.NEXT_CHECK_IN if report.state is State.STAGED else None
    return move(
        attempt,
        report.state,
        now,
        reason=report.reason,
        step=report.step,
        percent=report.percent,
        rate=report.rate,
        waiting_for=waiting,
    )


def stayed_old(attempt: Attempt, halted: bool, now: datetime) -> Step:
    """The device spoke and has not switched: its clearance is over if it ran out, or if the rollout is halted."""
    if attempt.state is not State.CLEARED:
        return Step(attempt, Effect.REPEATED)
    if halted:
        return move(attempt, State.CALLED_OFF, now, reason="halted")
    if attempt.clearance_until is not None and attempt.clearance_until <= now:
        return move(attempt, State.STAGED, now, waiting_for=WaitingFor.NEXT_CHECK_IN)
    return Step(attempt, Effect.REPEATED)
