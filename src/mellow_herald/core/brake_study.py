"""Playing brakes through on made-up rollouts: how often they halt, and after how many devices.

The conductor never calls this: it serves the preview, the tests that hold a brake to its promise, and the benchmarks.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.special import logsumexp

from mellow_herald.core.brake import RING, WHOLE, Numbers, Watch, log_evidence, stream_weights

Flags = npt.NDArray[np.bool_]
Counts = npt.NDArray[np.int64]
# Beyond so many devices a rollout that was not halted is taken not to be halted at all.
MOST_PLAYED = 20_000
FAULTS = (1.0, 2.0, 5.0, 10.0, 25.0)
RUNS = 200


@dataclass(frozen=True, slots=True)
class Lane:
    """One stream of a played rollout: its weight, and which of the devices, in order of first exposure, are in it."""

    weight: float
    members: Flags


def lanes(watch: Watch, rings: Sequence[int] | Counts, facts: Mapping[str, Sequence[str]]) -> list[Lane]:
    """The streams of a rollout whose devices, in order of first exposure, are in these ``rings`` (positions) and have
    these values of the watched ``facts``."""
    columns: dict[str, npt.NDArray[np.object_]] = {
        RING: np.asarray([str(ring) for ring in rings], object),
        **{name: np.asarray(values, object) for name, values in facts.items()},
    }
    arrived = [(name, value) for name, column in columns.items() for value in dict.fromkeys(column.tolist())]
    weights = stream_weights(watch, arrived)
    found = [Lane(weights[(WHOLE, "")], np.ones(len(columns[RING]), np.bool_))]
    return found + [Lane(weights.get(key, 0.0), columns[key[0]] == key[1]) for key in arrived if weights.get(key)]


def first_halt(
    streams: Sequence[Lane], bad: Flags, limit: float, halt: float, news: Counts | None = None
) -> tuple[int, int] | None:
    """Looks after every report and returns how many devices were exposed, and how many of them are bad, when the
    evidence first reached ``halt``; None if it never does.

    ``bad`` tells of each device, in order of first exposure, whether it is bad; ``news`` after how many exposures that
    is heard (at once, by default; never before its own).
    """
    which = np.flatnonzero(bad)
    if not len(which):
        return None
    heard = which + 1 if news is None else np.maximum(news[which], which + 1)
    # Evidence rises with bad news alone: it is enough to look when there is some.
    order = np.argsort(heard, kind="stable")
    which, at = which[order], np.minimum(heard[order], len(bad))
    logs: list[Numbers] = []
    for lane in streams:
        seen = np.cumsum(lane.members)[at - 1]
        wrong = np.cumsum(lane.members[which])
        logs.append(log_evidence(wrong, seen, limit) + np.log(lane.weight))
    idle = 1.0 - sum(lane.weight for lane in streams)
    if idle > 1e-12:
        logs.append(np.full(len(at), np.log(idle)))
    over = np.flatnonzero(logsumexp(np.stack(logs), axis=0) >= np.log(halt))
    if not len(over):
        return None
    exposed = int(at[over[0]])
    return exposed, int(bad[:exposed].sum())


@dataclass(frozen=True, slots=True)
class Fault:
    """What a fault that strikes every device alike with probability ``rate`` (0–1) would do: for each ring the mean
    number of devices exposed and hurt before the halt, and the share of runs in which it is halted at all."""

    times: float
    rate: float
    exposed: tuple[float, ...]
    hurt: tuple[float, ...]
    halted: float


def foresee_faults(
    rings: Sequence[int], watch: Watch, limit: float, halt: float, at_once: Sequence[int], rng: np.random.Generator,
    *, runs: int = RUNS, shares: Mapping[str, Mapping[str, float]] = {},
) -> list[Fault]:  # fmt: skip
    """What faults of 1, 2, 5, 10 and 25 times the limit would do to rings of so many devices each.

    ``at_once`` is how many devices of each ring are at risk at the same time: what goes wrong with one of them is heard
    only once so many more are exposed. ``shares`` are the shares of the watched facts' values.
    """
    played = np.minimum(np.cumsum(rings), MOST_PLAYED)
    total = int(played[-1]) if len(played) else 0
    position = np.repeat(np.arange(len(rings)), np.diff(np.concatenate([[0], played])))
    ends = played[position] if total else np.empty(0, np.int64)
    lag = np.asarray(at_once, np.int64)[position] if total else ends
    news = np.minimum(np.arange(total) + np.maximum(lag, 1), ends)
    facts = {name: _drawn(shares.get(name, {}), total, rng) for name in watch.foreseen}
    streams = lanes(watch, position, facts) if total else []
    found = []
    for times in FAULTS:
        rate = min(1.0, times * limit)
        exposed, hurt, halted = np.zeros(len(rings)), np.zeros(len(rings)), 0
        for _ in range(runs):
            bad = rng.random(total) < rate
            stop = first_halt(streams, bad, limit, halt, news) if total else None
            halted += stop is not None
            upto = total if stop is None else stop[0]
            exposed += np.bincount(position[:upto], minlength=len(rings))
            hurt += np.bincount(position[:upto], weights=bad[:upto], minlength=len(rings))
            if stop is None and total < sum(rings):
                left = np.asarray(rings) - np.bincount(position, minlength=len(rings))
                exposed += left
                hurt += left * rate
        found.append(Fault(times, rate, tuple(exposed / runs), tuple(hurt / runs), halted / runs))
    return found


def _drawn(shares: Mapping[str, float], total: int, rng: np.random.Generator) -> list[str]:
    if not shares:
        return [""] * total
    values, weights = list(shares), np.asarray(list(shares.values()), np.float64)
    return [values[n] for n in rng.choice(len(values), total, p=weights / weights.sum())]
