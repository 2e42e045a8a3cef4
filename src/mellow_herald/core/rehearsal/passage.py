"""How the devices of a ring pass through it, all of them at once: called, offered, staged, given leave, decided.

A test holds this against what the service would tell each of them (``core.needs``, ``core.order``).
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime

import numpy as np

from mellow_herald.core.brake import Watch
from mellow_herald.core.foresight import Flags
from mellow_herald.core.plan import Plan, SwitchWhen
from mellow_herald.core.presence import LATE_AFTER
from mellow_herald.core.rehearsal.faults import Fault
from mellow_herald.core.rehearsal.fleet import NEVER, Column, Fleet, Hours, Numbers, Places, Waits, at_hour
from mellow_herald.core.rehearsal.queueing import Budgeted, serve
from mellow_herald.core.rhythm import LIVE_PART, SOAK_PART, SPREAD

# After so many calls in a soak, each spread by a tenth, the next may come at any time.
MANY_CALLS = 10
SECONDS = 3600.0


@dataclass(slots=True)
class Passage:
    """How the devices ``some`` (places in the fleet) pass through their ring; times in hours, infinite for never.
    ``late``: who has not called by then is expected no longer; ``asked``: first heard of; ``aside``: when it holds its
    ring no longer, as it waits too long before it is offered anything, and ``aside_staged`` before it may switch;
    ``confirmed`` and ``bad`` (when that is heard); ``hurt``: when it goes wrong, heard of or not; ``undelivered``: when
    a transfer failed for good; ``soaked``: through its soak; ``news``: first heard to be bad, in whichever way;
    ``decided``: good or bad; ``soaks``: until then a confirmed one soaks. ``ever_aside``: whether anybody is set
    aside. Before ``first`` nothing has happened; from ``last`` on nothing does but that soaks end."""

    some: Places
    opened: float
    late: Numbers
    asked: Numbers
    aside: Numbers
    aside_staged: Numbers
    offered: Numbers
    staged: Numbers
    begun: Numbers
    confirmed: Numbers
    bad: Numbers
    hurt: Numbers
    undelivered: Numbers
    soaked: Numbers
    news: Numbers = field(init=False)
    decided: Numbers = field(init=False)
    soaks: Numbers = field(init=False)
    ever_aside: bool = field(init=False)
    first: float = field(init=False)
    last: float = field(init=False)

    def set_aside(self, at: float) -> Flags:
        """Who holds no ring at a time."""
        return ((self.aside <= at) & (self.offered > at)) | ((self.aside_staged <= at) & (self.begun > at))

    def __post_init__(self) -> None:
        self.ever_aside = bool(np.isfinite(self.aside).any() or np.isfinite(self.aside_staged).any())
        self.news = np.minimum(self.bad, self.undelivered)
        self.decided = np.minimum(self.confirmed, self.news)
        self.soaks = np.minimum(self.soaked, self.bad)  # who will relapse soaks until then
        moments = [self.late, self.asked, self.offered, self.begun, self.confirmed, self.news]
        if self.ever_aside:
            moments += [self.aside, self.aside_staged]
        self.first = float(self.asked.min(initial=np.inf))
        self.last = max(last_of(some) for some in moments)


def last_of(times: Numbers) -> float:
    """The last of these times that is ever, minus infinity if there is none."""
    last = float(times.max(initial=-np.inf))
    return last if last < np.inf else float(times[times < np.inf].max(initial=-np.inf))


@dataclass(frozen=True, slots=True)
class Setting:
    """What all runs share: the plan, the fleet, the hours in which it can be served, the ``fault`` and whom it can
    strike, and when it begins. ``size`` is what each device fetches, in bytes; ``people`` is after how many hours
    somebody says go or approves, ``turn`` every how many the service looks at a rollout. ``rings`` are the devices of
    each ring, ``groups`` those of each that agree in all watched facts."""

    plan: Plan
    fleet: Fleet
    hours: Hours
    watch: Watch
    now: datetime
    size: int
    fault: Fault | None = None
    struck: Flags | None = None
    people: float = 0.0
    turn: float = 0.0
    rings: Sequence[Places] = field(default=())
    groups: Sequence[Sequence[tuple[dict[str, str], Places]]] = field(default=())
    # Of the devices of each ring, gathered once: their intervals, and how long they would take to fetch (hours).
    intervals: Sequence[Numbers] = field(init=False)
    fetches: Sequence[Numbers] = field(init=False)

    def __post_init__(self) -> None:
        fleet = self.fleet
        object.__setattr__(self, "intervals", [fleet.interval[some] for some in self.rings])
        object.__setattr__(self, "fetches", [self.size / fleet.rate[some] / SECONDS for some in self.rings])


class Passing:
    """Passes the devices of one run's rings; ``fated`` are those whom the fault strikes, should they be exposed."""

    def __init__(self, setting: Setting, rng: np.random.Generator) -> None:
        self._set, self._rng = setting, rng
        plan = setting.plan
        self.budget = None if plan.harm is None else Budgeted(plan.harm, setting.watch.foreseen, setting.fleet.facts)
        # From being confirmed until the soak is over; drawn when its ring opens.
        self._soaks = np.zeros(setting.fleet.size)
        # Who goes bad by fate is drawn once, whenever it is exposed.
        self._fated = np.zeros(setting.fleet.size, np.bool_)
        if setting.fault is not None and setting.struck is not None:
            self._fated = setting.struck & (rng.random(setting.fleet.size) < setting.fault.rate)

    def unnoticed(self) -> float:
        """For how many hours the service does not notice something: it writes calls once a turn, and looks once a
        turn."""
        turn = self._set.turn
        return float(self._rng.uniform(0, turn, 2).sum()) if turn else 0.0

    def through(self, position: int, at: float) -> Passage:
        """How the devices of a ring pass through it once it has opened."""
        made, plan, rng = self._set, self._set.plan, self._rng
        some = made.rings[position]
        count, interval = len(some), made.intervals[position]
        hours, again = made.hours, interval / LIVE_PART
        self._soaks[some] = self._until_witnessed(interval, plan.rings[position].soak.total_seconds() / SECONDS)
        asked = self._first_call(some, interval, at)
        offered = self._when_met(hours.fetch, some, asked, again)
        takes = made.fetches[position] * rng.uniform(0.8, 1.25, count)
        cap = plan.pace.downloading_at_once
        if cap is not None and cap < count:
            offered = self._in_turn(offered, takes, cap, again)
        staged = offered + takes
        undelivered = np.full(count, np.inf)
        fated = self._fated[some]
        if made.fault is not None and made.fault.delivery:
            tries = _tries(plan)
            undelivered[fated] = offered[fated] + tries
            staged[fated] = np.inf
        aside = self._aside(hours.needs_fetch, some, asked, offered)
        # It calls at once when it has staged.
        ready = self._when_met(hours.switch, some, staged, again)
        aside_staged = self._aside(hours.needs_switch, some, staged, ready)
        if plan.order.switch is SwitchWhen.ALL_STAGED:
            held = np.isfinite(staged) & np.isinf(aside)
            ready = np.maximum(ready, staged[held].max() + again * rng.random(count)) if held.any() else ready
        trial = self._trial(count)
        begun = self._begin(some, ready, trial)
        begun = self._gateways_last(some, begun, trial)
        confirmed, bad, hurt, soaked = self._outcome(some, begun, trial)
        late = at + LATE_AFTER * interval
        return Passage(
            some,
            at,
            late,
            asked,
            aside,
            aside_staged,
            offered,
            staged,
            begun,
            confirmed,
            bad,
            hurt,
            undelivered,
            soaked,
        )

    def _first_call(self, some: Places, interval: Numbers, at: float) -> Numbers:
        """When each is first heard of from a time on."""
        calls = self._set.hours.call[int(at) % len(self._set.hours.call)][some]
        delay = interval * self._rng.random(len(some))
        found = at + delay
        absent = np.flatnonzero(calls)
        found[absent] = _within(np.full(len(absent), at), calls[absent], delay[absent])
        return found

    def _trial(self, count: int) -> Numbers:
        """How long so many devices take from leave to confirmed: as switches took lately, or as is assumed."""
        fleet = self._set.fleet
        if len(fleet.switches):
            return self._rng.choice(fleet.switches, count)
        longest = self._set.plan.trial_for.total_seconds() / SECONDS
        return fleet.restart + longest * self._rng.uniform(0.3, 0.7, count)

    def _begin(self, some: Places, ready: Numbers, trial: Numbers) -> Numbers:
        """When each is given leave: as pace and harm budget let it."""
        plan, cap = self._set.plan, self._set.plan.pace.at_risk_at_once
        again = self._set.fleet.interval[some] / LIVE_PART
        if self.budget is None or plan.harm is None:
            return ready if cap is None or cap >= len(some) else self._in_turn(ready, trial, cap, again)
        if plan.harm.sure:
            return self._surely(some, ready, trial)

        def outcome(which: Places, begun: Numbers) -> tuple[Numbers, Numbers]:
            _, bad, _, soaked = self._outcome(some[which], begun, trial[which])
            return soaked, bad

        notices = again * self._rng.random(len(some))
        return self.budget.give(some, ready, trial, cap, notices, outcome, self.unnoticed)

    def _surely(self, some: Places, ready: Numbers, trial: Numbers) -> Numbers:
        """Leave under a budget for sure: a place is free again when its device is good, and never when it is hurt."""
        plan = self._set.plan
        assert plan.harm is not None
        assert self.budget is not None
        _, fails, _, _ = self._outcome(some, np.zeros(len(some)), trial)
        at_risk_for = np.where(np.isfinite(fails) & (fails <= trial + 2 * self._set.fleet.restart), np.inf, trial)
        notices = self._set.fleet.interval[some] / LIVE_PART * self._rng.random(len(some))
        begun = serve(ready, at_risk_for, plan.harm.at_most - self.budget.hurt, notices)
        begun = serve(begun, trial, plan.pace.at_risk_at_once, notices)
        _, bad, _, soaked = self._outcome(some, begun, trial)
        given = np.isfinite(begun)
        self.budget.note(some[given], soaked[given], bad[given])
        return begun

    def _outcome(self, some: Places, begun: Numbers, trial: Numbers) -> tuple[Numbers, Numbers, Numbers, Numbers]:
        """Confirmed, heard to be bad, gone wrong, through its soak."""
        fault = self._set.fault
        confirmed = begun + trial
        soaked = confirmed + self._soaks[some]
        bad = np.full(len(some), np.inf)
        hurt = bad
        if fault is not None and not fault.delivery:
            fated = self._fated[some] & np.isfinite(begun)
            if fault.after is None:
                # It goes back, restarts once more, and says so.
                when = confirmed + self._set.fleet.restart
                confirmed = np.where(fated, np.inf, confirmed)
                soaked = np.where(fated, np.inf, soaked)
                hurt = bad = np.where(fated, when, np.inf)
            else:
                when = confirmed + fault.after.total_seconds() / SECONDS
                hurt = np.where(fated, when, np.inf)
                bad = np.where(when <= soaked, hurt, np.inf)
                soaked = np.where(np.isfinite(bad), np.inf, soaked)
        return confirmed, bad, hurt, soaked

    def _until_witnessed(self, interval: Numbers, soak: float) -> Numbers:
        """How long after it is confirmed each of these calls for the first time after its soak: the first time in half
        the soak or sooner, later at its interval, each spread by a tenth. Over many calls it may come at any time."""
        count = len(interval)
        at = soak + interval * self._rng.random(count)
        many = soak > MANY_CALLS * interval
        if many.all():
            return at
        at = np.where(many, at, np.minimum(interval, soak / SOAK_PART) * self._spread(count))
        while soak and (early := at < soak).any():
            at = np.where(early, at + interval * self._spread(count), at)
        return at

    def _spread(self, count: int) -> Numbers:
        return self._rng.uniform(1 - SPREAD, 1 + SPREAD, count)

    def _when_met(self, waits: Waits, some: Places, at: Numbers, again: Numbers) -> Numbers:
        """The first call from a time on at which a device meets what is asked of it."""
        found = at.copy()
        which = np.flatnonzero(np.isfinite(at))
        if len(which) < len(at):
            some, at = some[which], at[which]
        hours = at_hour(waits, some, at)
        absent = np.flatnonzero(hours)
        delay = again[which[absent]] * self._rng.random(len(absent))
        found[which[absent]] = _within(at[absent], hours[absent], delay)
        return found

    def _aside(self, waits: Waits, some: Places, asked: Numbers, served: Numbers) -> Numbers:
        """When a device that waits for a condition, not for a window, is set aside; infinite if it is served before."""
        most = self._set.plan.wait_at_most.total_seconds() / SECONDS
        found = np.full(len(some), np.inf)
        which = np.flatnonzero(served > asked + most)
        if len(which):
            wait = at_hour(waits, some[which], asked[which]).astype(np.float64)
            found[which] = np.where((wait == NEVER) | (wait > most), asked[which] + most, np.inf)
        return found

    def _in_turn(self, ready: Numbers, takes: Numbers, at_once: int, again: Numbers) -> Numbers:
        """As many at once as the pace allows; a place that gets free is had by whoever calls next."""
        reached = np.flatnonzero(np.isfinite(ready))
        begun = np.full(len(ready), np.inf)
        begun[reached] = serve(ready[reached], takes[reached], at_once, again[reached] * self._rng.random(len(reached)))
        return begun

    def _gateways_last(self, some: Places, begun: Numbers, trial: Numbers) -> Numbers:
        """A gateway goes when all behind it that this ring serves are decided."""
        fleet = self._set.fleet
        behind = fleet.gateway[some]
        if not self._set.plan.order.keep_reachable or not (behind >= 0).any():
            return begun
        place = np.full(fleet.size, -1, np.int64)
        place[some] = np.arange(len(some))
        begun = begun.copy()
        for _ in range(3):  # gateways behind gateways
            inside = (behind >= 0) & np.isfinite(begun)
            gateways = place[behind[inside]]
            here = gateways >= 0
            until = np.zeros(len(some))
            np.maximum.at(until, gateways[here], (begun + trial)[inside][here])
            later = np.maximum(begun, until)
            if np.array_equal(later, begun):
                break
            begun = later
        return begun


def _within(at: Numbers, waits: Waits, delay: Numbers) -> Numbers:
    """A call ``delay`` after the beginning of the hour that will do, so many hours after those in which times lie."""
    return np.where(waits == NEVER, np.inf, np.floor(at) + waits + np.minimum(delay, 0.999))


def _tries(plan: Plan) -> float:
    """How long the tries of a transfer that breaks every time take."""
    pause = plan.retry_pause.total_seconds() / SECONDS
    return float(sum(pause * 2**n for n in range(plan.retries)))


def alike(facts: Mapping[str, Column], names: Sequence[str], some: Places) -> list[tuple[dict[str, str], Places]]:
    """Devices (places in ``some``) that agree in these facts, with their values."""
    joint = np.zeros(len(some), np.int64)
    for name in names:
        joint = joint * len(facts[name].values) + facts[name].codes[some]
    order = np.argsort(joint, kind="stable")
    found = []
    for places in np.split(order, np.flatnonzero(np.diff(joint[order])) + 1):
        if len(places):
            first = some[places[0]]
            found.append(({name: facts[name].values[facts[name].codes[first]] for name in names}, places))
    return found
