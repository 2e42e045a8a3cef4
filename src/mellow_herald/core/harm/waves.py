"""How many devices may be at risk under a harm budget.

*For sure*: devices hurt and devices at risk together never exceed the budget. *With certainty* leave is given in waves:
each begins when the devices of those before are decided, with a size such that, at the highest failure rate that their
outcomes allow for, more are hurt than the budget has left with a small chance only.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from scipy.special import bdtrc

from mellow_herald.core.evidence import value_weights
from mellow_herald.core.harm.budget import HarmBudget
from mellow_herald.core.harm.rate import upper_rate

MOST_DEVICES = 10_000_000
Value = tuple[str, str]


@dataclass(frozen=True, slots=True)
class Counts:
    """Devices (or clusters) that were given leave: ``seen`` of them, ``bad`` those ever hurt, ``undecided`` those that
    are neither hurt nor through their soak."""

    seen: int = 0
    bad: int = 0
    undecided: int = 0

    @property
    def at_worst(self) -> int:
        """How many are bad if all that are undecided will be."""
        return self.bad + self.undecided


@dataclass(frozen=True, slots=True)
class Wave:
    """A wave, fixed when it began: its ``number`` (from 1), how many devices (or clusters) it may hold (``size``), and
    how many devices of one watched value (``by_value``; of a value that is not named, ``of_new``). ``room`` is what the
    budget had left, ``rate`` (0–1) the highest failure rate that was reckoned with. ``hurt`` and ``decided`` tell what
    was known."""

    number: int
    size: int
    room: int
    rate: float
    by_value: Mapping[Value, int] = field(default_factory=dict)
    of_new: int = 0
    hurt: int = 0
    decided: int = 0

    def summary(self, budget: HarmBudget) -> str:
        """In words, e.g. ``up to 67 devices: of 20 decided none was hurt, so that 17 % at most fail; 20 may be``."""
        what = "devices" if budget.cluster_by is None else f"values of {budget.cluster_by}"
        known = f"of {self.decided} decided {self.hurt or 'none'} {'was' if self.hurt < 2 else 'were'} hurt"
        if not self.beyond_room:
            left = "no more than may be hurt still"
            return f"up to {self.size} {what}: {known}; {left}" if self.decided else f"up to {self.size} {what}: {left}"
        return f"up to {self.size} {what}: {known}, so that {100 * self.rate:.2g} % at most fail; {self.room} may be"

    @property
    def beyond_room(self) -> bool:
        """Whether it holds more than the budget has left, which takes some of the certainty."""
        return self.size > self.room


@dataclass(frozen=True, slots=True)
class HarmProgress:
    """What is known when a wave is due. ``devices`` counts all that were given leave in this rollout, in whichever
    round; ``units`` the same by clusters, where waves count these; ``values`` the devices of each watched value, in the
    order in which these came up; ``at_risk`` are exposed and not yet decided in their trial. ``wave`` is the last that
    began, ``in_wave`` what it was given to so far; ``beyond`` how many waves were larger than the room."""

    devices: Counts = Counts()
    units: Counts = Counts()
    values: Mapping[Value, Counts] = field(default_factory=dict)
    foreseen: Mapping[str, Sequence[str]] = field(default_factory=dict)
    at_risk: int = 0
    wave: Wave | None = None
    in_wave: Counts = Counts()
    beyond: int = 0


def wave_size(room: int, rate: float, chance: float, most: int) -> int:
    """The largest number M of devices of which, at failure rate ``rate``, more than ``room`` are bad with a chance of
    at most ``chance``: P(Bin(M, rate) > room) ≤ chance. Never less than ``room``, never more than ``most``."""
    if room <= 0:
        return 0
    if rate >= 1 or room >= most:
        return min(room, most)
    least, beyond = room, most + 1
    while beyond - least > 1:
        middle = (least + beyond) // 2
        if bdtrc(room, middle, rate) <= chance:
            least = middle
        else:
            beyond = middle
    return least


def used_up(budget: HarmBudget, progress: HarmProgress) -> bool:
    """Whether as many devices are hurt as may be (or nearly: fewer are left than a cluster is given at once)."""
    return _room(budget, progress.devices.bad) <= 0


def begin_wave(budget: HarmBudget, progress: HarmProgress) -> Wave:
    """The wave that could begin now, with those that are undecided counted as bad; its size may be 0."""
    room = max(0, _room(budget, progress.devices.at_worst))
    chance = budget.delta_chance / ((progress.beyond + 1) * (progress.beyond + 2))
    rate = upper_rate(progress.units.at_worst, progress.units.seen, budget.delta_rate)
    size = wave_size(room, rate, chance, budget.wave_at_most)
    by_value = {}
    weights = value_weights(progress.foreseen, list(progress.values))
    for value, counts in progress.values.items():
        weight = weights.get(value, 0.0)
        # A value of no weight has no rate of its own: no more than the budget has left.
        own = upper_rate(counts.at_worst, counts.seen, budget.delta_rate * weight) if weight else 1.0
        by_value[value] = wave_size(room * budget.of_a_cluster, own, chance, budget.wave_at_most)
    number = 1 if progress.wave is None else progress.wave.number + 1
    return Wave(
        number,
        size,
        room,
        rate,
        by_value,
        of_new=room * budget.of_a_cluster,
        hurt=progress.devices.bad,
        decided=progress.devices.seen - progress.devices.undecided,
    )


def wave_due(budget: HarmBudget, progress: HarmProgress) -> Wave | None:
    """The wave that begins now; None while the last goes on, or where the budget has nothing left.

    It begins when all of the last are decided; or, once that is full, when one as large could begin with those still
    undecided counted as bad.
    """
    if budget.sure:
        return None
    last = progress.wave
    if last is not None:
        full = progress.in_wave.seen >= last.size
        if not progress.in_wave.seen and last.size:
            return None
        if progress.devices.undecided and (not full or _room(budget, progress.devices.at_worst) <= 0):
            return None
    wave = begin_wave(budget, progress)
    if not wave.size:
        return None
    if last is not None and progress.devices.undecided and wave.size < last.size:
        return None
    return wave


def _room(budget: HarmBudget, bad: int) -> int:
    """How many more devices (or clusters) may be bad."""
    return (budget.at_most - bad) // budget.of_a_cluster


@dataclass(slots=True)
class Given:
    """What may still be given in one transaction: for a ``sure`` budget ``left`` devices; else what is ``left`` of the
    wave (devices, or clusters), and for each watched value and cluster how many devices of the wave it has."""

    budget: HarmBudget
    wave: Wave | None
    left: int
    devices_left: int = MOST_DEVICES
    of_values: dict[Value, int] = field(default_factory=dict)
    of_clusters: dict[str, int] = field(default_factory=dict)

    def may_be(self, values: Sequence[Value], cluster: str | None) -> bool:
        """Whether one more device with these watched values, and of this cluster, may be given leave."""
        if self.budget.sure:
            return self.left > 0
        if self.wave is None or self.devices_left <= 0:
            return False
        if any(self.of_values.get(value, 0) >= self._most_of(value) for value in values):
            return False
        if cluster is not None and cluster in self.of_clusters:
            return self.of_clusters[cluster] < self.budget.of_a_cluster
        return self.left > 0

    def note(self, values: Sequence[Value], cluster: str | None, devices: int = 1) -> None:
        """Counts devices that were given leave, or took it: alike in these values, and of one cluster."""
        for value in values:
            self.of_values[value] = self.of_values.get(value, 0) + devices
        self.devices_left -= devices
        if cluster is None:
            self.left -= devices
            return
        if cluster not in self.of_clusters:
            self.left -= 1
        self.of_clusters[cluster] = self.of_clusters.get(cluster, 0) + devices

    def _most_of(self, value: Value) -> int:
        assert self.wave is not None
        return self.wave.by_value.get(value, self.wave.of_new)
