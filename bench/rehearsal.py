"""How long a rehearsal of a large fleet takes, and what it needs: 100,000 devices, four rings, 200 runs."""

import resource
import time
from datetime import UTC, datetime, timedelta

import numpy as np

from bench.figure import Figure
from mellow_herald.core.brake import Watch
from mellow_herald.core.foresight import BATTERY_SHIFT, DAYS, HEARD, HOURS
from mellow_herald.core.plan import Plan, Ring
from mellow_herald.core.rehearsal.faults import parse_fault
from mellow_herald.core.rehearsal.fleet import Column, Fleet
from mellow_herald.core.rehearsal.rehearse import Ask, rehearse
from mellow_herald.core.release_name import parse_release_name

DEVICES, RUNS, SIZE = 100_000, 200, 300_000
NOW = datetime(2026, 12, 1, 8, tzinfo=UTC)
HOUR = timedelta(hours=1)


def measure() -> list[Figure]:
    """All figures."""
    plan = Plan("large", parse_release_name("b/l/1.0.0"), "all", tuple(Ring(name, HOUR) for name in "abcd"))
    rng = np.random.default_rng(1)
    sizes = [DEVICES // 1000, DEVICES // 100, DEVICES // 10]
    heard = rng.random((DEVICES, DAYS * HOURS)) < 0.93
    words = np.where(heard, HEARD | rng.integers(20, 100, heard.shape) << BATTERY_SHIFT, 0).astype(np.int16)
    fleet = Fleet(
        np.repeat(np.arange(4), [*sizes, DEVICES - sum(sizes)]),
        np.full(DEVICES, 5 / 60),
        rng.uniform(5e3, 5e4, DEVICES),
        words,
        np.ones(DEVICES, np.bool_),
        np.zeros(DEVICES, np.int64),
        [plan.calendar.zone],
        np.full(DEVICES, -1),
        np.ones(DEVICES, np.bool_),
        facts={"hw_rev": Column(["1", "2", "3"], np.arange(DEVICES) % 3)},
    )
    watch = Watch(4, {"hw_rev": ["1", "2", "3"]})
    everybody = np.ones(DEVICES, np.bool_)
    figures = []
    for text in ("none", "0.05 crashed"):
        fault = parse_fault(text)
        began = time.perf_counter()
        rehearse(Ask(plan, fleet, watch, NOW, SIZE, [(fault, everybody if fault else None)], RUNS), levers=False)
        took = time.perf_counter() - began
        figures.append(Figure(f"rehearsal of 100,000 devices, four rings, 200 runs, fault {text}: s", took, "<= 5"))
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024**2
    return [*figures, Figure("its memory, GiB, with the benchmarks'", memory, "<= 1")]
