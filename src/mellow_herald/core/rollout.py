"""Kinds and states of a rollout, states of its rings, and which moves there are."""

from enum import StrEnum


class RolloutState(StrEnum):
    """Where a rollout stands."""

    DRAFT = "draft"
    SCHEDULED = "scheduled"
    RUNNING = "running"
    HELD = "held"
    HALTED = "halted"
    FINISHED = "finished"
    CANCELLED = "cancelled"


class RolloutKind(StrEnum):
    """What a rollout is for: a release brought to devices, devices brought back, or one device's two slots swapped."""

    FORWARD = "forward"
    ROLLBACK = "rollback"
    SWAP = "swap"


class RingState(StrEnum):
    """Where a ring stands."""

    CLOSED = "closed"
    AWAITING_GO = "awaiting-go"
    OPEN = "open"
    SOAKING = "soaking"
    DONE = "done"


class Outcome(StrEnum):
    """What a rollout came to; it stands beside the state for good."""

    CARRIED_OUT = "carried-out"
    HALTED = "halted"
    ROLLED_BACK = "rolled-back"
    CUT_SHORT = "cut-short"


ENDED = frozenset({RolloutState.FINISHED, RolloutState.CANCELLED})
MOVES: dict[RolloutState, frozenset[RolloutState]] = {
    RolloutState.DRAFT: frozenset({RolloutState.SCHEDULED, RolloutState.RUNNING, RolloutState.CANCELLED}),
    RolloutState.SCHEDULED: frozenset({RolloutState.RUNNING, RolloutState.CANCELLED}),
    RolloutState.RUNNING: frozenset(
        {RolloutState.HELD, RolloutState.HALTED, RolloutState.FINISHED, RolloutState.CANCELLED}
    ),
    RolloutState.HELD: frozenset({RolloutState.RUNNING, RolloutState.HALTED, RolloutState.CANCELLED}),
    RolloutState.HALTED: frozenset({RolloutState.RUNNING, RolloutState.FINISHED, RolloutState.CANCELLED}),
    RolloutState.FINISHED: frozenset(),
    RolloutState.CANCELLED: frozenset(),
}


def may_move(now: RolloutState, to: RolloutState) -> bool:
    """Whether a rollout may go from one state to another."""
    return to in MOVES[now]
