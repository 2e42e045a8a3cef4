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
    RunsAlready,
    StandbyHolds,
    State,
    StayedOld,
    TryAgain,
    Wait,
    WaitingFor,
    advance,
)
from mellow_herald.core.rollout import RolloutState

CLEARANCE = timedelta(seconds=600)


class Order(StrEnum):
    """What the service may tell a device."""

    FETCH = "fetch"
    SWITCH = "switch"
    SWITCH_BACK = "switch-back"
    ABANDON = "abandon"
    STAY = "stay"


Missing = tuple[WaitingFor, datetime | None] | None


@dataclass(frozen=True, slots=True)
class Word:
    """What the device's call shows: whether it could switch now, whether its standby slot holds the image of the
    attempt, and whether it is a check-in (only those are offered anything or given clearance). ``missing`` are what it
    waits for before it may download and before it may switch, as ``core.needs.missing`` and the plan's windows say;
    ``room`` tells whether the pace lets one more download, and be at risk. Where the device is brought ``back`` to what
    it came from, ``runs_already`` tells whether it runs that, and ``fetchable`` whether there is a release to fetch
    it from where no slot holds it any more."""

    check_in: bool
    ready: bool = False
    standby_holds: bool = False
    missing_to_fetch: Missing = None
    missing_to_switch: Missing = None
    room_to_fetch: bool = True
    room_to_switch: bool = True
    back: bool = False
    fetchable: bool = True
    runs_already: bool = False


@dataclass(frozen=True, slots=True)
class Answer:
    """The order that now stands (None: nothing new), the attempt as it is then, and the events that led there."""

    order: Order | None
    attempt: Attempt
    events: tuple[Event, ...] = ()


def may_be_cleared(rollout: RolloutState, word: Word) -> bool:
    """Whether ``answer`` may need a clearance number; the caller draws it under the rollout's gate."""
    return rollout is RolloutState.RUNNING and word.check_in and word.ready and word.missing_to_switch is None


def answer(attempt: Attempt, rollout: RolloutState, word: Word, now: datetime, numbers: Iterator[int]) -> Answer:
    """The order for a device whose call shows ``word``, in a rollout that stands at ``rollout``.

    ``numbers`` yields clearance numbers drawn under the gate; it is used only where ``may_be_cleared`` says so.
    """
    follow = _Following(attempt, now)
    order = _order(follow, rollout, word, now, numbers)
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


def _order(
    follow: _Following, rollout: RolloutState, word: Word, now: datetime, numbers: Iterator[int]
) -> Order | None:
    if rollout is RolloutState.HALTED and follow.attempt.live:
        follow.apply(StayedOld(halted=True) if word.check_in else CallOff("halted"))
        follow.apply(CallOff("halted"))
    if follow.attempt.state is State.CALLED_OFF:
        # What stands by on a way back is what the device came from: it stays there.
        drop = word.standby_holds and not word.back
        return Order.ABANDON if drop or not word.check_in else None
    if not follow.attempt.live or rollout not in (RolloutState.RUNNING, RolloutState.HELD):
        return None
    running = rollout is RolloutState.RUNNING
    if word.check_in:
        follow.apply(StayedOld(halted=False))
    if word.runs_already and word.check_in:
        follow.apply(RunsAlready())
        if follow.attempt.state is State.CONFIRMED:
            return None
    if running and follow.attempt.may_retry:
        follow.apply(TryAgain())
    if word.standby_holds and word.check_in and running:
        follow.apply(StandbyHolds())
    switch = Order.SWITCH_BACK if word.back and word.standby_holds else Order.SWITCH
    if follow.attempt.state is State.QUEUED and running and word.check_in and not word.fetchable:
        follow.apply(CallOff("image-gone"))
        return None
    match follow.attempt.state:
        case State.QUEUED if running and not word.check_in:
            return None
        case State.QUEUED if running and word.missing_to_fetch is not None:
            follow.apply(Wait(*word.missing_to_fetch))
        case State.QUEUED if running and not word.room_to_fetch:
            follow.apply(Wait(WaitingFor.PACE))
        case State.QUEUED | State.OFFERED | State.DOWNLOADING if running:
            follow.apply(Offer())
            return Order.FETCH
        case State.STAGED if may_be_cleared(rollout, word) and word.room_to_switch:
            follow.apply(Clear(next(numbers), now + CLEARANCE))
            return switch
        case State.STAGED:
            if word.check_in:
                found = word.missing_to_switch or (None if word.ready else (WaitingFor.DEVICE_BUSY, None))
                if found is None and running and not word.room_to_switch:
                    found = (WaitingFor.PACE, None)
                follow.apply(Wait(*(found or (WaitingFor.NEXT_CHECK_IN, None))))
            return Order.STAY
        case State.CLEARED if may_be_cleared(rollout, word):
            # Its answer got lost: the clearance it has still stands, with the time that is left.
            return switch
        case State.CLEARED if not running:
            return Order.STAY
    return None
