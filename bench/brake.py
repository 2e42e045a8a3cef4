"""The brake against the common rule (failed/seen above the limit once 50 were seen): false halts, devices exposed and
hurt. A study of made-up rollouts with a fixed seed: it measures evidence, not time."""

from dataclasses import dataclass
from math import log

import numpy as np
import numpy.typing as npt

from bench.figure import Figure
from mellow_herald.core.brake import Watch, halts_at
from mellow_herald.core.brake_study import Lane, first_halt, lanes
from mellow_herald.core.evidence import Rule

LIMIT, ALPHA, DEVICES, RUNS = 0.02, 0.05, 5000, 2000
TIMES = (2, 3, 5, 7, 10)
RINGS = np.searchsorted([50, 250, 1250], np.arange(DEVICES), side="right")
COMMON_AFTER = 50


@dataclass(frozen=True, slots=True)
class Outcome:
    """Means over the runs: share halted, devices exposed and hurt."""

    halted: float
    exposed: float
    hurt: float


def measure() -> list[Figure]:
    """All figures; all rules see the same runs."""
    halt = halts_at(1, ALPHA)
    streams, before = _streams(Rule.POINTS), _streams(Rule.BETA)
    figures, ratios, ratios_before = [], [], []
    for times in (0.5, 1.0):
        ours, common = _compare(streams, times * LIMIT, halt)
        figures.append(
            Figure(
                f"share of releases at {times:g} times the limit that are halted, looking after every report",
                ours.halted,
                f"<= {ALPHA / 2:g}",
                {"% halted": 100 * ours.halted, "% by the common rule": 100 * common.halted},
            )
        )
    for times in TIMES:
        rate = times * LIMIT
        ours, common = _compare(streams, rate, halt)
        # What a rule needs that knows the rate, and halts a good release as rarely as this brake does.
        least = log(halt) / (rate * log(rate / LIMIT) + (1 - rate) * log((1 - rate) / (1 - LIMIT)))
        ratios.append(ours.exposed / least)
        ratios_before.append(_compare(before, rate, halt)[0].exposed / least)
        figures.append(
            Figure(
                f"devices exposed by a fault of {times} times the limit ÷ by the common rule",
                ours.exposed / common.exposed,
                None,
                {
                    "exposed": ours.exposed,
                    "hurt": ours.hurt,
                    "exposed by the common rule": common.exposed,
                    "hurt by the common rule": common.hurt,
                },
            )
        )
    half, common = _compare(streams, 0.5, halt)
    figures.append(
        Figure(
            "devices exposed when half of them fail ÷ by the common rule",
            half.exposed / common.exposed,
            "<= 0.2",
            {"exposed": half.exposed, "exposed by the common rule": common.exposed},
        )
    )
    figures.append(
        Figure(
            "mean devices exposed before a halt ÷ log(1/α)/KL, uniform fault, all streams",
            float(np.mean(ratios)),
            "<= 1.33",
            {
                "at 2 times, %": 100 * ratios[0],
                "at 10 times, %": 100 * ratios[-1],
                "by the rule until 2026-11, %": 100 * float(np.mean(ratios_before)),
            },
        )
    )
    for what, struck in (
        ("one hardware revision of three", np.arange(DEVICES) % 3 == 1),
        ("the third ring", RINGS == 2),
    ):
        now, then = (_compare(some, struck * 5 * LIMIT, halt)[0] for some in (streams, before))
        first = int(np.flatnonzero(struck)[0])
        figures.append(
            Figure(
                f"devices exposed by a fault of 5 times the limit in {what} alone ÷ by the rule until 2026-11",
                (now.exposed - first) / (then.exposed - first),
                "<= 1.1" if "revision" in what else None,
                {"exposed": now.exposed - first, "until 2026-11": then.exposed - first},
            )
        )
    return figures


def _streams(rule: Rule) -> list[Lane]:
    watch = Watch(4, {"hw_rev": ["1", "2", "3"]}, rule)
    return lanes(watch, RINGS, {"hw_rev": [str(1 + n % 3) for n in range(DEVICES)]})


def _compare(streams: list[Lane], rate: float | npt.NDArray[np.float64], halt: float) -> tuple[Outcome, Outcome]:
    rng = np.random.default_rng(5)
    ours, common = [], []
    for _ in range(RUNS):
        bad = rng.random(DEVICES) < rate
        ours.append(first_halt(streams, bad, LIMIT, halt))
        common.append(_common_rule(bad))
    mean = float(np.mean(rate))
    return _means(ours, mean), _means(common, mean)


def _common_rule(bad: npt.NDArray[np.bool_]) -> tuple[int, int] | None:
    seen, wrong = np.arange(1, len(bad) + 1), np.cumsum(bad)
    over = np.flatnonzero((seen >= COMMON_AFTER) & (wrong / seen > LIMIT))
    return (int(seen[over[0]]), int(wrong[over[0]])) if len(over) else None


def _means(stops: list[tuple[int, int] | None], rate: float) -> Outcome:
    full = [stop or (DEVICES, round(DEVICES * rate)) for stop in stops]
    return Outcome(
        sum(stop is not None for stop in stops) / len(stops),
        float(np.mean([exposed for exposed, _ in full])),
        float(np.mean([hurt for _, hurt in full])),
    )
