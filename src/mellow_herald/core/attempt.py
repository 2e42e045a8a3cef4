"""An attempt: one device's passage through one rollout, as a state machine.

``advance`` takes an attempt, an event (a device's report or the service's own word) and the time, and returns a
``Step`` or a ``Refusal``. States and moves are those of docs/concepts.md. Two rules stand above the moves:

- A report is the truth: what a device says it did is recorded even where it was told otherwise.
- Reports are ordered by (boots, seq); a repeated or older one has no second effect.
"""

from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from enum import StrEnum


class State(StrEnum):
    """Where an attempt stands."""

    QUEUED = "queued"
    OFFERED = "offered"
    DOWNLOADING = "downloading"
    STAGED = "staged"
    CLEARED = "cleared"
    INSTALLING = "installing"
    PROVING = "proving"
    CONFIRMED = "confirmed"
    FAILED = "failed"
    REVERTED = "reverted"
    SILENT = "silent"
    RELAPSED = "relapsed"
    CALLED_OFF = "called-off"
    ROLLED_BACK = "rolled-back"


FORWARD = (
    State.QUEUED, State.OFFERED, State.DOWNLOADING, State.STAGED,
    State.CLEARED, State.INSTALLING, State.PROVING, State.CONFIRMED,
)  # fmt: skip
RANK = {state: rank for rank, state in enumerate(FORWARD)}
BEFORE_SWITCH = frozenset(FORWARD[:4])
AT_RISK = frozenset({State.CLEARED, State.INSTALLING, State.PROVING})
UNDER_WAY = BEFORE_SWITCH | AT_RISK
BAD = frozenset({State.FAILED, State.REVERTED, State.SILENT, State.RELAPSED})
RETRIED = frozenset({State.FAILED, State.REVERTED, State.SILENT})
REPORTABLE = frozenset(
    {
        State.DOWNLOADING, State.STAGED, State.INSTALLING, State.PROVING,
        State.CONFIRMED, State.FAILED, State.REVERTED,
    }
)  # fmt: skip
SWITCHED = frozenset({State.INSTALLING, State.PROVING, State.CONFIRMED, State.REVERTED})

FAILED_REASONS = frozenset(
    {
        "download-broken", "digest-mismatch", "signature-refused", "no-room",
        "flash-error", "refused-by-device", "install-loop",
    }
)  # fmt: skip
REVERTED_REASONS = frozenset({"crashed", "hung", "self-test-failed", "no-contact", "power-lost", "in-recovery"})
# Where a device went back without a word, losing power is the least that must have happened.
UNSAID = "power-lost"
RELAPSED_REASONS = frozenset({"crash-looping", "went-silent", "readings-worse", "fell-back", "install-loop"})
REASONS = {
    State.FAILED: FAILED_REASONS,
    State.REVERTED: REVERTED_REASONS,
    State.RELAPSED: RELAPSED_REASONS,
}


class DownloadStep(StrEnum):
    """What a device does while ``downloading``."""

    FETCH = "fetch"
    VERIFY = "verify"
    ERASE = "erase"
    WRITE = "write"


class WaitingFor(StrEnum):
    """What a ``queued`` or ``staged`` attempt waits for."""

    NEXT_CHECK_IN = "next-check-in"
    BATTERY = "battery"
    CHARGER = "charger"
    LINK = "link"
    WINDOW = "window"
    OWNER_POSTPONED = "owner-postponed"
    OWNER_CONSENT = "owner-consent"
    DEVICE_BUSY = "device-busy"
    PACE = "pace"
    CHILDREN = "children"
    GATEWAY = "gateway"


@dataclass(frozen=True, slots=True)
class Attempt:
    """What is known of one attempt. ``tries`` is how many are allowed; ``last`` the newest report's (boots, seq);
    ``retry_at`` when the next try may begin; ``soak`` how long a confirmed device is watched. ``undelivered_at`` is
    when it first went bad before it was exposed, ``harmed_at`` when it first did afterwards: what the two brakes
    count. ``installs`` is how often it said that it installs."""

    state: State = State.QUEUED
    reason: str | None = None
    try_number: int = 1
    tries: int = 1
    soak: timedelta = timedelta(0)
    retry_pause: timedelta = timedelta(minutes=5)
    last: tuple[int, int] | None = None
    step: DownloadStep | None = None
    percent: int | None = None
    rate: int | None = None
    waiting_for: WaitingFor | None = WaitingFor.NEXT_CHECK_IN
    waiting_until: datetime | None = None
    offered_at: datetime | None = None
    exposed_at: datetime | None = None
    confirmed_at: datetime | None = None
    soak_until: datetime | None = None
    retry_at: datetime | None = None
    clearance: int | None = None
    clearance_until: datetime | None = None
    undelivered_at: datetime | None = None
    undelivered_why: str | None = None
    harmed_at: datetime | None = None
    harmed_why: str | None = None
    installs: int = 0
    closed: bool = False

    @property
    def ever_bad(self) -> bool:
        """Whether it was ever bad: later good news or further tries do not undo that."""
        return self.harmed_at is not None or self.undelivered_at is not None

    @property
    def live(self) -> bool:
        """Under way, or bad with tries left."""
        return not self.closed and (self.state in UNDER_WAY or self.may_retry)

    @property
    def may_retry(self) -> bool:
        """Bad in a way that is tried again, with tries left."""
        return not self.closed and self.state in RETRIED and self.try_number < self.tries

    @property
    def at_risk(self) -> bool:
        """Exposed, not yet confirmed or bad."""
        return self.state in AT_RISK

    @property
    def decided(self) -> bool:
        """Nothing more is expected of it for now: good, bad for good, or stopped."""
        return not self.live


