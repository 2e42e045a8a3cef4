"""The harm budget's promise: in what share of made-up releases it is exceeded, and in how many waves a good one goes
out. A study with a fixed seed: it measures harm, not time."""

from collections.abc import Iterator

import numpy as np

from bench.figure import Figure
from mellow_herald.core.harm.budget import HarmBudget
from mellow_herald.core.harm.forecast import good_waves
from mellow_herald.core.harm.study import Fleet, Player

RUNS, DEVICES = 1000, 400
WIDE = 10**6


def measure() -> list[Figure]:
    """All figures."""
    return [*_uniform(), *_together(), *_waves()]


def _uniform() -> Iterator[Figure]:
    """Devices are bad independently of each other, and bad news is heard as late, later, or earlier than good."""
    budget = HarmBudget(10, widest=WIDE)
    for what, good, bad in (("", 1.0, 1.0), (", bad news later", 1.0, 6.0), (", bad news earlier", 6.0, 1.0)):
        shares = {}
        for rate in (0.01, 0.02, 0.05, 0.1, 0.3):
            rng, beyond = np.random.default_rng(7), 0
            for _ in range(RUNS):
                hurt = rng.random(DEVICES) < rate
                after = np.where(hurt, bad, good) * rng.uniform(0.5, 1.5, DEVICES)
                beyond += Player(budget, Fleet(hurt.tolist(), after.tolist())).play().hurt > budget.at_most
            shares[f"at {100 * rate:g} % failing, %"] = 100 * beyond / RUNS
        worst = max(shares.values()) / 100
        yield Figure(
            f"share of releases that exceed a harm budget of 10 with 95 % certainty{what}", worst, "<= 0.05", shares
        )


def _together() -> Iterator[Figure]:
    budget = HarmBudget(24, cluster_by="site", of_a_cluster=4, widest=WIDE)
    sites = [f"site {n // 12}" for n in range(DEVICES)]
    rng, beyond, runs = np.random.default_rng(9), 0, RUNS // 4
    for _ in range(runs):
        failing = {site for site in dict.fromkeys(sites) if rng.random() < 0.1}
        fleet = Fleet([site in failing for site in sites], rng.uniform(0.5, 1.5, DEVICES).tolist(), sites)
        beyond += Player(budget, fleet).play().hurt > budget.at_most
    yield Figure(
        "share of releases that exceed it where sites fail together and it counts sites", beyond / runs, "<= 0.05"
    )


def _waves() -> Iterator[Figure]:
    for most in (5, 20, 100):
        (waves,) = good_waves(HarmBudget(most, widest=WIDE), [10_000])
        (bounded,) = good_waves(HarmBudget(most), [10_000])
        yield Figure(
            f"waves of a good release to 10,000 devices under a harm budget of {most}",
            waves,
            None,
            {"with waves of at most ten times the budget": bounded},
        )
