"""What a rollout should do next. The conductor applies it; the tests and, later, the rehearsal run the same."""

import math
from dataclasses import dataclass, field
from datetime import datetime

from mellow_herald.core.brake import Reading
from mellow_herald.core.harm.waves import HarmProgress, Wave, used_up, wave_due
from mellow_herald.core.plan import Opens, Plan
from mellow_herald.core.rollout import Outcome, RingState, RolloutState
from mellow_herald.core.say import Asks, Say

# What a device that is set aside waits for when it is not a condition: it asked once and is not heard of any more.
GONE = "gone"
BY_HAND = "the plan opens it by hand"


@dataclass(frozen=True, slots=True)
class RingProgress:
    """Counts of one ring. ``undecided``: offered and still live, without those that wait for a condition too long.
    ``expected``: queued devices that have not asked since the ring opened but are not late yet. ``asked``: those that
    were offered or have called since it opened, without those that were called off, left out of later rounds, or bad in
    an earlier one. ``good``: those that are confirmed. ``soak_until``: the latest end of a confirmed device's soak; for
    one that was not heard since its soak should be over, the time at which it counts as silent. ``live``: all that are
    live, without those whose token two units use: nobody waits for them. ``bad``: those that were ever bad in this
    round. ``set_aside``: those that asked and hold the ring no longer, as they wait for a condition longer than the
    plan's ``wait_at_most``, or are gone; none of them was exposed or bad. ``stands_why``: what was last written down of
    why the ring stands still. ``anyway``: how many of it were bad when somebody said, in this round, that it is to go
    on all the same. ``asks`` and ``asks_why`` are what was last written down of what it asks of people."""

    state: RingState
    undecided: int = 0
    expected: int = 0
    asked: int = 0
    good: int = 0
    soak_until: datetime | None = None
    live: int = 0
    targeted: int = 0
    bad: int = 0
    set_aside: int = 0
    stands_why: str | None = None
    anyway: int | None = None
    asks: Asks | None = None
    asks_why: str | None = None


@dataclass(frozen=True, slots=True)
class Unheard:
    """An attempt offered … proving whose device last called at ``heard_at``."""

    attempt_id: int
    heard_at: datetime


@dataclass(frozen=True, slots=True)
class Progress:
    """A rollout as it stands. ``serving_since`` is when the service last began to serve without a gap, ``bad`` how many
    devices of this round were ever bad, ``at_risk`` how many are at risk now; ``go`` are the positions of the rings for
    which somebody said go; ``brakes`` what the brakes show; ``quiet`` are confirmed attempts in their soak whose device
    is not heard of; ``to_come`` devices of a rollback cannot be given their way back yet; ``harm`` is what is known
    where the plan has a harm budget, ``say`` what people have said."""

    state: RolloutState
    rings: tuple[RingProgress, ...]
    serving_since: datetime
    unheard: tuple[Unheard, ...] = field(default=())
    bad: int = 0
    at_risk: int = 0
    go: frozenset[int] = frozenset()
    brakes: tuple[Reading, ...] = ()
    quiet: tuple[Unheard, ...] = ()
    to_come: int = 0
    harm: HarmProgress = field(default_factory=HarmProgress)
    say: Say = field(default_factory=Say)


@dataclass(frozen=True, slots=True)
class Begin:
    """The time for which the rollout was scheduled has come."""


@dataclass(frozen=True, slots=True)
class OpenRing:
    """Give the ring's devices their attempts."""

    position: int


@dataclass(frozen=True, slots=True)
class AskForGo:
    """The ring's turn has come, but it waits for people; ``why`` says what keeps it from opening."""

    position: int
    why: str = BY_HAND
    asks: Asks = Asks.GO


@dataclass(frozen=True, slots=True)
class BeginSoak:
    """The ring is through; wait until its devices have run quietly."""

    position: int


@dataclass(frozen=True, slots=True)
class FinishRing:
    """The ring's soak is over."""

    position: int


@dataclass(frozen=True, slots=True)
class StandsStill:
    """Nothing in this ring moves by itself any more: ``why`` says so in words. A person has the choice."""

    position: int
    why: str


@dataclass(frozen=True, slots=True)
class MovesAgain:
    """The ring no longer stands still."""

    position: int


@dataclass(frozen=True, slots=True)
class BeginWave:
    """So many devices more may be given leave under the harm budget."""

    wave: Wave


@dataclass(frozen=True, slots=True)
class MarkSilent:
    """These attempts' devices did not call within ``answer_within``; ``quiet`` those of them that had confirmed."""

    attempts: tuple[int, ...]
    quiet: tuple[Unheard, ...] = ()


@dataclass(frozen=True, slots=True)
class Halt:
    """Stop: ``why`` says on what evidence."""

    why: str


@dataclass(frozen=True, slots=True)
class Finish:
    """There is nothing left to do, or no time to do it in."""

    why: str = "all rings are done"
    outcome: Outcome = Outcome.CARRIED_OUT


