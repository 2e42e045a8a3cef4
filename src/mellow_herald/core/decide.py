"""What a rollout should do next. The conductor applies it; the tests and, later, the rehearsal run the same."""

from dataclasses import dataclass, field
from datetime import datetime

from mellow_herald.core.plan import Plan
from mellow_herald.core.rollout import RingState, RolloutState


@dataclass(frozen=True, slots=True)
class RingProgress:
    """Counts of one ring. ``undecided``: offered and still live. ``expected``: queued devices that have not
    asked since the ring opened but are not late yet. ``asked``: those that were offered or have called since
    it opened. ``soak_until``: the latest end of a confirmed device's soak."""

    state: RingState
    undecided: int = 0
    expected: int = 0
    asked: int = 0
    good: int = 0
    soak_until: datetime | None = None


@dataclass(frozen=True, slots=True)
class Unheard:
    """An attempt offered … proving whose device last called at ``heard_at``."""

    attempt_id: int
    heard_at: datetime


@dataclass(frozen=True, slots=True)
class Progress:
    """A rollout as it stands. ``serving_since`` is when the service last began to serve without a gap."""

    state: RolloutState
    rings: tuple[RingProgress, ...]
    serving_since: datetime
    unheard: tuple[Unheard, ...] = field(default=())


@dataclass(frozen=True, slots=True)
class OpenRing:
    """Give the ring's devices their attempts."""

    position: int


@dataclass(frozen=True, slots=True)
class BeginSoak:
    """The ring is through; wait until its devices have run quietly."""

    position: int


@dataclass(frozen=True, slots=True)
class FinishRing:
    """The ring's soak is over."""

    position: int


@dataclass(frozen=True, slots=True)
class MarkSilent:
    """These attempts' devices did not call within ``answer_within``."""

    attempts: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Finish:
    """All rings are done."""


Decision = OpenRing | BeginSoak | FinishRing | MarkSilent | Finish


def decide(plan: Plan, progress: Progress, now: datetime) -> list[Decision]:
    """The decisions that are due. Deterministic; once they are applied, the same call gives none of them again."""
    decisions: list[Decision] = []
    silent = _silent(plan, progress, now)
    if silent:
        decisions.append(MarkSilent(silent))
    if progress.state is not RolloutState.RUNNING:
        return decisions
    for position, (ring, planned) in enumerate(zip(progress.rings, plan.rings, strict=True)):
        match ring.state:
            case RingState.DONE:
                continue
            case RingState.CLOSED:
                decisions.append(OpenRing(position))
            case RingState.OPEN if not silent and is_through(ring, planned.enough):
                decisions.append(BeginSoak(position))
            case RingState.SOAKING if ring.undecided == 0 and (ring.soak_until is None or ring.soak_until <= now):
                decisions.append(FinishRing(position))
        return decisions
    decisions.append(Finish())
    return decisions


def is_through(ring: RingProgress, enough: float) -> bool:
    """Whether a ring may begin to soak: all who were offered are decided, nobody who should still call soon is
    left, and at least the share ``enough`` of those who asked are good."""
    return ring.undecided == 0 and ring.expected == 0 and ring.good >= enough * ring.asked


def _silent(plan: Plan, progress: Progress, now: datetime) -> tuple[int, ...]:
    # While the service itself was away nobody could call: the clock of answer_within starts anew after a gap.
    return tuple(
        one.attempt_id
        for one in progress.unheard
        if now - max(one.heard_at, progress.serving_since) > plan.answer_within
    )
