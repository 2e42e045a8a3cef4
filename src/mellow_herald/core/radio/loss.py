"""What of a transmission is lost.

Losses come in bursts: a device that lost one fragment is likely to lose the next. The model has two states (Gilbert):
in one nothing is lost, in the other everything; how long the second lasts on average is the burst length.
"""

import random
from collections.abc import Iterator
from dataclasses import dataclass

from mellow_herald.core.radio.coding import fragment_count


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
