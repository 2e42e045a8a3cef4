"""What an update did to a reading: each device against itself before, and against devices that were not updated."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.special import stdtrit

from mellow_herald.core.relapse import ReadingRule, Worse

DAY_S, CONFIDENCE = 86_400.0, 0.95
# Of a trend: so many values, over so long (s), or it says nothing.
LEAST_VALUES, LEAST_SPAN_S = 8, 1800.0
# A trend that is so many of its standard errors worse is no accident; it is looked at over and over.
SURE = 4.0
LEAST_CONTROL, TENTH = 3, 10
Numbers = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Trend:
    """How a reading moves: per day, with its standard error, and the mean of its values."""

    per_day: float
    error: float
    mean: float
    count: int


@dataclass(frozen=True, slots=True)
class Side:
    """One group before or after: the median over its devices, and the quartiles."""

    devices: int
    low: float
    median: float
    high: float


@dataclass(frozen=True, slots=True)
class Effect:
    """By how much the updated changed more than the control did (or, without one, at all): ``difference`` with its
    interval of 95 % (None: too few devices to say)."""

    before: Side | None
    after: Side | None
    control_before: Side | None
    control_after: Side | None
    difference: float | None
    low: float | None
    high: float | None


def trend(times: Numbers, values: Numbers) -> Trend | None:
    """The straight line through values at ``times`` (s); None where there are too few, or over too short a time."""
    count = len(values)
    if count < LEAST_VALUES or times[-1] - times[0] < LEAST_SPAN_S:
        return None
    days = (times - times.mean()) / DAY_S
    spread = float((days**2).sum())
    mean = float(values.mean())
    per_day = float((days * (values - mean)).sum() / spread)
    left = values - mean - per_day * days
    error = math.sqrt(float((left**2).sum()) / (count - 2) / spread)
    return Trend(per_day, error, mean, count)


def drift(rule: ReadingRule, control: Sequence[float]) -> float:
    """The change (per day) that the weather, the hour or the network make, as devices show that were not updated: that
    of the worst tenth of them, so that no device is blamed for what befalls others too. 0 where they are too few."""
    if len(control) < LEAST_CONTROL:
        return 0.0
    return float(np.percentile(np.array(control), TENTH if rule.worse is Worse.LOWER else 100 - TENTH))


def worsened(rule: ReadingRule, before: Trend | None, after: Trend | None, drift: float = 0.0) -> str | None:
    """Whether a device's reading moves worse after its update than before, by as much as the rule says and surely, once
    what happened to everybody (``drift``, per day) is taken off; then in words."""
    if before is None or after is None or not rule.broken(before.per_day, after.per_day - drift):
        return None
    if abs(after.per_day - drift - before.per_day) < SURE * math.hypot(before.error, after.error):
        return None
    beside = f", and {drift:+.3g} of that is seen without it" if drift else ""
    return f"{rule.name} {after.per_day:+.3g} a day, before the update {before.per_day:+.3g}{beside}"


def effect(
    before: Sequence[float], after: Sequence[float], control_before: Sequence[float], control_after: Sequence[float]
) -> Effect:
    """What the update did. Places belong together: device by device, each before and after."""
    own = np.array(after) - np.array(before)
    other = np.array(control_after) - np.array(control_before)
    difference = low = high = None
    if len(own):
        difference = float(own.mean() - (other.mean() if len(other) else 0.0))
        groups = [one for one in (own, other) if len(one)]
        if all(len(one) > 1 for one in groups):
            parts = [float(one.var(ddof=1)) / len(one) for one in groups]
            error = math.sqrt(sum(parts))
            # Welch: each group has a spread of its own.
            shares = sum(part**2 / (len(one) - 1) for part, one in zip(parts, groups, strict=True))
            freedom = sum(parts) ** 2 / shares if shares > 0 else math.inf
            reach = float(stdtrit(freedom, (1 + CONFIDENCE) / 2)) * error if error > 0 else 0.0
            low, high = difference - reach, difference + reach
    return Effect(_side(before), _side(after), _side(control_before), _side(control_after), difference, low, high)


def _side(values: Sequence[float]) -> Side | None:
    if not len(values):
        return None
    low, median, high = np.percentile(np.array(values), (25, 50, 75))
    return Side(len(values), float(low), float(median), float(high))
