"""Playing a harm budget through on made-up releases: how many devices are hurt, in how many waves, in what time.

It gives leave by the same rules as the service (``wave_due``, ``Given``). Tests and
benchmarks hold the budget to its promise with it.
"""

import heapq
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from mellow_herald.core.harm.budget import HarmBudget
from mellow_herald.core.harm.waves import Counts, Given, HarmProgress, Value, Wave, wave_due


@dataclass(frozen=True, slots=True)
class Played:
    """What came of it: devices ``hurt`` and ``given`` leave, ``waves`` begun, and the time ``took`` in whichever unit
    the times of decision are."""

    hurt: int
    given: int
    waves: int
    took: float


@dataclass(frozen=True, slots=True)
class Fleet:
    """Devices in the order in which they ask: whether each is ``bad``, after what time it is decided, and, where that
    counts, its ``clusters`` and its ``values`` of the watched facts."""

    bad: Sequence[bool]
    decided_after: Sequence[float]
    clusters: Sequence[str] | None = None
    values: Sequence[Sequence[Value]] | None = None
    foreseen: Mapping[str, Sequence[str]] | None = None


@dataclass(slots=True)
class _Tally:
    """Counts that change as devices are given leave and decided."""

    seen: int = 0
    bad: int = 0
    undecided: int = 0

    def counts(self) -> Counts:
        return Counts(self.seen, self.bad, self.undecided)

    def give(self) -> None:
        self.seen += 1
        self.undecided += 1

    def decide(self, *, bad: bool) -> None:
        self.undecided -= 1
        self.bad += bad


@dataclass(slots=True)
class _Unit:
    """A cluster's devices in one wave: a bad one makes it bad, and else it is undecided until all are decided."""

    tallies: tuple[_Tally, ...]
    left: int = 0
    bad: bool = False

    def decide(self, *, bad: bool) -> None:
        self.left -= 1
        if not self.bad and (bad or not self.left):
            self.bad = bad
            for tally in self.tallies:
                tally.decide(bad=bad)


class Player:
    """One release under a budget with certainty."""

    def __init__(self, budget: HarmBudget, fleet: Fleet) -> None:
        self._budget, self._fleet = budget, fleet
        self._now = 0.0
        self._waiting = list(range(len(fleet.bad)))
        self._under_way: list[tuple[float, int]] = []
        self._devices, self._units, self._in_wave = _Tally(), _Tally(), _Tally()
        self._values: dict[Value, _Tally] = {}
        self._clusters: dict[str, _Unit] = {}
        self._unit_of: dict[int, _Unit] = {}
        self._wave: Wave | None = None
        self._given: Given | None = None
        self._beyond = 0

    def play(self) -> Played:
        """From the first wave until all have leave and are decided, or nobody is given leave any more."""
        while True:
            self._give()
            wave = wave_due(self._budget, self._progress()) if self._waiting else None
            if wave is not None:
                self._wave, self._in_wave, self._clusters = wave, _Tally(), {}
                self._beyond += wave.beyond_room
                self._given = Given(self._budget, wave, wave.size, self._budget.wave_at_most)
            elif self._under_way:
                self._now, device = heapq.heappop(self._under_way)
                self._decide(device)
            else:
                break
        return Played(self._devices.bad, self._devices.seen, 0 if self._wave is None else self._wave.number, self._now)

    def _give(self) -> None:
        given, fleet, left = self._given, self._fleet, []
        if given is None:
            return
        for place, device in enumerate(self._waiting):
            if given.left <= 0 and fleet.clusters is None:
                left += self._waiting[place:]
                break
            values = () if fleet.values is None else fleet.values[device]
            cluster = None if fleet.clusters is None else fleet.clusters[device]
            if not given.may_be(values, cluster):
                left.append(device)
                continue
            given.note(values, cluster)
            self._devices.give()
            for value in values:
                self._values.setdefault(value, _Tally()).give()
            self._join(device, cluster)
            heapq.heappush(self._under_way, (self._now + fleet.decided_after[device], device))
        self._waiting = left

    def _join(self, device: int, cluster: str | None) -> None:
        unit = None if cluster is None else self._clusters.get(cluster)
        if unit is None:
            unit = _Unit((self._units, self._in_wave))
            for tally in unit.tallies:
                tally.give()
            if cluster is not None:
                self._clusters[cluster] = unit
        unit.left += 1
        self._unit_of[device] = unit

    def _decide(self, device: int) -> None:
        bad = self._fleet.bad[device]
        self._devices.decide(bad=bad)
        self._unit_of[device].decide(bad=bad)
        for value in () if self._fleet.values is None else self._fleet.values[device]:
            self._values[value].decide(bad=bad)

    def _progress(self) -> HarmProgress:
        return HarmProgress(
            self._devices.counts(),
            self._units.counts(),
            {value: tally.counts() for value, tally in self._values.items()},
            self._fleet.foreseen or {},
            wave=self._wave,
            in_wave=self._in_wave.counts(),
            beyond=self._beyond,
        )
