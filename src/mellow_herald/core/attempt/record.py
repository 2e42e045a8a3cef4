"""What is known of one attempt, how a state changes, and what came of it."""

from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from enum import StrEnum

from mellow_herald.core.attempt.states import (
    ALREADY_BACK,
    AT_RISK,
    BAD,
    CONDITIONS,
    ENDURING,
    HAS_IMAGE,
    ONCE_MORE,
    RETRIED,
    UNDER_WAY,
    UNSAID,
    DownloadStep,
    State,
    WaitingFor,
)

TOLD = frozenset({State.OFFERED, State.DOWNLOADING, State.STAGED, State.FAILED})


@dataclass(frozen=True, slots=True)
class Attempt:
    """What is known of one attempt. ``tries`` is how many are allowed; ``last`` the newest report's (boots, seq);
    ``retry_at`` when the next try may begin; ``soak`` how long a confirmed device is watched. ``undelivered_at`` is
    when it first went bad before it was exposed, ``harmed_at`` when it first did afterwards: what the two brakes count.
    ``first_bad_at``, ``first_bad_why`` and ``first_bad_try`` tell when it first went bad at all, and no later news or
    round changes them; ``fetched`` is the most that it ever had of its images, in %; ``unasked_at`` when it switched
    without clearance. ``waiting_since`` is since when it waits for a condition that the device does not meet. With
    ``retry_bad`` it is tried again whatever it went bad by. ``installs`` is how often it said that it installs;
    ``vouched`` that it confirmed without naming what it runs, as updater 1 does. ``leave_unknown`` tells that a backup
    was brought back, after which it may have been given leave to switch, though nothing is known of it here."""

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
    first_bad_at: datetime | None = None
    first_bad_why: str | None = None
    first_bad_try: int | None = None
    fetched: int = 0
    unasked_at: datetime | None = None
    waiting_since: datetime | None = None
    retry_bad: bool = False
    installs: int = 0
    vouched: bool = False
    leave_unknown: bool = False
    closed: bool = False

    @property
    def ever_bad(self) -> bool:
        """Whether it was ever bad: later good news, further tries or a new round do not undo that."""
        return self.first_bad_at is not None

    @property
    def live(self) -> bool:
        """Under way, or bad with tries left."""
        return not self.closed and (self.state in UNDER_WAY or self.may_retry)

    @property
    def may_retry(self) -> bool:
        """Bad in a way that is tried again, with tries left."""
        return not self.closed and _tried_again(self, self.state, self.reason)

    @property
    def at_risk(self) -> bool:
        """Exposed, not yet confirmed or bad."""
        return self.state in AT_RISK

    @property
    def exposed(self) -> bool:
        """Whether it ever had clearance, or switched without."""
        return self.exposed_at is not None

    @property
    def may_have_leave(self) -> bool:
        """Whether it may have switched because it was told to."""
        return self.exposed or self.leave_unknown

    @property
    def decided(self) -> bool:
        """Nothing more is expected of it for now: good, bad for good, or stopped."""
        return not self.live

    def soaks(self, at: datetime) -> bool:
        """Whether it is confirmed and still watched."""
        return self.state is State.CONFIRMED and self.soak_until is not None and at <= self.soak_until


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


def move(
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
    already = state is State.CONFIRMED and reason == ALREADY_BACK
    exposed = state in AT_RISK or state is State.REVERTED or (state is State.CONFIRMED and not already)
    had = 100 if state in HAS_IMAGE else percent or 0
    moved = replace(
        attempt,
        state=state,
        reason=reason,
        step=step,
        percent=percent,
        rate=rate,
        waiting_for=waiting_for,
        waiting_until=None,
        waiting_since=None,
        fetched=max(attempt.fetched, had),
        # A clearance is for one switch: every other state lets go of its time, the number stays as a record.
        clearance=clearance if clearance is not None else attempt.clearance,
        clearance_until=clearance_until,
        offered_at=attempt.offered_at or (now if exposed or state in TOLD else None),
        exposed_at=attempt.exposed_at or (now if exposed else None),
        confirmed_at=now if state is State.CONFIRMED else attempt.confirmed_at,
        soak_until=now + attempt.soak if state is State.CONFIRMED else attempt.soak_until,
        # Pauses double from try to try.
        retry_at=now + attempt.retry_pause * 2 ** (attempt.try_number - 1)
        if _tried_again(attempt, state, reason)
        else None,
    )
    return Step(count_bad(moved, reason or state.value, now) if state in BAD else moved, Effect.MOVED)


def update(attempt: Attempt, **fields: object) -> Step:
    """The same state with other particulars."""
    changed = replace(attempt, **fields)  # type: ignore[arg-type]
    return Step(changed, Effect.UPDATED if changed != attempt else Effect.REPEATED)


def wait(attempt: Attempt, waiting_for: WaitingFor, until: datetime | None, now: datetime) -> Step:
    """Writes down what it waits for. Time before a window of the plan does not begin the wait for a condition, and does
    not end it either."""
    since = attempt.waiting_since
    if waiting_for in CONDITIONS:
        since = since or now
    elif waiting_for is not WaitingFor.WINDOW:
        since = None
    return update(attempt, waiting_for=waiting_for, waiting_until=until, waiting_since=since)


def tell_why(attempt: Attempt, why: str | None, try_number: int) -> Attempt:
    """The device's own later word of why a try of it went bad, where the service could only infer it."""
    if why is None:
        return attempt
    if attempt.first_bad_why == UNSAID and attempt.first_bad_try == try_number:
        attempt = replace(attempt, first_bad_why=why)
        if attempt.harmed_why == UNSAID:
            attempt = replace(attempt, harmed_why=why)
    return attempt


def _tried_again(attempt: Attempt, state: State, reason: str | None) -> bool:
    """Whether what went bad so is tried again by itself."""
    if state not in RETRIED or attempt.try_number >= attempt.tries:
        return False
    if reason in ONCE_MORE:
        return attempt.try_number == 1
    return attempt.retry_bad or reason not in ENDURING


def count_bad(attempt: Attempt, why: str, now: datetime) -> Attempt:
    """Writes down when and why it first went bad: for good, and for the one of the two brakes that counts it."""
    if attempt.first_bad_at is None:
        attempt = replace(attempt, first_bad_at=now, first_bad_why=why, first_bad_try=attempt.try_number)
    if attempt.exposed and attempt.harmed_at is None:
        return replace(attempt, harmed_at=now, harmed_why=why)
    if not attempt.exposed and attempt.undelivered_at is None:
        return replace(attempt, undelivered_at=now, undelivered_why=why)
    return attempt
