"""What failing devices have in common that healthy ones do not.

For every value of every fact, and for pairs of the best ones, Fisher's exact test (one-sided) of bad against good; the
Benjamini–Hochberg procedure over all tests bounds the expected share of false ones among those named (Benjamini,
Hochberg, "Controlling the false discovery rate", J. R. Statist. Soc. B 57, 1995). Pairs that were not tried count as
tests too, since the best ones were picked by looking; tests that could not be significant whatever came out, because
too few or nearly all devices have the fact, do not count (Gilbert, "A modified false discovery rate
multiple-comparisons procedure for discrete data", Appl. Statist. 54, 2005); nor do facts that the very same devices
have. Intervals of the risk difference are Newcombe's hybrid score intervals (Statistics in Medicine 17, 1998, method
10).
"""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations

import numpy as np
import numpy.typing as npt
from scipy.special import gammaln

from mellow_herald.core.selector.tree import FACTS, LABEL_PREFIX, Kind

LEAST_BAD = 3
BEST = 8
# A pair is named only if each half makes the other worse, too: p of that at most this.
SHARPER = 0.01
Z = 1.959964
NO_VALUE = "(none)"
# What an attempt keeps of its device besides labels.
FACT_NAMES = ("hw_rev", "version", "gateway", "board", "line", "link")
PLAIN = re.compile(r"(?!(?:and|or|not|in|has)\b)[A-Za-z][A-Za-z0-9_-]*")
UNQUOTABLE = re.compile(r'["\x00-\x1f]')
Flags = npt.NDArray[np.bool_]
Fact = tuple[str, str]


@dataclass(frozen=True, slots=True)
class Suspect:
    """One or two facts: ``bad`` of ``devices`` that have them are bad, ``other_bad`` of ``others`` that do not. ``p``
    is Fisher's, ``q`` the rate of false discoveries at which it is named; ``low`` and ``high`` bound the risk
    difference at 95 %."""

    facts: tuple[Fact, ...]
    devices: int
    bad: int
    others: int
    other_bad: int
    p: float
    q: float
    low: float
    high: float

    @property
    def rate(self) -> float:
        """The share of bad ones among those that have it."""
        return self.bad / self.devices

    @property
    def selector(self) -> str:
        """The devices that have it, as a selector."""
        return " and ".join(_written(name, value) for name, value in self.facts)

    @property
    def other_rate(self) -> float:
        """The share of bad ones among the others."""
        return self.other_bad / self.others if self.others else 0.0


def find_suspects(
    facts: Mapping[str, Sequence[str]], bad: Sequence[bool] | Flags, *, rate: float = 0.05
) -> list[Suspect]:
    """The facts, and pairs of facts, that bad devices have more often than chance would have it; the best first.

    ``facts`` gives for every fact one value per decided device, ``bad`` whether that device is bad; ``rate`` is the
    expected share of false ones among those named (0–1).
    """
    wrong = np.asarray(bad, np.bool_)
    if wrong.sum() < LEAST_BAD or wrong.all():
        return []
    having = {
        (name, str(value)): column == value
        for name, column in ((name, np.asarray(values, object)) for name, values in facts.items())
        for value in sorted(set(column.tolist()), key=str)
    }
    able = _attainable(len(wrong), int(wrong.sum()), rate)
    having = _different({fact: has for fact, has in having.items() if able[int(has.sum())]})
    singles = {fact: fisher(has, wrong) for fact, has in having.items()}
    best = sorted(singles, key=lambda fact: (singles[fact], fact))[:BEST]
    tried = [(one, two) for one, two in combinations(best, 2) if one[0] != two[0]]
    pairs = {(one, two): having[one] & having[two] for one, two in tried}
    tests: list[tuple[tuple[Fact, ...], Flags, float]] = [((fact,), having[fact], p) for fact, p in singles.items()]
    tests += [
        (pair, has, fisher(has, wrong))
        for pair, has in pairs.items()
        if has.sum() >= LEAST_BAD and _sharper(has, having[pair[0]], wrong) and _sharper(has, having[pair[1]], wrong)
    ]
    named = _adjusted([p for _, _, p in tests], len(having) + _count_pairs(having, able))
    found = [
        _suspect(fact, has, wrong, p, q)
        for (fact, has, p), q in zip(tests, named, strict=True)
        if q <= rate and (has & wrong).sum() >= LEAST_BAD
    ]
    return sorted(found, key=lambda suspect: (suspect.p, -suspect.rate, suspect.facts))


def leading_candidate(facts: Mapping[str, Sequence[str]], bad: Sequence[bool] | Flags) -> Suspect | None:
    """The one fact that bad devices have more often than others with the least p, however near to chance that is: a
    place to look at, not a finding (its ``q`` is 1). None where nobody is bad, or everybody is."""
    wrong = np.asarray(bad, np.bool_)
    if not wrong.any() or wrong.all():
        return None
    found = []
    for name, values in facts.items():
        column = np.asarray(values, object)
        for value in sorted(set(column[wrong].tolist()), key=str):
            has = column == value
            if has.all():
                continue
            one = _suspect(((name, str(value)),), has, wrong, fisher(has, wrong), 1.0)
            if one.rate > one.other_rate:
                found.append(one)
    ranks = {name: rank for rank, name in enumerate(FACT_NAMES)}
    order = len(FACT_NAMES)
    return min(found, key=lambda one: (one.p, ranks.get(one.facts[0][0], order), one.facts), default=None)


