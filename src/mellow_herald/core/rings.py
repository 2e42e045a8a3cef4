"""Which ring a device comes to: exact numbers, drawn so that an early ring looks like the fleet.

Devices come in groups that agree in all facts that matter; ids stand in numpy columns, so a million take well under a
second. The same inputs give the same rings.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from math import floor

import numpy as np
import numpy.typing as npt

from mellow_herald.core.plan import Ring

Ids = npt.NDArray[np.int64]
Stratum = tuple[str, ...]
NONE: Ids = np.empty(0, np.int64)
MOST_STRATA = 10_000
LARGEST_TABLE = 100_000_000


@dataclass(frozen=True, slots=True)
class Group:
    """Devices alike: ``facts`` are their values of all facts that any ring is spread over, ``picked`` tells for every
    ring of the plan whether its selector picks them."""

    facts: Mapping[str, str]
    picked: tuple[bool, ...]
    ids: Ids


@dataclass(frozen=True, slots=True)
class Coverage:
    """How a ring covers one stratum: ``taken`` of its ``eligible`` devices (those that no earlier ring took)."""

    values: tuple[tuple[str, str], ...]
    eligible: int
    taken: int


@dataclass(frozen=True, slots=True)
class Placed:
    """One ring's devices in the order of their draw, how its strata are covered (empty if it is not spread), and the
    devices of each stratum."""

    ids: Ids
    coverage: tuple[Coverage, ...] = ()
    strata: tuple[Ids, ...] = ()


def place(
    rings: Sequence[Ring],
    groups: Sequence[Group],
    named: Mapping[int, Ids],
    salt: int,
    *,
    first: int = 0,
    given: int = 0,
) -> list[Placed]:
    """The devices of every ring from ``first`` on.

    Rings choose in their order, but who is ``named`` by a ring's list (its position → ids) comes to that ring alone.
    ``share`` counts of all eligible devices, the ``given`` ones of earlier rings included.
    """
    everyone = given + sum(len(group.ids) for group in groups)
    listed = np.concatenate([NONE, *named.values()])
    # Ordered once: who is left after a ring's draw is in order still, and what is in order is sorted again at no cost.
    left = _without([Group(g.facts, g.picked, ordered(g.ids, salt)) for g in groups], listed)
    placed: list[Placed] = []
    for position in range(first, len(rings)):
        ring = rings[position]
        if ring.serials:
            ids = ordered(named.get(position, NONE), salt)
            placed.append(Placed(ids, strata=(ids,)))
            continue
        open_to = [g for g in left if ring.where is None or g.picked[position]]
        room = sum(len(g.ids) for g in open_to)
        wanted = room
        if ring.count is not None:
            wanted = min(room, ring.count)
        elif ring.share is not None:
            # Half up, and never nobody: a share of a small fleet is still somebody.
            wanted = min(room, max(1, floor(ring.share * everyone + 0.5)))
        one = _draw(ring, open_to, wanted, salt)
        placed.append(one)
        left = _without(left, one.ids)
    return placed


def apportion(sizes: Sequence[int], wanted: int) -> list[int]:
    """How many of ``wanted`` places each stratum gets: by largest remainder, and at least one each where there are
    enough places. ``wanted`` is at most the sum of ``sizes``."""
    everyone = sum(sizes)
    if not wanted:
        return [0] * len(sizes)
    filled = [place for place, size in enumerate(sizes) if size]
    least = [1 if size and wanted >= len(filled) else 0 for size in sizes]
    exact = [wanted * size / everyone for size in sizes]
    got = [min(size, max(low, floor(part))) for size, low, part in zip(sizes, least, exact, strict=True)]
    # A place for every stratum may have given away too many: the best-off give them back.
    while sum(got) > wanted:
        got[max((p for p in filled if got[p] > least[p]), key=lambda p: (got[p] - exact[p], p))] -= 1
    while sum(got) < wanted:
        got[max((p for p in filled if got[p] < sizes[p]), key=lambda p: (exact[p] - got[p], -p))] += 1
    return got


def _draw(ring: Ring, groups: Sequence[Group], wanted: int, salt: int) -> Placed:
    strata: dict[Stratum, list[Ids]] = {}
    for group in groups:
        stratum = tuple(group.facts[name] for name in ring.spread_over)
        strata.setdefault(stratum, []).append(group.ids)
    keys = sorted(strata)
    pools = [ordered(np.concatenate(strata[key]), salt) for key in keys]
    shares = apportion([len(pool) for pool in pools], wanted)
    taken = tuple(pool[:n] for pool, n in zip(pools, shares, strict=True))
    ids = ordered(np.concatenate([NONE, *taken]), salt)
    if not ring.spread_over:
        return Placed(ids, strata=taken)
    coverage = tuple(
        Coverage(tuple(zip(ring.spread_over, key, strict=True)), len(pool), n)
        for key, pool, n in zip(keys, pools, shares, strict=True)
        if len(pool)
    )
    return Placed(ids, coverage, taken)


def ordered(ids: Ids, salt: int) -> Ids:
    """The ids in an order that depends on them and the salt alone."""
    return ids[np.argsort(_mixed(ids, salt), kind="stable")] if len(ids) else ids


def _mixed(ids: Ids, salt: int) -> npt.NDArray[np.uint64]:
    """A 64-bit hash of each id; the finaliser is that of SplitMix64 (Steele, Lea, Flood, OOPSLA 2014)."""
    with np.errstate(over="ignore"):
        mixed = ids.astype(np.uint64) * np.uint64(0x9E3779B97F4A7C15) + np.uint64(salt % 2**64)
        mixed = (mixed ^ (mixed >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        mixed = (mixed ^ (mixed >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        return mixed ^ (mixed >> np.uint64(31))


def _without(groups: Sequence[Group], taken: Ids) -> list[Group]:
    if not len(taken):
        return list(groups)
    largest = max(int(ids.max()) for ids in (taken, *(g.ids for g in groups)) if len(ids))
    if largest > LARGEST_TABLE:
        return [Group(g.facts, g.picked, g.ids[~np.isin(g.ids, taken)]) for g in groups]
    # Ids are dense: looking them up in a table is many times quicker than sorting.
    is_left = np.ones(largest + 1, np.bool_)
    is_left[taken] = False
    return [Group(g.facts, g.picked, g.ids[is_left[g.ids]]) for g in groups]
