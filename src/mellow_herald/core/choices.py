"""What somebody can do next about a rollout that does not move by itself."""

import math
from dataclasses import dataclass
from enum import StrEnum

from mellow_herald.core.rollout import RolloutKind, RolloutState
from mellow_herald.core.say import Asks


class Do(StrEnum):
    """What can be done."""

    FAILURES = "failures"
    SUSPECTS = "suspects"
    RETRY = "retry"
    GO = "go"
    LEAVE_OUT = "leave-out"
    ENOUGH = "enough"
    BUDGET = "budget"
    APPROVE = "approve"
    EVIDENCE = "evidence"
    CHOOSE = "choose"
    HOLD = "hold"
    RESUME = "resume"
    HALT = "halt"
    ROLL_BACK = "roll-back"
    CANCEL = "cancel"
    WAIT = "wait"


@dataclass(frozen=True, slots=True)
class Choice:
    """One way on: what it does in ``words``, its ``command`` (None for waiting), and how many ``devices`` it touches,
    where that is known."""

    do: Do
    words: str
    command: str | None = None
    devices: int | None = None


@dataclass(frozen=True, slots=True)
class Standing:
    """A ring that stands still: of ``asked`` devices ``good`` are; ``bad`` could be given one more try, ``in_the_way``
    are neither good nor out of it; ``aside`` hold no ring; ``next_devices`` come next if it goes on all the same.
    ``spent`` is the harm budget that is used up, None where that is not why it stands still; ``closed``: it is not open
    yet, and nobody is left who could let it."""

    ring: str
    asked: int
    good: int
    bad: int
    in_the_way: int
    aside: int
    next_devices: int
    spent: int | None = None
    closed: bool = False

    @property
    def lower(self) -> float | None:
        """The share (0–1) that the ring would be through with, None where none is lower than now, or nobody is good."""
        if not self.good:
            return None
        return math.floor(100 * min(self.good / self.asked, self.asked / (self.asked + self.aside))) / 100


@dataclass(frozen=True, slots=True)
class Situation:
    """A rollout as it stands; ``asking`` is the ring that asks something of people, with its devices and what it asks,
    ``standing`` the one that stands still; ``compares``: of two releases none is chosen yet."""

    rollout_id: int
    state: RolloutState
    kind: RolloutKind
    live: int
    at_risk: int
    called_off: int = 0
    exposed: int = 0
    ever_bad: int = 0
    asking: tuple[str, int, Asks] | None = None
    standing: Standing | None = None
    compares: bool = False


def choices(now: Situation) -> list[Choice]:
    """What can be done next, the likeliest first; nothing while it moves by itself."""
    command = f"herald rollout {{}} {now.rollout_id}"
    halt = Choice(Do.HALT, "stop: what has no clearance yet is called off", command.format("halt"), now.live)
    cancel = Choice(Do.CANCEL, "end it as it stands", command.format("cancel"), now.live)
    failures = Choice(Do.FAILURES, "see who failed, why, and their logs", command.format("failures"), now.ever_bad)
    if now.state is RolloutState.RUNNING and now.standing is not None:
        if now.standing.closed:
            return [halt, cancel]
        return [failures, *_of_standing(now.standing, command), halt, cancel]
    if now.state is RolloutState.RUNNING and now.asking is not None:
        ring, devices, asks = now.asking
        first = {
            Asks.CHOICE: _choose(now, command, devices),
            Asks.GO: Choice(Do.GO, f"let ring {ring} open", command.format("go"), devices),
            Asks.APPROVAL: Choice(
                Do.APPROVE, f"see what there is, and approve of ring {ring}", command.format("approve"), devices
            ),
            Asks.EVIDENCE: Choice(
                Do.EVIDENCE, "look at what was heard outside, and acknowledge it", command.format("evidence list")
            ),
        }
        return [
            first[asks],
            Choice(Do.HOLD, "give nothing out for now", command.format("hold"), now.live),
            halt,
        ]
    if now.state is RolloutState.HELD:
        return [Choice(Do.RESUME, "go on", command.format("resume"), now.live), halt]
    return _of_halted(now, command, failures, cancel) if now.state is RolloutState.HALTED else []


def _choose(now: Situation, command: str, devices: int) -> Choice:
    words = "see both releases side by side, and choose one for the rest"
    return Choice(Do.CHOOSE, words, command.format("compare"), devices)


def _of_standing(ring: Standing, command: str) -> list[Choice]:
    if ring.spent is not None:
        words = "allow more harm; so many devices wait for leave"
        return [Choice(Do.BUDGET, words, f"{command.format('edit')} --harm-at-most {2 * ring.spent}", ring.in_the_way)]
    found = []
    if ring.bad:
        words = f"give the bad devices of ring {ring.ring} one more try"
        found.append(Choice(Do.RETRY, words, f"{command.format('retry')} --all-bad", ring.bad))
    words = f"let ring {ring.ring} go on all the same; so many devices come next"
    found.append(Choice(Do.GO, words, command.format("go"), ring.next_devices))
    if ring.in_the_way:
        words = f"go on without the devices of ring {ring.ring} that are not good"
        found.append(Choice(Do.LEAVE_OUT, words, command.format("leave-out"), ring.in_the_way))
    if ring.lower is not None:
        words = f"ask less of ring {ring.ring}: {100 * ring.lower:g} %"
        found.append(Choice(Do.ENOUGH, words, f"{command.format('edit')} --enough {ring.lower:g}", ring.asked))
    return found


def _of_halted(now: Situation, command: str, failures: Choice, cancel: Choice) -> list[Choice]:
    found = [
        failures,
        Choice(Do.SUSPECTS, "see what failing devices have in common", command.format("suspects")),
        Choice(
            Do.RESUME,
            "go on in a new round, without some of them",
            f"{command.format('resume')} --except SELECTOR",
            now.called_off,
        ),
    ]
    if now.kind is RolloutKind.FORWARD:
        words = "bring its devices back to what they came from"
        found.insert(2, Choice(Do.ROLL_BACK, words, command.format("rollback"), now.exposed))
    if now.compares:
        found.insert(1, _choose(now, command, now.called_off))
    if now.at_risk:
        return [Choice(Do.WAIT, "wait: they are at risk until they are decided", None, now.at_risk), *found]
    return [*found, cancel]
