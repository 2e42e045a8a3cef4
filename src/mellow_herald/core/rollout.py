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


def choices(
    state: RolloutState, kind: RolloutKind, rollout_id: int, at_risk: int, *, asking: str | None = None
) -> list[str]:
    """What somebody can do next about a rollout that stands still, each with its command; none while it runs by
    itself. ``asking`` is the ring that awaits go."""
    command = f"herald rollout {{}} {rollout_id}"
    if state is RolloutState.RUNNING and asking is not None:
        return [
            f"let ring {asking} open: {command.format('go')}",
            f"give nothing out for now: {command.format('hold')}",
            f"stop: {command.format('halt')}",
        ]
    if state is RolloutState.HELD:
        return [f"go on: {command.format('resume')}", f"stop: {command.format('halt')}"]
    if state is not RolloutState.HALTED:
        return []
    found = [
        f"see what failing devices have in common: {command.format('suspects')}",
        f"go on in a new round, without some of them: {command.format('resume')} --except SELECTOR",
    ]
    if kind is RolloutKind.FORWARD:
        found.insert(1, f"bring its devices back to what they came from: {command.format('rollback')}")
    if at_risk:
        return [f"wait: {at_risk} devices are at risk until they are decided", *found]
    return [*found, f"end it as it stands: {command.format('cancel')}"]
