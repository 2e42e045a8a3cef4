"""How much some bad devices of many speak for a failure rate above a limit, and how streams of evidence are weighed.

A rollout keeps the rule that it started with: evidence read by one rule first and by another later would be valid by
neither, and a rollout that was halted would show that it should not have been.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
import numpy.typing as npt
from scipy.special import betaincc, betaln

Numbers = npt.NDArray[np.float64]
# Failure rates that the limit is held against, in multiples of it, and how much each counts. With so few the evidence
# is a sum of plain products. The weights are from a study over uniform faults of 2 to 10 times the limit.
TIMES = np.array([2.0, 2.5, 3.5, 5.0, 7.0, 10.0, 15.0, 25.0])
COUNTING = np.array([0.11, 0.12, 0.15, 0.18, 0.19, 0.12, 0.08, 0.05])
HIGHEST_RATE = 0.9
PRIOR_A = 0.5


@dataclass(frozen=True, slots=True)
class Division:
    """How evidence is divided among the streams of the ``whole``, of the ``rings`` and of the watched ``values``;
    together 1."""

    whole: float
    rings: float
    values: float


class Rule(StrEnum):
    """How evidence is read: against ``points``; or, in rollouts that began before these, against a ``beta`` prior."""

    POINTS = "points"
    BETA = "beta"

    @property
    def division(self) -> Division:
        """How streams are weighed."""
        return Division(0.8, 0.08, 0.12) if self is Rule.POINTS else Division(0.5, 0.25, 0.25)


def log_evidence(bad: npt.ArrayLike, seen: npt.ArrayLike, limit: float, rule: Rule = Rule.POINTS) -> Numbers:
    """ln E for ``bad`` of ``seen`` devices against the limit p0 (0–1); arrays are taken element by element."""
    f, n = np.asarray(bad, np.float64), np.asarray(seen, np.float64)
    return _by_points(f, n, limit) if rule is Rule.POINTS else _by_beta(f, n, limit)


def _by_points(f: Numbers, n: Numbers, limit: float) -> Numbers:
    # Near 1 nothing may be left between the limit and the highest rate: half-way to 1 stands in for it.
    rates = np.minimum(TIMES * limit, max(HIGHEST_RATE, (1 + limit) / 2))
    bad, good = np.log(rates / limit), np.log((1 - rates) / (1 - limit))
    return log_mean(np.log(COUNTING) + f[..., None] * bad + (n - f)[..., None] * good)


def log_mean(logs: Numbers) -> Numbers:
    """The logarithm of the sum of what these are the logarithms of, along the last axis; one is finite at least."""
    most = logs.max(axis=-1)
    return np.asarray(most + np.log(np.exp(logs - most[..., None]).sum(axis=-1)), np.float64)


def _by_beta(f: Numbers, n: Numbers, limit: float) -> Numbers:
    mean = min(0.5, 5 * limit)
    b = PRIOR_A * (1 - mean) / mean
    posterior = _log_upper_beta(PRIOR_A + f, b + n - f, limit)
    prior = _log_upper_beta(np.asarray(PRIOR_A), np.asarray(b), limit)
    null = f * np.log(limit) + (n - f) * np.log1p(-limit)
    return np.asarray(posterior - prior - null, np.float64)


def _log_upper_beta(x: Numbers, y: Numbers, limit: float) -> Numbers:
    """ln [B(x, y) · (1 − I_limit(x, y))]: the beta integral from ``limit`` to 1. Where 1 − I underflows, the first
    term of its expansion at the limit stands for it; the mode is far below the limit then."""
    with np.errstate(divide="ignore", invalid="ignore", under="ignore"):
        upper = betaincc(x, y, limit)
        direct = betaln(x, y) + np.log(upper)
        slope = (y - 1) / (1 - limit) - (x - 1) / limit
        tail = (x - 1) * np.log(limit) + (y - 1) * np.log1p(-limit) - np.log(slope)
    return np.asarray(np.where((upper < 1e-280) & (slope > 0), tail, direct), np.float64)


def value_weights(
    foreseen: Mapping[str, Sequence[str]], arrived: Sequence[tuple[str, str]]
) -> dict[tuple[str, str], float]:
    """How the watched facts' values share 1: each fact alike, and of a fact's share each of V foreseen values takes one
    part of V + 1; the last part is for values not foreseen, of which the j-th, in the order in which they ``arrived``,
    takes 1/(j(j+1)). So no weight ever depends on what is yet to come."""
    weights: dict[tuple[str, str], float] = {}
    for fact, values in foreseen.items():
        share = 1 / len(foreseen) / (len(values) + 1)
        weights |= {(fact, value): share for value in values}
        new = [key for key in arrived if key[0] == fact and key[1] not in values]
        weights |= {key: share / (j * (j + 1)) for j, key in enumerate(new, 1)}
    return weights