@dataclass(frozen=True, slots=True)
class Report:
    """A device's word about one try. ``rate`` is bytes per second; ``other_live`` tells whether the device has
    another live attempt by now."""

    state: State
    boots: int
    seq: int
    try_number: int = 1
    reason: str | None = None
    step: DownloadStep | None = None
    percent: int | None = None
    rate: int | None = None
    other_live: bool = False


@dataclass(frozen=True, slots=True)
class Offer:
    """The service tells the device to fetch."""


@dataclass(frozen=True, slots=True)
class StandbyHolds:
    """The device said that its standby slot holds the image already."""


@dataclass(frozen=True, slots=True)
class Wait:
    """The service says what the attempt waits for."""

    waiting_for: WaitingFor
    until: datetime | None = None


@dataclass(frozen=True, slots=True)
class Clear:
    """The service's leave to switch, with the number drawn under the rollout's gate."""

    number: int
    until: datetime


@dataclass(frozen=True, slots=True)
class StayedOld:
    """The device spoke and has not switched; ``halted`` tells whether the rollout is halted."""

    halted: bool


@dataclass(frozen=True, slots=True)
class CameBackOld:
    """The device restarted after it began to install, and runs what it ran: it never says so itself."""


@dataclass(frozen=True, slots=True)
class Silence:
    """No authenticated call within the plan's ``answer_within``."""


@dataclass(frozen=True, slots=True)
class CallOff:
    """Stopped before switching."""

    cause: str


@dataclass(frozen=True, slots=True)
class TryAgain:
    """The next try begins."""


@dataclass(frozen=True, slots=True)
class OneMore:
    """Somebody wants one more try of an attempt that went bad before it could be settled, or was called off."""


@dataclass(frozen=True, slots=True)
class EndTries:
    """No further tries: the rollout was halted, cancelled or finished."""


@dataclass(frozen=True, slots=True)
class Resume:
    """A halted rollout goes on and takes the attempt up again."""


@dataclass(frozen=True, slots=True)
class Relapse:
    """A confirmed device went bad within its soak; ``as_of`` is when, where that is not now (a device that fell silent
    did so when it was last heard)."""

    reason: str
    as_of: datetime | None = None


@dataclass(frozen=True, slots=True)
class RolledBack:
    """The device runs again what it ran before: another rollout's doing, so a closed attempt takes it too."""


@dataclass(frozen=True, slots=True)
class RunsAlready:
    """The device said that it runs already what the attempt would bring."""


@dataclass(frozen=True, slots=True)
class Close:
    """The rollout has ended: nothing can move the attempt any more."""


Event = (
    Report | Offer | StandbyHolds | Wait | Clear | StayedOld | CameBackOld | Silence | CallOff
    | TryAgain | OneMore | EndTries | Resume | Relapse | RolledBack | RunsAlready | Close
)  # fmt: skip


class Effect(StrEnum):
    """What an event did."""

    MOVED = "moved"  # another state or another try
    UPDATED = "updated"  # same state, new particulars
    NOTED = "noted"  # belongs on the timeline, changes nothing
    REPEATED = "repeated"  # was known already


@dataclass(frozen=True, slots=True)
class Step:
    """The attempt after the event, and what the event did."""

    attempt: Attempt
    effect: Effect


@dataclass(frozen=True, slots=True)
class Refusal:
    """The event is not possible here."""

    kind: str
    detail: str


