"""Playing brakes through on made-up rollouts: how often they halt, and after how many devices.

The conductor never calls this: it serves the preview, the tests that hold a brake to its promise, and the benchmarks.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from mellow_herald.core.brake import RING, WHOLE, Watch, stream_weights
from mellow_herald.core.evidence import Numbers, Rule, log_evidence, log_mean

Flags = npt.NDArray[np.bool_]
Counts = npt.NDArray[np.int64]
# Beyond so many devices a rollout that was not halted is taken not to be halted at all.
MOST_PLAYED = 5_000
FAULTS = (1.0, 2.0, 5.0, 10.0, 25.0)
RUNS = 50
BLOCK = 64


@dataclass(frozen=True)
class Lane:
    """One stream of a played rollout: its weight, which of the devices, in order of first exposure, are in it, and by
    which rule its evidence is read."""

    weight: float
    members: Flags
    rule: Rule = Rule.POINTS

    @cached_property
    def seen(self) -> Counts:
        """How many of its devices are among the first n, for n = 1 …"""
        return np.cumsum(self.members, dtype=np.int64)


def lanes(watch: Watch, rings: Sequence[int] | Counts, facts: Mapping[str, Sequence[str]]) -> list[Lane]:
    """The streams of a rollout whose devices, in order of first exposure, are in these ``rings`` (positions) and have
    these values of the watched ``facts``."""
    columns: dict[str, npt.NDArray[np.object_]] = {
        RING: np.asarray([str(ring) for ring in rings], object),
        **{name: np.asarray(values, object) for name, values in facts.items()},
    }
    arrived = [(name, value) for name, column in columns.items() for value in dict.fromkeys(column.tolist())]
    weights = stream_weights(watch, arrived)
    found = [Lane(weights[(WHOLE, "")], np.ones(len(columns[RING]), np.bool_), watch.rule)]
    return found + [
        Lane(weights.get(key, 0.0), columns[key[0]] == key[1], watch.rule) for key in arrived if weights.get(key)
    ]


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
    seen = np.stack([lane.seen[at - 1] for lane in streams]).astype(np.float64)
    wrong = np.stack([np.cumsum(lane.members[which]) for lane in streams]).astype(np.float64)
    weights = np.log([lane.weight for lane in streams])
    idle = 1.0 - sum(lane.weight for lane in streams)
    rest = np.log(idle) if idle > 1e-12 else -np.inf
    # The evidence is a mean of likelihood ratios, so never above the largest: only where that would do is it computed.
    worth = np.flatnonzero(_mixed(_largest_ratio(wrong, seen, limit), weights, rest) >= np.log(halt))
    for begin in range(0, len(worth), BLOCK):
        some = worth[begin : begin + BLOCK]
        logs = log_evidence(wrong[:, some], seen[:, some], limit, streams[0].rule)
        over = np.flatnonzero(_mixed(logs, weights, rest) >= np.log(halt))
        if len(over):
            exposed = int(at[some[over[0]]])
            return exposed, int(bad[:exposed].sum())
    return None


def _mixed(logs: Numbers, weights: Numbers, rest: float) -> Numbers:
    """The logarithm of the weighted mean of streams; ``rest`` is that of the weight of those that have not opened."""
    whole = np.concatenate([logs + weights[:, None], np.full((1, logs.shape[1]), rest)])
    return log_mean(whole.T)


def _largest_ratio(bad: Numbers, seen: Numbers, limit: float) -> Numbers:
    """The logarithm of the largest likelihood ratio of any rate above the limit against the limit."""
    with np.errstate(divide="ignore", invalid="ignore"):
        share = np.where(seen > 0, bad / np.maximum(seen, 1), 0.0)
        ratio = bad * np.log(share / limit) + (seen - bad) * np.log((1 - share) / (1 - limit))
        all_bad = bad * np.log(1 / limit)
    return np.where(share <= limit, 0.0, np.where(bad == seen, all_bad, ratio))


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
    rings: Sequence[int],
    watch: Watch,
    limit: float,
    halt: float,
    at_once: Sequence[int],
    rng: np.random.Generator,
    *,
    runs: int = RUNS,
    shares: Mapping[str, Mapping[str, float]] = {},
) -> list[Fault]:
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
    parts = np.bincount(position, minlength=len(rings))
    unplayed = np.asarray(rings, np.float64) - parts
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
            more = unplayed if stop is None else _at_risk_beyond(position[upto - 1], unplayed, at_once, parts)
            exposed += more
            hurt += more * rate
        found.append(Fault(times, rate, tuple(exposed / runs), tuple(hurt / runs), halted / runs))
    return found


def _at_risk_beyond(ring: int, unplayed: Numbers, at_once: Sequence[int], parts: Counts) -> Numbers:
    """Devices of the ring of the halt that are at risk together with the played ones, but were not played."""
    found = np.zeros_like(unplayed)
    found[ring] = max(0.0, min(float(unplayed[ring]), float(at_once[ring] - parts[ring])))
    return found


def _drawn(shares: Mapping[str, float], total: int, rng: np.random.Generator) -> list[str]:
    if not shares:
        return [""] * total
    values, weights = list(shares), np.asarray(list(shares.values()), np.float64)
    return [values[n] for n in rng.choice(len(values), total, p=weights / weights.sum())]
