"""One run of a rehearsal: a plan played on the model of a fleet.

What a ring does next is decided by ``core.decide``, by the brakes, the harm budget and the windows as the service has
them. Only how the devices of a ring pass through it is computed for all of them at once; a test holds that against the
orders that the service would give (``core.order``).
"""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

import numpy as np

from mellow_herald.core.brake import Reading, Tally, evidence_over_time, halts_at, read_brake
from mellow_herald.core.decide import (
    AskForGo,
    Begin,
    BeginSoak,
    BeginWave,
    Finish,
    FinishRing,
    Halt,
    MarkSilent,
    MovesAgain,
    OpenRing,
    Progress,
    RingProgress,
    StandsStill,
    decide,
)
from mellow_herald.core.foresight import Flags
from mellow_herald.core.harm.waves import HarmProgress
from mellow_herald.core.plan import BrakeKind
from mellow_herald.core.rehearsal.fleet import Numbers
from mellow_herald.core.rehearsal.passage import SECONDS, Passage, Passing, Setting, last_of
from mellow_herald.core.rollout import RingState, RolloutState
from mellow_herald.core.say import Say

MOST_DECISIONS = 400
# So many bad devices are enough for any brake to halt, if it halts at all.
MOST_NEWS = 400


@dataclass(slots=True)
class Course:
    """What came of a run; times in hours. ``ended`` is when all was done, infinite if it never was; ``halted`` why it
    was halted, ``stands`` why it stood still and in which ring."""

    opens: list[float]
    ends: list[float]
    passages: list[Passage | None]
    ended: float = np.inf
    stopped: float = np.inf
    halted: str | None = None
    stands: tuple[int, str] | None = None


@dataclass(frozen=True, slots=True)
class _Counted:
    """A ring's devices as they are at a time; of these ``at_risk``."""

    at: float
    ring: RingProgress
    at_risk: int


@dataclass(frozen=True, slots=True)
class _Alike:
    """Devices of a ring that agree in all watched facts: when they begin to count for a brake, and when they are heard
    to be bad, both ascending."""

    values: Mapping[str, str]
    begun: Numbers
    bad: Numbers
    first_at: datetime


