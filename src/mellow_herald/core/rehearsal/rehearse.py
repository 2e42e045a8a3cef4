"""A rehearsal: many runs for each fault, and what would make it faster or gentler."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

import numpy as np

from mellow_herald.core.brake import Watch
from mellow_herald.core.foresight import DAYS, Flags
from mellow_herald.core.plan import Pace, Plan
from mellow_herald.core.rehearsal.answers import Answer, Tale, answer, tell
from mellow_herald.core.rehearsal.faults import Fault
from mellow_herald.core.rehearsal.fleet import Fleet, Week
from mellow_herald.core.rehearsal.passage import Setting, alike
from mellow_herald.core.rehearsal.play import Run

# What a change of the plan does is looked at in fewer runs.
LEVER_RUNS = 24
# Beyond so long no run is followed.
LONGEST = timedelta(days=60)
ENOUGH = 400_000
# Less than that many hours sooner is not worth telling.
SHORTEST = 0.05


@dataclass(frozen=True, slots=True)
class Ask:
    """What is to be rehearsed: a plan, on a fleet, from ``now`` on; ``size`` bytes for each device; each of ``faults``
    with whom it can strike (None: no fault); in so many ``runs``, from ``seed`` on. People say go, or approve, after
    ``people`` hours; the service looks at its rollouts every ``turn`` hours."""

    plan: Plan
    fleet: Fleet
    watch: Watch
    now: datetime
    size: int
    faults: Sequence[tuple[Fault | None, Flags | None]]
    runs: int = 200
    seed: int = 1
    people: float = 0.0
    turn: float = 0.0


class Tables:
    """The hours in which each device can be served, by plan: what all runs of a rehearsal share."""

    def __init__(self, ask: Ask) -> None:
        self._ask = ask
        self._week = Week(ask.fleet, ask.plan, ask.now)

    def of(self, plan: Plan) -> Week:
        """Those of a plan; kept for the one that is rehearsed, and for what is changed of it made anew."""
        return self._week if plan is self._ask.plan else Week(self._ask.fleet, plan, self._ask.now)


@dataclass(frozen=True, slots=True)
class Lever:
    """What a change of one of the plan's keys would do: hours sooner that all would be done without a fault, devices
    spared of the first fault (None where none is rehearsed, or it may be chance)."""

    key: str
    words: str
    sooner: float
    spared: float | None


@dataclass(frozen=True, slots=True)
class Rehearsed:
    """Answers in the order of the faults, the levers that help most, and the hours that were looked at."""

    answers: tuple[Answer, ...]
    levers: tuple[Lever, ...]
    horizon: float


def rehearse(ask: Ask, progress: Callable[[float], None] = lambda _: None, *, levers: bool = True) -> Rehearsed:
    """Plays all runs, and with ``levers`` those of changed plans; ``progress`` is told the share (0–1) that is done."""
    devices = _devices(ask.plan, ask.fleet)
    changes = list(_changes(ask.plan)) if levers else []
    share = len(ask.faults) * ask.runs + len(changes) * LEVER_RUNS * 2
    done = 0
    told: list[list[Tale]] = []
    tables = Tables(ask)
    horizon = _horizon(tables, ask)
    for fault, struck in ask.faults:
        tales = []
        for tale in _runs(tables, ask, ask.plan, fault, struck, ask.runs, horizon):
            tales.append(tale)
            done += 1
            progress(done / share)
        told.append(tales)
    answers = tuple(answer(tales, devices, horizon) for tales in told)
    found: list[tuple[Lever, float]] = []
    fault, struck = next(((fault, who) for fault, who in ask.faults if fault is not None), (None, None))
    few = [tales[:LEVER_RUNS] for tales in told]
    first_fault = next((n for n, (one, _) in enumerate(ask.faults) if one is not None), None)
    good = next((n for n, (one, _) in enumerate(ask.faults) if one is None), None)
    usual = few[good] if good is not None else list(_runs(tables, ask, ask.plan, None, None, LEVER_RUNS, horizon))
    for key, words, changed in changes:
        quicker = list(_runs(tables, ask, changed, None, None, LEVER_RUNS, horizon))
        sooner = _median(usual, horizon) - _median(quicker, horizon)
        spared, chance = None, 0.0
        if fault is not None and first_fault is not None:
            gentler = list(_runs(tables, ask, changed, fault, struck, LEVER_RUNS, horizon))
            spared = _hurt(few[first_fault]) - _hurt(gentler)
            chance = _error(few[first_fault], gentler)
        found.append((Lever(key, words, sooner, spared), chance))
        done += 2 * LEVER_RUNS
        progress(done / share)
    progress(1.0)
    return Rehearsed(answers, tuple(_best(found)), horizon)


def _devices(plan: Plan, fleet: Fleet) -> list[int]:
    return np.bincount(fleet.ring, minlength=len(plan.rings)).tolist() if fleet.size else [0] * len(plan.rings)


def _horizon(tables: Tables, ask: Ask) -> float:
    """Until when runs are looked at: a little longer than nearly all of a few take without a fault."""
    longest = LONGEST.total_seconds() / 3600
    ends = []
    for tale in _runs(tables, ask, ask.plan, None, None, 12, longest):
        last = [time for time in (*tale.ends, *tale.opens) if np.isfinite(time)]
        ends.append(tale.ended if np.isfinite(tale.ended) else max(last, default=0.0) + 24)
    slow = max((fault.after.total_seconds() / 3600 for fault, _ in ask.faults if fault and fault.after), default=0.0)
    return float(min(longest, max(1.0, 1.25 * max(ends) + slow)))


def _runs(
    tables: Tables, ask: Ask, plan: Plan, fault: Fault | None, struck: Flags | None, runs: int, horizon: float
) -> Iterator[Tale]:
    """So many runs; each begins in the device's last week on another day."""
    fleet, devices = ask.fleet, _devices(plan, ask.fleet)
    rings = [np.flatnonzero(fleet.ring == position) for position in range(len(plan.rings))]
    names = [name for name in ask.watch.foreseen if name in fleet.facts]
    groups = [alike(fleet.facts, names, some) for some in rings]
    # Many devices make up for few days: each takes its time to look at.
    days = min(DAYS, runs, max(2, ENOUGH // max(1, fleet.size)))
    week = tables.of(plan)
    for shift in range(days):
        hours = week.begun(shift)
        setting = Setting(
            plan, fleet, hours, ask.watch, ask.now, ask.size, fault, struck, ask.people, ask.turn, rings, groups
        )
        for number in range(shift, runs, days):
            course = Run(setting, np.random.default_rng((ask.seed, number))).play()
            yield tell(course, devices, ask.size, horizon, week.blocked)


def _changes(plan: Plan) -> Iterator[tuple[str, str, Plan]]:
    """One key changed at a time: towards less time, and towards less harm."""
    rings = plan.rings
    if any(ring.soak for ring in rings):
        yield "rings.soak", "half the soak", replace(plan, rings=tuple(replace(r, soak=r.soak / 2) for r in rings))
        yield "rings.soak", "twice the soak", replace(plan, rings=tuple(replace(r, soak=r.soak * 2) for r in rings))
    if plan.calendar.windows:
        yield "calendar.windows", "no windows", replace(plan, calendar=replace(plan.calendar, windows=()))
    if plan.needs.battery_at_least or plan.needs.charging or plan.needs.links:
        needs = replace(plan.needs, battery_at_least=0, charging=False, links=())
        yield "device", "no condition of battery, charger and link", replace(plan, needs=needs)
    if plan.pace.bounded:
        yield "pace", "no bound of the pace", replace(plan, pace=Pace())
    else:
        biggest = 20
        yield "pace.at_risk_at_once", f"{biggest} at risk at once", replace(plan, pace=Pace(None, biggest))
    enough = tuple(replace(ring, enough=ring.enough / 2) for ring in rings)
    yield "rings.enough", "half the share that must be good", replace(plan, rings=enough)
    yield "numbers.wait_at_most", "waits a quarter as long", replace(plan, wait_at_most=plan.wait_at_most / 4)
    if plan.harm is not None:
        yield "harm", "no harm budget", replace(plan, harm=None)


def _median(tales: Sequence[Tale], horizon: float) -> float:
    return float(np.median([min(tale.ended, horizon) for tale in tales]))


def _hurt(tales: Sequence[Tale]) -> float:
    return float(np.mean([sum(tale.hurt) for tale in tales]))


def _error(tales: Sequence[Tale], others: Sequence[Tale]) -> float:
    """The standard error of the difference of two means of devices hurt."""
    return float(np.sqrt(sum(np.var([sum(tale.hurt) for tale in some]) / len(some) for some in (tales, others))))


def _best(levers: Sequence[tuple[Lever, float]]) -> Iterator[Lever]:
    """What helps most, by time and by harm, if it does so beyond chance; each with the standard error of its harm."""
    quickest = max(levers, key=lambda one: one[0].sooner, default=None)
    if quickest is not None and quickest[0].sooner > SHORTEST:
        lever, chance = quickest
        yield lever if abs(lever.spared or 0.0) > 3 * chance else replace(lever, spared=None)
    gentler = [lever for lever, chance in levers if lever.spared is not None and lever.spared > max(0.5, 3 * chance)]
    if gentler:
        yield max(gentler, key=lambda lever: lever.spared or 0.0)
