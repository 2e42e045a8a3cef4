"""How many devices put a block together out of what reaches them."""

from collections.abc import Sequence

import numpy as np

from mellow_herald.core.radio.coding import MOST_MISSING
from mellow_herald.core.radio.loss import Loss, coded_count
from mellow_herald.core.radio.session import Layout

# So many devices are drawn to tell the share that puts a block together: one in a hundred is told within half of it.
DRAWN = 2000
SHARES = (0.0, 0.05, 0.1, 0.15, 0.2, 0.25, 0.3, 0.35, 0.4, 0.5, 0.6, 0.8, 1.0)


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


def expected_share(layout: Layout, losses: Sequence[Loss]) -> float:
    """The share of members that put the block together in one session, each with the loss that was measured of it."""
    kinds = {loss: losses.count(loss) for loss in losses}
    if not kinds:
        return 0.0
    whole = sum(complete_share(layout.fragments, layout.coded, loss) * many for loss, many in kinds.items())
    return whole / len(losses)