def fisher(has: Flags, bad: Flags) -> float:
    """The one-sided p of Fisher's exact test: the chance of at least so many bad ones among those who have it."""
    everyone, all_bad, n, x = len(bad), int(bad.sum()), int(has.sum()), int((has & bad).sum())
    k = np.arange(x, min(n, all_bad) + 1)
    if not len(k):
        return 1.0
    logs = _log_choose(all_bad, k) + _log_choose(everyone - all_bad, n - k) - _log_choose(everyone, n)
    return float(min(1.0, np.exp(logs).sum()))


def _log_choose(n: npt.ArrayLike, k: npt.ArrayLike) -> npt.NDArray[np.float64]:
    n, k = np.asarray(n, np.float64), np.asarray(k, np.float64)
    with np.errstate(invalid="ignore"):
        logs = gammaln(n + 1) - gammaln(k + 1) - gammaln(n - k + 1)
    return np.where((k < 0) | (k > n), -np.inf, logs)


def _sharper(pair: Flags, single: Flags, bad: Flags) -> bool:
    """Whether, among those who have the one, those who have the other too are worse off."""
    return fisher(pair[single], bad[single]) <= SHARPER


def _attainable(everyone: int, all_bad: int, rate: float) -> Flags:
    """For every number of devices that may have a fact, whether a test of it could be significant at all: the most that
    can come out is that all of them are bad, or all bad ones are among them."""
    n = np.arange(everyone + 1)
    most = np.minimum(n, all_bad)
    logs = _log_choose(all_bad, most) + _log_choose(everyone - all_bad, n - most) - _log_choose(everyone, n)
    return np.asarray((n >= LEAST_BAD) & (n < everyone) & (np.exp(logs) <= rate))


def _different(having: Mapping[Fact, Flags]) -> dict[Fact, Flags]:
    """Without facts that the very same devices have as one before."""
    found: dict[bytes, Fact] = {}
    for fact in sorted(having, key=lambda one: (one[0] not in FACT_NAMES, one)):
        found.setdefault(np.packbits(having[fact]).tobytes(), fact)
    return {fact: having[fact] for fact in sorted(found.values())}


def _count_pairs(having: Mapping[Fact, Flags], able: Flags) -> int:
    """How many pairs of values of different facts could be significant."""
    if not having:
        return 0
    names = [name for name, _ in having]
    columns = np.stack(list(having.values())).astype(np.float32)
    together = np.rint(columns @ columns.T).astype(np.int64)
    upper = np.triu(np.ones_like(together, np.bool_), 1)
    differ = np.asarray([[one != two for two in names] for one in names])
    return int((able[together] & upper & differ).sum())


def _adjusted(ps: Sequence[float], tests: int) -> list[float]:
    """For each p the rate of false discoveries at which it would just be named, among so many ``tests``."""
    order, least = sorted(range(len(ps)), key=lambda n: ps[n]), 1.0
    found = [1.0] * len(ps)
    for rank in range(len(order), 0, -1):
        least = min(least, ps[order[rank - 1]] * tests / rank)
        found[order[rank - 1]] = least
    return found


def _suspect(facts: tuple[Fact, ...], has: Flags, bad: Flags, p: float, q: float) -> Suspect:
    n, x = int(has.sum()), int((has & bad).sum())
    m, y = len(bad) - n, int(bad.sum()) - x
    low, high = _difference(x, n, y, m)
    return Suspect(facts, n, x, m, y, p, q, low, high)


def _difference(x: int, n: int, y: int, m: int) -> tuple[float, float]:
    first, second = x / n, y / m if m else 0.0
    (l1, u1), (l2, u2) = _wilson(x, n), _wilson(y, m)
    difference = first - second
    low = difference - float(np.hypot(first - l1, u2 - second))
    return low, difference + float(np.hypot(u1 - first, second - l2))


def _wilson(x: int, n: int) -> tuple[float, float]:
    if not n:
        return 0.0, 1.0
    share, square = x / n, Z * Z
    middle, width = share + square / (2 * n), Z * float(np.sqrt(share * (1 - share) / n + square / (4 * n * n)))
    return (middle - width) / (1 + square / n), (middle + width) / (1 + square / n)


def _written(name: str, value: str) -> str:
    key = name if name in FACT_NAMES or name not in FACTS else LABEL_PREFIX + name
    if value == NO_VALUE:
        return f"not has {key}"
    if FACTS.get(name) is Kind.NUMBER:
        return f"{key} = {value}"
    if PLAIN.fullmatch(value):
        return f"{key} = {value}"
    # A quoted value cannot hold a quote: any character in its place will do.
    masked = UNQUOTABLE.sub("?", value)
    return f'{key} = "{value}"' if masked == value else f'{key} ~ "{masked}"'
