"""What of a transmission is lost, and how many devices put it together nevertheless.

Losses come in bursts: a device that lost one fragment is likely to lose the next. The model has two states (Gilbert):
in one nothing is lost, in the other everything; how long the second lasts on average is the burst length.
"""

import random
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from mellow_herald.core.radio.coding import MOST_MISSING, fragment_count

# So many devices are drawn to tell the share that puts a block together: one in a hundred is told within half of it.
DRAWN = 2000
SHARES = (0.0, 0.05, 0.1, 0.15, 0.2, 0.25, 0.3, 0.35, 0.4, 0.5, 0.6, 0.8, 1.0)


@dataclass(frozen=True, slots=True)
class Loss:
    """``rate`` is the share of fragments that a device loses, ``burst`` how many in a row on average (at least 1)."""

    rate: float
    burst: float = 1.0

    @property
    def begins(self) -> float:
        """How likely a burst begins after a fragment that was received."""
        return min(1.0, self.rate / (self.burst * (1 - self.rate))) if self.rate < 1 else 1.0

    @property
    def ends(self) -> float:
        """How likely a burst ends after a fragment that was lost."""
        return 1 / self.burst if self.rate < 1 else 0.0

    def pattern(self, rng: random.Random) -> Iterator[bool]:
        """Whether each fragment is lost, one after the other."""
        lost = rng.random() < self.rate
        while True:
            yield lost
            lost = rng.random() >= self.ends if lost else rng.random() < self.begins


def measure(lost: list[bool]) -> Loss | None:
    """The loss that a device has seen, fragment by fragment; None if it was sent none."""
    if not lost:
        return None
    bursts = sum(one and not before for before, one in zip([False, *lost], lost, strict=False))
    return Loss(sum(lost) / len(lost), max(1.0, sum(lost) / bursts) if bursts else 1.0)


def coded_count(count: int, redundancy: int) -> int:
    """How many parity fragments ``redundancy`` percent are."""
    return fragment_count(count * redundancy, 100)


def complete_share(count: int, coded: int, loss: Loss, *, seed: int = 1, most_missing: int = MOST_MISSING) -> float:
    """The share of devices that put ``count`` fragments together out of those and ``coded`` of parity.

    A device that misses m and has received c of parity solves its lines with the probability that m columns of random
    bits in c lines are independent, the product of 1 - 2**-i for i from c - m + 1 to c.
    """
    rng = np.random.default_rng(seed)
    lost = rng.random(DRAWN) < loss.rate
    missing, received = np.zeros(DRAWN, dtype=np.int64), np.zeros(DRAWN, dtype=np.int64)
    for number in range(count + coded):
        if number < count:
            missing += lost
        else:
            received += ~lost
        drawn = rng.random(DRAWN)
        lost = np.where(lost, drawn >= loss.ends, drawn < loss.begins)
    spare = received - missing
    independent = np.ones(DRAWN)
    for more in range(1, 40):  # beyond that it is 1 for all that double precision tells
        independent *= np.where(spare + more <= received, 1 - 0.5 ** np.maximum(spare + more, 0), 1.0)
    whole = np.where(missing == 0, 1.0, np.where((missing > most_missing) | (spare < 0), 0.0, independent))
    return float(whole.mean())


def wanted_redundancy(count: int, loss: Loss, share: float, most: int) -> int:
    """The least redundancy (percent, in steps) at which so large a share of devices is expected to need no repair, at
    most ``most``."""
    for one in SHARES:
        percent = round(one * 100)
        if percent >= most or complete_share(count, coded_count(count, percent), loss) >= share:
            return min(percent, most)
    return most