RingDecision = OpenRing | AskForGo | BeginSoak | FinishRing | StandsStill | MovesAgain
Decision = Begin | RingDecision | BeginWave | MarkSilent | Halt | Finish


def decide(plan: Plan, progress: Progress, now: datetime) -> list[Decision]:
    """The decisions that are due. Deterministic; once they are applied, the same call gives none of them again."""
    if progress.state is RolloutState.SCHEDULED:
        start = plan.calendar.start
        return [Begin()] if start is None or start <= now else []
    decisions: list[Decision] = []
    silent = tuple(one.attempt_id for one in _unheard_too_long(plan, progress, progress.unheard, now))
    quiet = _unheard_too_long(plan, progress, progress.quiet, now)
    if silent or quiet:
        decisions.append(MarkSilent(silent, quiet))
    if progress.state not in (RolloutState.RUNNING, RolloutState.HELD):
        return decisions
    halt = halt_due(plan, progress.brakes, progress.bad)
    if halt is not None:
        return [*decisions, halt]
    if progress.state is RolloutState.HELD:
        return decisions
    if is_over(plan, now):
        # Who is at risk must be decided first; nobody new is let in meanwhile.
        return decisions if progress.at_risk else [*decisions, Finish("its last day is over", Outcome.CUT_SHORT)]
    return decisions + _next_wave(plan, progress) + _next_step(plan, progress, now, silent=bool(silent or quiet))


def halt_due(plan: Plan, brakes: tuple[Reading, ...], bad: int) -> Halt | None:
    """The halt that is due because of what the brakes show, or of ``bad`` devices in this round; None if none is."""
    tipped = next((brake for brake in brakes if brake.halts), None)
    if tipped is not None:
        return Halt(tipped.summary([ring.name for ring in plan.rings]))
    stop = plan.brake.hard_stop
    if stop is not None and bad >= stop:
        return Halt(f"{bad} device{'s' if bad != 1 else ''} went bad, and the plan's hard_stop is {stop}")
    return None


def is_over(plan: Plan, now: datetime) -> bool:
    """Whether the plan's last day is over: nothing is offered or cleared any more."""
    return plan.calendar.ends is not None and plan.calendar.ends <= now


def _next_wave(plan: Plan, progress: Progress) -> list[Decision]:
    """The wave of the harm budget that begins now; only where somebody is there to be given leave."""
    asks = any(
        ring.state in (RingState.OPEN, RingState.SOAKING, RingState.DONE) and (ring.undecided or ring.expected)
        for ring in progress.rings
    )
    wave = wave_due(plan.harm, progress.harm) if plan.harm is not None and asks else None
    return [] if wave is None else [BeginWave(wave)]


def harm_stops(plan: Plan, harm: HarmProgress) -> str | None:
    """Why the harm budget gives nobody leave any more, in words; None while it does, or while devices that may free
    some of it are not decided yet."""
    budget = plan.harm
    if budget is None or not used_up(budget, harm) or (harm.at_risk if budget.sure else harm.devices.undecided):
        return None
    return f"its harm budget is used up: {harm.devices.bad} of at most {budget.at_most} devices were hurt"


def _next_step(plan: Plan, progress: Progress, now: datetime, *, silent: bool) -> list[Decision]:
    spent = harm_stops(plan, progress.harm)
    for position, (ring, planned) in enumerate(zip(progress.rings, plan.rings, strict=True)):
        match ring.state:
            case RingState.DONE:
                continue
            case RingState.CLOSED if planned.not_before is not None and planned.not_before > now:
                return []
            case RingState.CLOSED | RingState.AWAITING_GO:
                return _opening(plan, progress, position)
            case RingState.OPEN | RingState.SOAKING if not silent and spent is not None and ring.undecided:
                return _stands(position, ring, spent)
            case RingState.OPEN if not silent:
                return _on_from(plan, position, ring, BeginSoak(position))
            # Looked at again: who was good may have gone bad while the ring soaked.
            case RingState.SOAKING if not silent and ring.undecided == 0 and _soaked(ring, now):
                return _on_from(plan, position, ring, FinishRing(position))
        return []
    # Late comers of earlier rings may still be on their way: they are not cut off half-way.
    waited_for = sum(ring.live if plan.latecomers else ring.undecided for ring in progress.rings)
    # Nobody gives them leave: that is said, rather than waited out.
    last = next((n for n in reversed(range(len(progress.rings))) if progress.rings[n].undecided), None)
    if spent is not None and waited_for and last is not None and not progress.at_risk:
        return _stands(last, progress.rings[last], spent)
    soaking = any(ring.soak_until is not None and ring.soak_until > now for ring in progress.rings)
    return [] if waited_for or soaking or progress.at_risk or progress.to_come else [Finish()]