class Run:
    """One run. Deterministic by its generator."""

    def __init__(self, setting: Setting, rng: np.random.Generator) -> None:
        self._set = setting
        plan = setting.plan
        count = len(plan.rings)
        self._states = [RingState.CLOSED] * count
        self._stands: list[str | None] = [None] * count
        self._asked_why: list[AskForGo | None] = [None] * count
        self._go: set[int] = set()
        names, devices = [ring.name for ring in plan.rings], [len(some) for some in setting.rings]
        self._wanted = plan.approval.wanted(names, devices) if plan.approval is not None else frozenset[int]()
        self._passages: list[Passage | None] = [None] * count
        self._course = Course([np.inf] * count, [np.inf] * count, self._passages)
        self._news: list[float] = []
        # By brake: when it is heard of bad devices (the first of them), and its devices by ring and watched facts.
        self._bad_at: dict[BrakeKind, Numbers] = {}
        self._sorted: dict[tuple[BrakeKind, int], list[_Alike]] = {}
        self._moments: list[float] = []
        self._over: dict[int, RingProgress] = {}
        self._counted: dict[int, _Counted] = {}
        self._passing = Passing(setting, rng)

    def play(self) -> Course:
        """From the start until all is done, or nothing moves any more."""
        plan, course = self._set.plan, self._course
        start = plan.calendar.start
        at = 0.0 if start is None or start <= self._set.now else self._hours(start)
        for _ in range(MOST_DECISIONS):
            # Leave is given, and silence told, as devices pass: neither is decided here.
            decisions = [
                one
                for one in decide(plan, self._progress(at), self._when(at))
                if not isinstance(one, BeginWave | MarkSilent | Begin)
            ]
            if not decisions:
                later = self._next(at)
                if later is None:
                    return course
                at = later
                continue
            match decisions[0]:
                case OpenRing(position):
                    self._open(position, at)
                case AskForGo(position) as asks:
                    self._asked_why[position], self._states[position] = asks, RingState.AWAITING_GO
                    self._go.add(position)
                    at += self._set.people
                case BeginSoak(position):
                    self._states[position] = RingState.SOAKING
                case FinishRing(position):
                    self._states[position] = RingState.DONE
                    course.ends[position] = at
                case StandsStill(position, why):
                    self._stands[position], course.stands, course.stopped = why, (position, why), at
                case MovesAgain(position):
                    self._stands[position], course.stands, course.stopped = None, None, np.inf
                case Halt(why):
                    course.halted, course.stopped = why, at
                    return course
                case Finish():
                    course.ended = course.stopped = at
                    return course
        return course

    def _when(self, at: float) -> datetime:
        return self._set.now + timedelta(hours=at)

    def _hours(self, at: datetime) -> float:
        return (at - self._set.now).total_seconds() / SECONDS

    # Progress ------------------------------------------------------------------------------------------------------

    def _progress(self, at: float) -> Progress:
        rings = tuple(self._ring(position, at) for position in range(len(self._states)))
        at_risk = sum(self._counted[position].at_risk for position in self._counted if position not in self._over)
        bad = sum(ring.bad for ring in rings)
        return Progress(
            RolloutState.RUNNING,
            rings,
            self._set.now,
            bad=bad,
            at_risk=at_risk,
            go=frozenset(self._go),
            brakes=self._brakes(at) if bad else (),
            harm=HarmProgress() if self._passing.budget is None else self._passing.budget.progress(at, at_risk),
            say=self._say(),
        )

    def _say(self) -> Say:
        """What people have said: who is asked says go, approves and chooses, all in one."""
        last = len(self._states) - 1
        asked = frozenset(self._go)
        return Say(self._wanted, asked, choice=last if self._set.plan.arms and last not in asked else None)

    def _ring(self, position: int, at: float) -> RingProgress:
        passage, state = self._passages[position], self._states[position]
        asked = self._asked_why[position]
        if position in self._over:
            return self._over[position]
        if passage is None:
            return RingProgress(
                state, asks=None if asked is None else asked.asks, asks_why=None if asked is None else asked.why
            )
        counted = self._counted.get(position)
        # Several decisions may be due at one time, and in the end nothing changes any more.
        if counted is None or (counted.at != at and counted.at < passage.last):
            counted = self._counted[position] = self._count(passage, at)
        progress = replace(counted.ring, state=state, stands_why=self._stands[position])
        if state is RingState.DONE and not progress.live:
            last = np.where(np.isfinite(passage.soaked), passage.soaked, passage.bad)
            if not (np.isfinite(last) & (last > at)).any():
                self._over[position] = progress  # nothing in it changes any more
        return progress

    def _count(self, passage: Passage, at: float) -> "_Counted":
        if at < passage.first:
            count, expected = len(passage.some), _count(passage.late > at)
            return _Counted(at, RingProgress(RingState.OPEN, expected=expected, live=count, targeted=count), 0)
        bad, called, decided = passage.news <= at, passage.asked <= at, passage.decided <= at
        confirmed = (passage.confirmed <= at) & ~bad
        undecided = (passage.offered <= at) & ~decided
        heard, aside = _count(called), 0
        if passage.ever_aside:
            waits = passage.set_aside(at)
            undecided &= ~waits
            aside = _count(called & waits)
        soaks = float(passage.soaks[confirmed].max(initial=-np.inf))
        ring = RingProgress(
            RingState.OPEN,
            undecided=_count(undecided),
            expected=_count(~called & (passage.late > at)) if heard < len(called) else 0,
            asked=heard - aside,
            good=_count(confirmed),
            soak_until=self._when(soaks) if soaks > -np.inf else None,
            live=len(decided) - _count(decided),
            targeted=len(passage.some),
            bad=_count(bad),
            set_aside=aside,
        )
        return _Counted(at, ring, _count((passage.begun <= at) & ~decided))

    def _brakes(self, at: float) -> tuple[Reading, ...]:
        brake, watch = self._set.plan.brake, self._set.watch
        limits = {BrakeKind.FIRMWARE: brake.firmware_limit, BrakeKind.DELIVERY: brake.delivery_limit}
        moments = np.asarray([at])
        return tuple(
            read_brake(
                kind,
                [
                    Tally(one.ring, one.facts, int(np.asarray(one.seen)[0]), int(np.asarray(one.bad)[0]), one.first_at)
                    for one in self._tallies(kind, moments)
                ],
                watch,
                limits[kind],
                halts_at(1, brake.alpha),
            )
            for kind in BrakeKind
            # Without a bad device the evidence of a brake is at most 1.
            if kind in self._bad_at and self._bad_at[kind][0] <= at
        )

    def _tallies(self, kind: BrakeKind, moments: Numbers) -> list[Tally]:
        """Devices that count for a brake at each of these moments, by ring and watched facts."""
        found = []
        for position, passage in enumerate(self._passages):
            if passage is None:
                continue
            if (kind, position) not in self._sorted:
                self._sorted[kind, position] = self._alike(kind, position, passage)
            for one in self._sorted[kind, position]:
                if one.begun[0] <= moments[-1]:
                    seen, bad = (times.searchsorted(moments, side="right") for times in (one.begun, one.bad))
                    found.append(Tally(position, one.values, seen, bad, one.first_at))
        return found

    def _alike(self, kind: BrakeKind, position: int, passage: Passage) -> list[_Alike]:
        begins, bad = (
            (passage.begun, passage.bad) if kind is BrakeKind.FIRMWARE else (passage.offered, passage.undelivered)
        )
        found = []
        for values, mine in self._set.groups[position]:
            begun, heard = np.sort(begins[mine]), bad[mine]
            if len(begun) and begun[0] < np.inf:
                first_at = self._when(float(begun[0]))
                found.append(_Alike(values, begun, np.sort(heard[np.isfinite(heard)]), first_at))
        return found

    # What comes next -----------------------------------------------------------------------------------------------

    def _next(self, at: float) -> float | None:
        """The next time at which something may be decided."""
        plan, moments = self._set.plan, [*self._news, *self._moments]
        if plan.calendar.ends is not None:
            moments.append(self._hours(plan.calendar.ends))
        for position, passage in enumerate(self._passages):
            not_before = plan.rings[position].not_before
            if passage is None and not_before is not None:
                moments.append(self._hours(not_before))
        later = [moment for moment in moments if at < moment < np.inf]
        # A little later, so that what comes about then has come about for whichever rounding.
        return min(later) + 1e-9 + self._passing.unnoticed() if later else None

    def _ends_of_holding(self, passage: Passage) -> list[float]:
        """When nobody of a ring is waited for any more, and when all have soaked."""
        # It is held while a device is still expected, then until that is decided, but for the time it is set aside.
        spans = [
            (
                np.minimum(passage.asked, passage.late),
                np.where(passage.offered <= passage.aside, passage.offered, passage.aside),
            ),
            (passage.offered, np.minimum(np.minimum(passage.begun, passage.aside_staged), passage.decided)),
            (passage.begun, passage.decided),
        ]
        if not passage.ever_aside:
            last = max(last_of(end) for _, end in spans)
            found = [last] if last > -np.inf else []
        else:
            starts = np.sort(np.concatenate([begin[np.isfinite(begin)] for begin, _ in spans]))
            stops = np.sort(np.concatenate([end[np.isfinite(begin)] for begin, end in spans]))
            nobody = np.searchsorted(starts, stops, side="right") == np.arange(1, len(stops) + 1)
            found = stops[nobody & np.isfinite(stops)].tolist()
        soaked = last_of(passage.soaked)
        return [*found, soaked] if soaked > -np.inf else found

    # Opening ---------------------------------------------------------------------------------------------------------

    def _open(self, position: int, at: float) -> None:
        self._states[position] = RingState.OPEN
        self._course.opens[position] = at
        self._passages[position] = passage = self._passing.through(position, at)
        self._moments += self._ends_of_holding(passage)
        self._note_news()

    def _note_news(self) -> None:
        """The moments at which a brake may halt: where its evidence first reaches what halts; and bad news as such."""
        plan, halt = self._set.plan, np.log(halts_at(1, self._set.plan.brake.alpha))
        if self._set.fault is None:
            return
        found: set[float] = set()
        for kind, limit in (
            (BrakeKind.FIRMWARE, plan.brake.firmware_limit),
            (BrakeKind.DELIVERY, plan.brake.delivery_limit),
        ):
            passages = [passage for passage in self._passages if passage is not None]
            news = [one.bad if kind is BrakeKind.FIRMWARE else one.undelivered for one in passages]
            heard = [times[np.isfinite(times)] for times in news]
            moments = np.unique(np.concatenate(heard))[:MOST_NEWS] if heard else np.empty(0)
            if not len(moments):
                continue
            self._bad_at[kind] = moments
            found |= set(moments[:1].tolist())
            over = np.flatnonzero(evidence_over_time(self._tallies(kind, moments), self._set.watch, limit) >= halt)
            found |= set(moments[over[:1]].tolist())
            stop = plan.brake.hard_stop
            if stop is not None and stop <= len(moments):
                found.add(float(moments[stop - 1]))
            if plan.harm is not None and plan.harm.at_most <= len(moments):
                found.add(float(moments[plan.harm.at_most - 1]))
        self._news = sorted(found)


def _count(flags: Flags) -> int:
    return int(np.count_nonzero(flags))
