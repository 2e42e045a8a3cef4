"""Who has a turn when, where only so many may have one at once, or a harm budget gives leave in waves."""

import heapq
from bisect import bisect_right
from collections.abc import Callable, Mapping, Sequence

import numpy as np

from mellow_herald.core.foresight import Flags
from mellow_herald.core.harm.budget import HarmBudget
from mellow_herald.core.harm.waves import Counts, HarmProgress, Value, Wave, wave_due
from mellow_herald.core.rehearsal.fleet import Column, Numbers, Places

# Up to so many are served one by one, exactly; more in blocks, as if those of a block took alike.
ONE_BY_ONE = 3000
LOOKS = 8


def serve(ready: Numbers, takes: Numbers, at_once: int | None, notices: Numbers) -> Numbers:
    """When each begins that is ``ready`` and ``takes`` so long, with at most ``at_once`` under way; infinite for those
    for whom no place ever gets free.

    A place that gets free is had by whoever calls next. ``notices`` is after what time each would call, drawn evenly
    from its own interval; of m that wait the first calls after 2/(m + 1) of that, on average.
    """
    if at_once is None or at_once >= len(ready):
        return ready
    if at_once <= 0:
        return np.full(len(ready), np.inf)
    order = np.argsort(ready, kind="stable")
    begun, arrived = np.empty_like(ready), ready[order]
    if len(ready) <= ONE_BY_ONE:
        ends: list[float] = []
        times, late = arrived.tolist(), notices[order].tolist()
        coming = zip(order.tolist(), times, takes[order].tolist(), strict=True)
        for turn, (place, at, long) in enumerate(coming):
            start = at
            if len(ends) >= at_once and (free := heapq.heappop(ends)) > at:
                start = free + late[turn] * 2 / (bisect_right(times, free) - turn + 1)
            begun[place] = start
            heapq.heappush(ends, start + long)
        return begun
    places = np.zeros(at_once)
    for first in range(0, len(order), at_once):
        block = order[first : first + at_once]
        free_at = places[: len(block)]
        waiting = np.searchsorted(arrived, free_at, side="right") - first - np.arange(len(block))
        next_call = notices[block] * 2 / (np.maximum(waiting, 1) + 1)
        start_at = np.where(free_at > ready[block], free_at + next_call, ready[block])
        begun[block] = start_at
        places[: len(block)] = np.sort(start_at + takes[block])
    return begun


Outcome = Callable[[Places, Numbers], tuple[Numbers, Numbers]]


