"""What can happen to an attempt."""

from dataclasses import dataclass
from datetime import datetime

from mellow_herald.core.attempt.running import Runs, Shown
from mellow_herald.core.attempt.states import DownloadStep, State, WaitingFor


@dataclass(frozen=True, slots=True)
class Report:
    """A device's word about one try. ``rate`` is bytes per second; ``other_live`` tells whether the device has
    another live attempt by now. ``names`` is what the digests are that a ``confirmed`` names, None where it names none.
    ``shown`` is the newest check-in, if the report was made before it: what the device ran then decides. A report that
    does not ``count`` is of a token that two units use: it is kept, and moves nothing. ``clearance`` is the number of
    the leave by which it switches, None if it names none."""

    state: State
    boots: int
    seq: int
    try_number: int = 1
    reason: str | None = None
    step: DownloadStep | None = None
    percent: int | None = None
    rate: int | None = None
    other_live: bool = False
    names: Runs | None = None
    shown: Shown | None = None
    back: bool = False
    counts: bool = True
    clearance: int | None = None


@dataclass(frozen=True, slots=True)
class Offer:
    """The service tells the device to fetch."""


@dataclass(frozen=True, slots=True)
class StandbyHolds:
    """The device said that its standby slot holds the image already."""


@dataclass(frozen=True, slots=True)
class StandbyLost:
    """The device said that its standby slot holds something else by now."""


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
class Close:
    """The rollout has ended: nothing can move the attempt any more."""


Event = (
    Report
    | Shown
    | Offer
    | StandbyHolds
    | StandbyLost
    | Wait
    | Clear
    | StayedOld
    | Silence
    | CallOff
    | TryAgain
    | OneMore
    | EndTries
    | Resume
    | Relapse
    | RolledBack
    | Close
)