def advance(attempt: Attempt, event: Event, now: datetime) -> Step | Refusal:
    """Applies one event. Pure: the same arguments give the same answer."""
    if isinstance(event, Report):
        return _report(attempt, event, now)
    if isinstance(event, RolledBack):
        return _rolled_back(attempt, now)
    if attempt.closed:
        return Refusal("closed", f"the attempt is closed as {attempt.state}")
    match event:
        case Offer():
            return _offer(attempt, now)
        case StandbyHolds():
            if attempt.state in (State.QUEUED, State.OFFERED, State.DOWNLOADING):
                return _move(attempt, State.STAGED, now, waiting_for=WaitingFor.NEXT_CHECK_IN)
        case Wait(waiting_for, until):
            if attempt.state in (State.QUEUED, State.STAGED):
                return _update(attempt, waiting_for=waiting_for, waiting_until=until)
        case Clear(number, until):
            if attempt.state is State.STAGED:
                return _move(attempt, State.CLEARED, now, clearance=number, clearance_until=until)
        case StayedOld(halted):
            return _stayed_old(attempt, halted, now)
        case CameBackOld():
            if attempt.state in (State.INSTALLING, State.PROVING):
                return _move(attempt, State.REVERTED, now, reason=UNSAID)
        case Silence():
            if attempt.state in UNDER_WAY and attempt.state is not State.QUEUED:
                return _move(attempt, State.SILENT, now)
        case CallOff(cause):
            if attempt.state in BEFORE_SWITCH:
                return _move(attempt, State.CALLED_OFF, now, reason=cause)
        case TryAgain():
            if attempt.may_retry and (attempt.retry_at is None or attempt.retry_at <= now):
                return _next_try(attempt, now)
        case OneMore():
            if attempt.state in RETRIED:
                return _next_try(replace(attempt, tries=max(attempt.tries, attempt.try_number + 1)), now)
            if attempt.state is State.CALLED_OFF:
                return _move(attempt, State.QUEUED, now, waiting_for=WaitingFor.NEXT_CHECK_IN)
        case EndTries():
            return _update(attempt, tries=attempt.try_number) if attempt.may_retry else Step(attempt, Effect.REPEATED)
        case Resume():
            if attempt.state is State.CALLED_OFF:
                # It is told anew in the new round, and counts there.
                anew = replace(attempt, offered_at=None, undelivered_at=None, undelivered_why=None)
                return _move(anew, State.QUEUED, now, waiting_for=WaitingFor.NEXT_CHECK_IN)
        case Relapse(reason, as_of):
            if attempt.state is State.CONFIRMED and _soaking(attempt, as_of or now):
                return _move(attempt, State.RELAPSED, now, reason=reason)
        case RunsAlready():
            if attempt.state in BEFORE_SWITCH:
                return _move(attempt, State.CONFIRMED, now, reason="already-back")
        case Close():
            return _close(attempt, now)
    return Refusal("not-possible", f"{type(event).__name__} is not possible while {attempt.state}")


def _report(attempt: Attempt, report: Report, now: datetime) -> Step | Refusal:
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
    noted = Step(attempt, Effect.NOTED)
    if attempt.closed or report.try_number < attempt.try_number:
        return noted
    if report.state is State.INSTALLING:
        attempt = replace(attempt, installs=attempt.installs + 1)
        noted = Step(attempt, Effect.NOTED)
        if attempt.installs > attempt.tries:
            return _install_loop(attempt, now)
    state, said = attempt.state, report.state
    if state in UNDER_WAY:
        return _forward(attempt, report, now)
    if state is State.SILENT and not report.other_live:
        return _say(attempt, report, now)
    if state is State.REVERTED and said is State.REVERTED and attempt.reason == UNSAID:
        return _update(attempt, reason=report.reason)  # its own word, on its way when the service drew its conclusion
    if state is State.CALLED_OFF and said in SWITCHED and not report.other_live:
        # Told to stop, it switched all the same: the record must show where it really is.
        return _say(attempt, report, now)
    if state is State.CONFIRMED and said is State.REVERTED and _soaking(attempt, now):
        return _move(attempt, State.RELAPSED, now, reason="fell-back")
    return noted


def _install_loop(attempt: Attempt, now: datetime) -> Step:
    """It installs the same image more often than there are tries: neither telling it again nor waiting will help."""
    ended = replace(attempt, tries=attempt.try_number)
    if attempt.state in UNDER_WAY:
        return _move(ended, State.FAILED, now, reason="install-loop")
    if attempt.state is State.CONFIRMED and _soaking(attempt, now):
        return _move(ended, State.RELAPSED, now, reason="install-loop")
    return Step(attempt, Effect.NOTED)


def _forward(attempt: Attempt, report: Report, now: datetime) -> Step:
    state, said = attempt.state, report.state
    if said in BAD or RANK[said] > RANK[state]:
        return _say(attempt, report, now)
    if said is state:
        return _update(attempt, step=report.step, percent=report.percent, rate=report.rate)
    if state is State.CLEARED:
        stayed = _stayed_old(attempt, halted=False, now=now)
        return stayed if stayed.effect is Effect.MOVED else Step(attempt, Effect.NOTED)
    return Step(attempt, Effect.NOTED)


