"""Which device of a ring gets which of two releases that are compared."""

from collections.abc import Sequence

import numpy as np

from mellow_herald.core.rings import NONE, Ids, ordered

# The lot is another draw than that of the rings, which decides who is asked first.
LOT = 0x9E3779B97F4A7C15


def by_lot(strata: Sequence[Ids], share: float, salt: int) -> Ids:
    """Which devices of a ring get the second release. Every device with the same chance ``share`` (0–1); of each
    stratum and of all together the number is that share of it, to within one device; the same inputs give the same.

    Systematic sampling with a random start, through strata of which each is in a random order (Cochran, "Sampling
    Techniques", 1977, chapter 8): unlike a number drawn for each stratum it keeps small strata even, too.
    """
    devices = np.concatenate([NONE, *(ordered(ids, salt ^ LOT) for ids in strata)])
    start = np.random.default_rng(salt % 2**64).random()
    steps = np.floor(start + share * np.arange(len(devices) + 1))
    return np.sort(devices[np.diff(steps) > 0])
