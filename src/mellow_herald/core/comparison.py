"""Two releases side by side: how sure it is that one is better, however often and whenever somebody looks.

The devices of both arms stand in one row, in the order in which they were exposed; of these the first k count, all of
which are decided. Under the hypothesis that both releases are bad with one rate p, for each p

    M_p = ∏ over both arms of  ∫ q^f (1−q)^(n−f) dBeta(½, ½)(q)  /  p^f (1−p)^(n−f)

is a martingale along that row (each device multiplies it by what it was foreseen with, divided by what p foresees), so
that it reaches 1/α with a chance of at most α, at whichever k one looks (Ville). The evidence against *one rate for
both* is the least of M_p over p, which is an e-process (Ramdas, Grünwald, Vovk, Shafer, "Game-theoretic statistics and
safe anytime-valid inference", Statistical Science 2023); the intervals are the p, or pairs of them, with M_p < 1/α.

Readings are compared by the asymptotic confidence sequence for a mean (Waudby-Smith, Arbour, Sinha, Kennedy, Ramdas,
"Time-uniform central limit theory and asymptotic confidence sequences", Annals of Statistics 2024).
"""

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
import numpy.typing as npt
from scipy.special import betaln, xlog1py, xlogy

Numbers = npt.NDArray[np.float64]
ALPHA = 0.05
# The intervals of a mean are narrowest about this number of devices.
TUNED_TO = 100
LEAST = 2
# Rates at which the intervals are looked for, closer together towards 0 and 1.
GRID = np.sin(np.linspace(0, np.pi / 2, 2001)) ** 2


class Came(StrEnum):
    """What became of an exposed device."""

    GOOD = "good"
    BAD = "bad"
    UNDECIDED = "undecided"


@dataclass(frozen=True, slots=True)
class Exposed:
    """A device that had its release by lot: of which arm (0 or 1), and what became of it."""

    arm: int
    came: Came


@dataclass(frozen=True, slots=True)
class Counts:
    """Of one arm: ``bad`` of ``seen`` devices."""

    bad: int = 0
    seen: int = 0


@dataclass(frozen=True, slots=True)
class Interval:
    """Where something lies, with the confidence 1 − α at every look."""

    low: float
    high: float


@dataclass(frozen=True, slots=True)
class Rates:
    """How often devices went bad under each release. ``counted`` are the devices that count by now, ``arms`` the
    interval of each rate, ``difference`` that of the second's less the first's, ``log_evidence`` the natural logarithm
    of the evidence against one rate for both."""

    counted: tuple[Counts, Counts]
    arms: tuple[Interval, Interval]
    difference: Interval
    log_evidence: float

    @property
    def differ(self) -> bool:
        """Whether it is proven that they differ."""
        return self.log_evidence >= -math.log(ALPHA)


@dataclass(frozen=True, slots=True)
class Means:
    """What a reading did under each release: the mean change of each arm's devices with their number, and the second's
    less the first's with its interval; None where too few have said enough."""

    devices: tuple[int, int]
    means: tuple[float | None, float | None]
    difference: float | None
    interval: Interval | None

    @property
    def differ(self) -> bool:
        """Whether it is proven that they differ."""
        return self.interval is not None and not self.interval.low <= 0 <= self.interval.high


def count_in_order(exposed: Iterable[Exposed]) -> tuple[Counts, Counts]:
    """The devices that count, of all in the order of their exposure: up to the first that is not decided. A bad device
    is known sooner than a good one; whoever counted each as it is known would see more bad ones than there are."""
    bad, seen = [0, 0], [0, 0]
    for one in exposed:
        if one.came is Came.UNDECIDED:
            break
        seen[one.arm] += 1
        bad[one.arm] += one.came is Came.BAD
    return Counts(bad[0], seen[0]), Counts(bad[1], seen[1])


def compare_rates(first: Counts, second: Counts, alpha: float = ALPHA) -> Rates:
    """What these counts say of the two rates."""
    bound = -math.log(alpha)
    one, other = _log_ratio(first, GRID), _log_ratio(second, GRID)
    # Of the second, the rates that go with each rate of the first: the evidence falls and then rises along them.
    least = int(other.argmin())
    which = np.flatnonzero(one + other[least] < bound)
    begins = least - np.searchsorted(other[least::-1], bound - one[which])
    ends = least + np.searchsorted(other[least:], bound - one[which])
    low = float((_at(begins) - _at(which + 1)).min())
    high = float((_at(ends) - _at(which - 1)).max())
    difference = Interval(max(-1.0, low), min(1.0, high))
    arms = (_within(one, bound), _within(other, bound))
    return Rates((first, second), arms, difference, rate_evidence(first, second))


def rate_evidence(first: Counts, second: Counts) -> float:
    """The natural logarithm of the evidence against one rate for both."""
    seen = first.seen + second.seen
    pooled = np.array([(first.bad + second.bad) / seen if seen else 0.5])
    return float((_log_ratio(first, pooled) + _log_ratio(second, pooled))[0])


def compare_means(first: Sequence[float], second: Sequence[float], alpha: float = ALPHA) -> Means:
    """What these changes of a reading, one for each device, say of the two means."""
    devices, arms = (len(first), len(second)), (np.array(first, np.float64), np.array(second, np.float64))
    means = tuple(float(arm.mean()) if len(arm) else None for arm in arms)
    if min(devices) < LEAST:
        return Means(devices, (means[0], means[1]), None, None)
    variance = sum(float(arm.var(ddof=1)) / len(arm) for arm in arms)
    difference = float(arms[1].mean() - arms[0].mean())
    reach = _reach(sum(devices), alpha) * math.sqrt(variance * sum(devices))
    return Means(devices, (means[0], means[1]), difference, Interval(difference - reach, difference + reach))


def _reach(count: int, alpha: float) -> float:
    """Half the width of the confidence sequence of a mean of ``count`` values with the standard deviation 1."""
    tail = -2 * math.log(alpha)
    rho2 = (tail + math.log(tail + 1)) / TUNED_TO
    inside = count * rho2 + 1
    return math.sqrt(2 * inside / (count**2 * rho2) * math.log(math.sqrt(inside) / alpha))


def _log_ratio(counts: Counts, rates: Numbers) -> Numbers:
    """ln of what the counts were foreseen with, divided by what each rate foresees; infinite where it forbids them."""
    good = counts.seen - counts.bad
    mixed = float(betaln(0.5 + counts.bad, 0.5 + good) - betaln(0.5, 0.5))
    return np.asarray(mixed - xlogy(counts.bad, rates) - xlog1py(good, -rates), np.float64)


def _at(places: npt.NDArray[np.int64]) -> Numbers:
    """The rates at places of the grid, or at its ends."""
    return np.asarray(GRID[np.clip(places, 0, len(GRID) - 1)], np.float64)


def _within(logs: Numbers, bound: float) -> Interval:
    """The rates of the grid against which there is less evidence than ``bound``, and their neighbours: rather a little
    too wide than too narrow."""
    inside = np.flatnonzero(logs < bound)
    return Interval(float(GRID[max(0, inside[0] - 1)]), float(GRID[min(len(GRID) - 1, inside[-1] + 1)]))
