"""The order a device gets: always computed from the present, never remembered."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum

from mellow_herald.core.attempt import (
    Attempt,
    CallOff,
    Clear,
    Effect,
    Event,
    Offer,
    Refusal,
    Runs,
    StandbyHolds,
    StandbyLost,
    State,
    StayedOld,
    TryAgain,
    Wait,
    WaitingFor,
    advance,
)
from mellow_herald.core.rollout import RolloutState

CLEARANCE = timedelta(seconds=600)
# A device that staged its images had all of them, in %.
STAGED_WHOLLY = 100
# From this updater on, orders to switch say to what, and a device that confirms names what it runs.
NAMES_IMAGES = 2


class Order(StrEnum):
    """What the service may tell a device."""

    FETCH = "fetch"
    SWITCH = "switch"
    SWITCH_BACK = "switch-back"
    ABANDON = "abandon"
    STAY = "stay"


class Standby(StrEnum):
    """What stands by of all that a device does not run yet."""

    HOLDS = "holds"  # the image of the attempt
    OTHER = "other"  # something else
    UNSAID = "unsaid"


Missing = tuple[WaitingFor, datetime | None] | None


@dataclass(frozen=True, slots=True)
class Situation:
    """What the device's call shows: whether it is a check-in (only those are offered anything or given clearance),
    whether it could switch now (``ready``), what it ``runs`` and what stands by, and the protocol of its ``updater``.
    ``missing`` are what it waits for before it may download and before it may switch, as ``core.needs.missing`` and the
    plan's windows say; ``room`` tells whether the pace lets one more download, and be at risk. Where the device is
    brought ``back`` to what it came from, ``fetchable`` tells whether there is a release to fetch it from where no slot
    holds it any more; ``again`` is where the release is what it came from already. ``clearance`` is how long leave to
    switch holds: longer than it takes until the device hears again."""

    check_in: bool
    ready: bool = False
    runs: Runs = Runs.FORMER
    standby: Standby = Standby.UNSAID
    updater: int = NAMES_IMAGES
    missing_to_fetch: Missing = None
    missing_to_switch: Missing = None
    room_to_fetch: bool = True
    room_to_switch: bool = True
    back: bool = False
    again: bool = False
    fetchable: bool = True
    clearance: timedelta = CLEARANCE

    @property
    def may_switch(self) -> bool:
        """Whether it may be told to switch at all: it does not run the target, and does not have something else
        standing by. Updater 1 switches to whatever stands by, so that has to be said, and be the target."""
        runs_it = self.runs is Runs.TARGET and not self.again
        if self.updater < NAMES_IMAGES:
            return not runs_it and self.runs is not Runs.UNREADABLE and self.standby is Standby.HOLDS
        return not runs_it and self.standby is not Standby.OTHER


@dataclass(frozen=True, slots=True)
class Answer:
    """The order that now stands (None: nothing new), the attempt as it is then, and the events that led there."""

    order: Order | None
    attempt: Attempt
    events: tuple[Event, ...] = ()


def may_be_cleared(rollout: RolloutState, situation: Situation) -> bool:
    """Whether ``answer`` may need a clearance number; the caller draws it under the rollout's gate."""
    able = situation.check_in and situation.ready and situation.missing_to_switch is None
    return rollout is RolloutState.RUNNING and able and situation.may_switch


def answer(
    attempt: Attempt, rollout: RolloutState, situation: Situation, now: datetime, numbers: Iterator[int]
) -> Answer:
    """The order for a device whose call shows ``situation``, in a rollout that stands at ``rollout``. What it runs has
    been settled before (``core.attempt.Shown``).

    ``numbers`` yields clearance numbers drawn under the gate; it is used only where ``may_be_cleared`` says so.
    """
    follow = _Following(attempt, now)
    order = _order(follow, rollout, situation, now, numbers)
    return Answer(order, follow.attempt, tuple(follow.events))


class _Following:
    """An attempt and the events that were applied to it."""

    def __init__(self, attempt: Attempt, now: datetime) -> None:
        self.attempt, self.now = attempt, now
        self.events: list[Event] = []

    def apply(self, event: Event) -> None:
        outcome = advance(self.attempt, event, self.now)
        if not isinstance(outcome, Refusal) and outcome.effect is not Effect.REPEATED:
            self.attempt = outcome.attempt
            self.events.append(event)


def _knows_it(attempt: Attempt) -> bool:
    """Whether the device was told to fetch what stands by, or had it staged for this attempt: what came into the slot
    otherwise, it has no manifest for, and could but refuse to switch to."""
    return attempt.state is not State.QUEUED or attempt.fetched >= STAGED_WHOLLY


def _order(
    follow: _Following, rollout: RolloutState, shown: Situation, now: datetime, numbers: Iterator[int]
) -> Order | None:
    stayed = shown.check_in and shown.runs is not Runs.UNREADABLE
    if rollout is RolloutState.HALTED and follow.attempt.live:
        follow.apply(StayedOld(halted=True) if stayed else CallOff("halted"))
        follow.apply(CallOff("halted"))
    if follow.attempt.state is State.CALLED_OFF:
        # What stands by on a way back is what the device came from: it stays there.
        drop = shown.standby is Standby.HOLDS and not shown.back
        return Order.ABANDON if drop or not shown.check_in else None
    if not follow.attempt.live or rollout not in (RolloutState.RUNNING, RolloutState.HELD):
        return None
    running = rollout is RolloutState.RUNNING
    if stayed:
        follow.apply(StayedOld(halted=False))
    if running and follow.attempt.may_retry:
        follow.apply(TryAgain())
    if shown.check_in and running:
        if shown.standby is Standby.HOLDS and (shown.back or _knows_it(follow.attempt)):
            follow.apply(StandbyHolds())
        elif shown.standby is Standby.OTHER:
            follow.apply(StandbyLost())
    switch = Order.SWITCH_BACK if shown.back and shown.standby is Standby.HOLDS else Order.SWITCH
    if follow.attempt.state is State.QUEUED and running and shown.check_in and not shown.fetchable:
        follow.apply(CallOff("image-gone"))
        return None
    match follow.attempt.state:
        case State.QUEUED if running and not shown.check_in:
            return None
        case State.QUEUED if running and shown.missing_to_fetch is not None:
            follow.apply(Wait(*shown.missing_to_fetch))
        case State.QUEUED if running and not shown.room_to_fetch:
            follow.apply(Wait(WaitingFor.PACE))
        case State.QUEUED | State.OFFERED | State.DOWNLOADING if running:
            follow.apply(Offer())
            return Order.FETCH
        case State.STAGED if may_be_cleared(rollout, shown) and shown.room_to_switch:
            follow.apply(Clear(next(numbers), now + shown.clearance))
            return switch
        case State.STAGED:
            if shown.check_in:
                found = shown.missing_to_switch or (None if shown.ready else (WaitingFor.DEVICE_BUSY, None))
                if found is None and running and not shown.room_to_switch:
                    found = (WaitingFor.PACE, None)
                follow.apply(Wait(*(found or (WaitingFor.NEXT_CHECK_IN, None))))
            return Order.STAY
        case State.CLEARED if may_be_cleared(rollout, shown):
            # Its answer got lost: the clearance it has still stands, with the time that is left.
            return switch
        case State.CLEARED if not running:
            return Order.STAY
    return None