class Budgeted:
    """Leave under a harm budget over all rings of a run: what was given so far, and what came of it. ``facts`` are
    those that are watched, and that by which devices fail together."""

    def __init__(self, budget: HarmBudget, foreseen: Mapping[str, Sequence[str]], facts: Mapping[str, Column]) -> None:
        self._budget, self._foreseen = budget, foreseen
        self._facts = facts
        self._decided, self._hurt = np.empty(0), np.empty(0)
        self._devices = np.empty(0, np.int64)
        self._unit = np.empty(0, np.int64)
        self._units = self._beyond = self._in_wave = 0
        self._wave: Wave | None = None

    @property
    def hurt(self) -> int:
        """How many of those that were given leave are hurt, known by now or not."""
        return int(np.isfinite(self._hurt).sum())

    def progress(self, at: float, at_risk: int = 0) -> HarmProgress:
        """What is known at a time, as ``core.decide`` goes by it."""
        bad, undecided = self._hurt <= at, np.minimum(self._decided, self._hurt) > at
        devices = Counts(len(bad), int(bad.sum()), int(undecided.sum()))
        units = devices
        if self._budget.cluster_by is not None:
            hurt = np.unique(self._unit[bad])
            open_units = np.setdiff1d(self._unit[undecided], hurt)
            units = Counts(self._units, len(hurt), len(open_units))
        return HarmProgress(
            devices,
            units,
            self._by_value(bad, undecided),
            self._foreseen,
            at_risk=at_risk,
            wave=self._wave,
            in_wave=Counts(self._in_wave),
            beyond=self._beyond,
        )

    def _by_value(self, bad: Flags, undecided: Flags) -> dict[Value, Counts]:
        found: dict[Value, Counts] = {}
        for fact in self._foreseen:
            column = self._facts[fact]
            codes, most = column.codes[self._devices], len(column.values)
            seen, hurt, waits = (
                np.bincount(codes, minlength=most),
                np.bincount(codes[bad], minlength=most),
                np.bincount(codes[undecided], minlength=most),
            )
            for code in dict.fromkeys(codes.tolist()):
                found[fact, column.values[code]] = Counts(int(seen[code]), int(hurt[code]), int(waits[code]))
        return found

    def note(self, devices: Places, decided: Numbers, hurt: Numbers) -> None:
        """Counts devices that have leave, under a budget for sure."""
        self._devices = np.concatenate([self._devices, devices])
        self._decided, self._hurt = np.concatenate([self._decided, decided]), np.concatenate([self._hurt, hurt])
        self._unit = np.arange(len(self._devices))
        self._units = len(self._devices)

    def give(
        self,
        some: Places,
        ready: Numbers,
        takes: Numbers,
        at_once: int | None,
        notices: Numbers,
        outcome: Outcome,
        unnoticed: Callable[[], float],
    ) -> Numbers:
        """When the devices ``some`` (``ready`` at these times) are given leave; infinite for those for whom the budget
        has nothing left. That all are decided goes ``unnoticed`` for a while; who waited for a wave ``notices`` so long
        after its beginning. ``outcome(which, begun)`` tells of some of them (places in ``some``) when each is decided
        well, and when it is hurt; infinite where it is not."""
        begun = np.full(len(some), np.inf)
        waiting = np.argsort(ready, kind="stable")
        waiting = waiting[np.isfinite(ready[waiting])]
        at = float(ready[waiting[0]]) if len(waiting) else 0.0
        while len(waiting):
            wave = wave_due(self._budget, self.progress(at))
            if wave is None:
                later = np.minimum(self._decided, self._hurt)
                later = np.sort(later[later > at])
                if not len(later):
                    break  # it is used up
                # Looked at as they are decided; not after each of thousands.
                at = float(later[max(0, len(later) // LOOKS - 1)]) + unnoticed()
                continue
            taken = self._taken(some, waiting, wave)
            waited = ready[taken] < at
            may = np.where(waited, at + notices[taken], ready[taken])
            start = serve(may, takes[taken], at_once, notices[taken])
            begun[taken] = start
            self._note(some[taken], wave, *outcome(taken, start))
            waiting = waiting[~np.isin(waiting, taken)]
            at = max(at, float(start.max()))
        return begun

    def _note(self, devices: Places, wave: Wave, decided: Numbers, hurt: Numbers) -> None:
        self._wave, self._beyond = wave, self._beyond + wave.beyond_room
        unit = np.arange(len(devices))
        if self._budget.cluster_by is not None:
            unit = np.unique(self._facts[self._budget.cluster_by].codes[devices], return_inverse=True)[1]
        self._unit = np.concatenate([self._unit, unit + self._units])
        self._in_wave = int(unit.max()) + 1
        self._units += self._in_wave
        self._devices = np.concatenate([self._devices, devices])
        self._decided, self._hurt = np.concatenate([self._decided, decided]), np.concatenate([self._hurt, hurt])

    def _taken(self, some: Places, waiting: Places, wave: Wave) -> Places:
        """Whom of those that wait a wave holds, in their order."""
        most = self._budget.wave_at_most
        kept = np.ones(len(waiting), np.bool_)
        for fact in self._foreseen:
            column = self._facts[fact]
            codes = column.codes[some[waiting]]
            for code, value in enumerate(column.values):
                cap = wave.by_value.get((fact, value), wave.of_new)
                if cap < len(waiting):
                    mine = codes == code
                    kept &= ~mine | (np.cumsum(mine) <= cap)
        if self._budget.cluster_by is None:
            return waiting[kept][: min(wave.size, most)]
        clusters = self._facts[self._budget.cluster_by].codes[some[waiting]]
        taken: list[int] = []
        of: dict[int, int] = {}
        for place, cluster, may in zip(waiting.tolist(), clusters.tolist(), kept.tolist(), strict=True):
            if not may or len(taken) >= most:
                continue
            if cluster not in of and len(of) >= wave.size:
                continue
            if of.get(cluster, 0) < self._budget.of_a_cluster:
                of[cluster] = of.get(cluster, 0) + 1
                taken.append(place)
        return np.asarray(taken, np.int64)