def _opening(plan: Plan, progress: Progress, position: int) -> list[Decision]:
    """Opens the ring whose turn has come, or says what it asks of people: an approval and a look at what was heard
    outside come before anything else, and before anybody's go."""
    ring, go = progress.rings[position], position in progress.go
    stuck = progress.say.stuck(position, plan.approval)
    if stuck is not None or ring.stands_why is not None:
        return _stands(position, ring, stuck) if stuck != ring.stands_why else []
    asks = progress.say.still_asks(position, plan.approval)
    if asks is None and not go:
        if ring.state is RingState.AWAITING_GO and ring.asks is Asks.GO:
            return []  # it has asked: what it asked for does not come about by itself
        if plan.rings[position].opens is Opens.BY_HAND:
            asks = Asks.GO, BY_HAND
        elif position and progress.at_risk:
            return []
        elif (doubt := _doubt(plan, progress, position)) is not None:
            asks = Asks.GO, doubt
    if asks is None:
        return [OpenRing(position)]
    return [] if asks == (ring.asks, ring.asks_why) else [AskForGo(position, asks[1], asks[0])]


def _on_from(plan: Plan, position: int, ring: RingProgress, step: BeginSoak | FinishRing) -> list[Decision]:
    """The ring's next step if it is through; or that it stands still, or no longer does, once each."""
    enough, least = plan.rings[position].enough, least_good(plan, position)
    if is_through(ring, enough, least):
        return [step]
    return _stands(position, ring, stands_still(ring, enough, least))


def _stands(position: int, ring: RingProgress, why: str | None) -> list[Decision]:
    """What is to be written down where a ring stands still for this reason, or (None) does not: once each."""
    if why == ring.stands_why:
        return []
    return [MovesAgain(position) if why is None else StandsStill(position, why)]


def _soaked(ring: RingProgress, now: datetime) -> bool:
    return ring.soak_until is None or ring.soak_until <= now


def _doubt(plan: Plan, progress: Progress, position: int) -> str | None:
    """What speaks against opening a ring further out by itself: that needs good news, not just no bad news."""
    if position == 0:
        return None
    near = next((brake for brake in progress.brakes if brake.near), None)
    if near is not None:
        return f"a brake is near: {near.summary([ring.name for ring in plan.rings])}"
    before, name = progress.rings[position - 1], plan.rings[position - 1].name
    # Who let that ring go on all the same has seen how few are good.
    if before.targeted and before.good < plan.brake.min_good and before.anyway is None:
        return f"ring {name} has {before.good} good devices, and the plan's min_good is {plan.brake.min_good}"
    return None


def least_good(plan: Plan, position: int) -> int:
    """How many good devices a ring needs at the least: the plan's ``min_good``, which lets the next ring open, and so
    asks nothing of the last."""
    return max(1, plan.brake.min_good) if position < len(plan.rings) - 1 else 1


def is_through(ring: RingProgress, enough: float, least: int = 1) -> bool:
    """Whether a ring may go on: all who count are decided, nobody who should still call soon is left, and of those who
    asked at least the share ``enough`` is good, ``least`` at the least, with not too many set aside; or a person said
    that it is to go on all the same, and nobody went bad since."""
    if ring.undecided or ring.expected:
        return False
    if ring.anyway is not None and ring.bad <= ring.anyway:
        return True
    if not ring.asked:
        # Nobody asked: that is through only if there is nobody left who could.
        return enough == 0 or ring.live == 0
    if enough == 0:
        return True
    return not _too_many_aside(ring, enough) and ring.good >= max(least, wanted(enough, ring.asked))


def stands_still(ring: RingProgress, enough: float, least: int = 1) -> str | None:
    """Why a ring cannot become through by itself, in words; None if it can, or is."""
    if ring.undecided or ring.expected or is_through(ring, enough, least):
        return None
    if _too_many_aside(ring, enough):
        return (
            f"{ring.set_aside} of {ring.asked + ring.set_aside} devices that asked are set aside, and the plan wants "
            f"{100 * enough:g} % (enough) of them"
        )
    if not ring.asked:
        return f"none of its {ring.live} devices has called since it opened"
    if ring.good and ring.good >= wanted(enough, ring.asked):
        return f"{ring.good} of {ring.asked} devices are good, and the plan wants {least} (min_good)"
    share = f"{100 * enough:g} %" if wanted(enough, ring.asked) > 1 else "one at the least"
    return f"{ring.good} of {ring.asked} devices are good, and the plan wants {share} (enough)"


def _too_many_aside(ring: RingProgress, enough: float) -> bool:
    return ring.asked < wanted(enough, ring.asked + ring.set_aside)


def wanted(enough: float, devices: int) -> int:
    """The least number of devices that is the share ``enough`` of them: 9 of 10 are 90 %, whatever binary fractions
    make of it."""
    return math.ceil(enough * devices - 1e-9)


def _unheard_too_long(
    plan: Plan, progress: Progress, unheard: tuple[Unheard, ...], now: datetime
) -> tuple[Unheard, ...]:
    # While the service itself was away nobody could call: the clock of answer_within starts anew after a gap.
    return tuple(one for one in unheard if now - max(one.heard_at, progress.serving_since) > plan.answer_within)