def _say(attempt: Attempt, report: Report, now: datetime) -> Step:
    """Moves to what the device says."""
    waiting = WaitingFor.NEXT_CHECK_IN if report.state is State.STAGED else None
    return _move(
        attempt, report.state, now,
        reason=report.reason, step=report.step, percent=report.percent, rate=report.rate, waiting_for=waiting,
    )  # fmt: skip


def _offer(attempt: Attempt, now: datetime) -> Step | Refusal:
    if attempt.state in (State.OFFERED, State.DOWNLOADING):
        return Step(attempt, Effect.REPEATED)
    if attempt.state is not State.QUEUED:
        return Refusal("not-possible", f"nothing is offered while {attempt.state}")
    return _move(attempt, State.OFFERED, now)


def _stayed_old(attempt: Attempt, halted: bool, now: datetime) -> Step:
    if attempt.state is not State.CLEARED:
        return Step(attempt, Effect.REPEATED)
    if halted:
        return _move(attempt, State.CALLED_OFF, now, reason="halted")
    if attempt.clearance_until is not None and attempt.clearance_until <= now:
        return _move(attempt, State.STAGED, now, waiting_for=WaitingFor.NEXT_CHECK_IN)
    return Step(attempt, Effect.REPEATED)


def _next_try(attempt: Attempt, now: datetime) -> Step:
    fresh = replace(attempt, try_number=attempt.try_number + 1, retry_at=None)
    return _move(fresh, State.QUEUED, now, waiting_for=WaitingFor.NEXT_CHECK_IN)


def _rolled_back(attempt: Attempt, now: datetime) -> Step | Refusal:
    if attempt.state is State.ROLLED_BACK:
        return Step(attempt, Effect.REPEATED)
    if attempt.exposed_at is not None and (attempt.state is State.CONFIRMED or attempt.state in BAD):
        return _move(replace(attempt, tries=attempt.try_number), State.ROLLED_BACK, now)
    return Refusal("not-possible", f"nothing is to be taken back while {attempt.state}")


def _close(attempt: Attempt, now: datetime) -> Step | Refusal:
    if attempt.at_risk:
        return Refusal("at-risk", f"the device is {attempt.state}; it must be decided first")
    if attempt.state in BEFORE_SWITCH:
        attempt = _move(attempt, State.CALLED_OFF, now, reason="rollout-ended").attempt
    return Step(replace(attempt, tries=attempt.try_number, closed=True), Effect.MOVED)


def _move(
    attempt: Attempt,
    state: State,
    now: datetime,
    *,
    reason: str | None = None,
    step: DownloadStep | None = None,
    percent: int | None = None,
    rate: int | None = None,
    waiting_for: WaitingFor | None = None,
    clearance: int | None = None,
    clearance_until: datetime | None = None,
) -> Step:
    """The one place where a state changes: what depends on the state follows it here."""
    already = state is State.CONFIRMED and reason == "already-back"
    exposed = state in AT_RISK or state is State.REVERTED or (state is State.CONFIRMED and not already)
    offered = exposed or state in (State.OFFERED, State.DOWNLOADING, State.STAGED, State.FAILED)
    retry = state in RETRIED and attempt.try_number < attempt.tries
    exposed_at = attempt.exposed_at or (now if exposed else None)
    harmed = state in BAD and exposed_at is not None and attempt.harmed_at is None
    undelivered = state in BAD and exposed_at is None and attempt.undelivered_at is None
    moved = replace(
        attempt,
        state=state,
        reason=reason,
        step=step,
        percent=percent,
        rate=rate,
        waiting_for=waiting_for,
        waiting_until=None,
        # A clearance is for one switch: every other state lets go of its time, the number stays as a record.
        clearance=clearance if clearance is not None else attempt.clearance,
        clearance_until=clearance_until,
        offered_at=attempt.offered_at or (now if offered else None),
        exposed_at=exposed_at,
        confirmed_at=now if state is State.CONFIRMED else attempt.confirmed_at,
        soak_until=now + attempt.soak if state is State.CONFIRMED else attempt.soak_until,
        # Pauses double from try to try.
        retry_at=now + attempt.retry_pause * 2 ** (attempt.try_number - 1) if retry else None,
        undelivered_at=now if undelivered else attempt.undelivered_at,
        undelivered_why=(reason or state.value) if undelivered else attempt.undelivered_why,
        harmed_at=now if harmed else attempt.harmed_at,
        harmed_why=(reason or state.value) if harmed else attempt.harmed_why,
    )
    return Step(moved, Effect.MOVED)


def _update(attempt: Attempt, **fields: object) -> Step:
    changed = replace(attempt, **fields)  # type: ignore[arg-type]
    return Step(changed, Effect.UPDATED if changed != attempt else Effect.REPEATED)


def _soaking(attempt: Attempt, now: datetime) -> bool:
    return attempt.soak_until is not None and now <= attempt.soak_until
