"""What many runs of a rehearsal say together: quantiles of times, of harm, of traffic; chances; and why."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from mellow_herald.core.rehearsal.fleet import Blocked, Numbers, Places
from mellow_herald.core.rehearsal.passage import Passage
from mellow_herald.core.rehearsal.play import Course

QUANTILES = (0.1, 0.5, 0.9)
POINTS = 96


@dataclass(frozen=True, slots=True)
class Spread:
    """The 10 %, 50 % and 90 % quantiles over all runs; infinite for a time that never comes."""

    low: float
    middle: float
    high: float


@dataclass(frozen=True, slots=True)
class RingAnswer:
    """When a ring opens and is done (hours), how many of its devices are exposed and hurt."""

    opens: Spread
    ends: Spread
    exposed: Spread
    hurt: Spread


@dataclass(frozen=True, slots=True)
class Fan:
    """Over the hours ``at``: quantiles of how many devices are good, and hurt."""

    at: tuple[float, ...]
    good: tuple[Spread, ...]
    hurt: tuple[Spread, ...]


@dataclass(frozen=True, slots=True)
class Answer:
    """What one fault (or none) does. ``done`` when all is done, in the share ``finishes`` of all runs; ``halts`` the
    share that is halted, ``stands`` by ring and reason the share that stands still; ``exposed`` and ``hurt`` devices,
    ``hurt_unseen`` of them after their soak, when no brake counts them; ``served`` the share (0–1) of devices that the
    release reaches, ``never`` by condition the mean number that it does not; ``peak`` the most bytes of an hour,
    ``bytes`` all."""

    finishes: float
    done: Spread
    halts: float
    halted_by: tuple[tuple[str, float], ...]
    stands: tuple[tuple[int, str, float], ...]
    rings: tuple[RingAnswer, ...]
    exposed: Spread
    hurt: Spread
    hurt_unseen: Spread
    served: Spread
    never: tuple[tuple[str, float], ...]
    bytes: Spread
    peak: Spread
    fan: Fan = field(default=Fan((), (), ()))


@dataclass(slots=True)
class Tale:
    """What is kept of one run: numbers, and times of a few hundred steps, however many devices there are."""

    opens: list[float]
    ends: list[float]
    ended: float
    halted: str | None
    stands: tuple[int, str] | None
    exposed: list[int]
    hurt: list[int]
    unseen: int
    never: Counter[str]
    bytes: float
    peak: float
    good_at: Numbers
    hurt_at: Numbers


def tell(course: Course, devices: Sequence[int], size: int, horizon: float, blocked: Blocked) -> Tale:
    """What is kept of a run, up to ``horizon`` (hours); ``devices`` is how many each ring has, ``blocked`` what of the
    plan each device never meets."""
    until = min(course.stopped, horizon)
    passages = [passage for passage in course.passages if passage is not None]
    exposed = [0 if passage is None else int(np.count_nonzero(passage.begun <= until)) for passage in course.passages]
    # Who has the release goes wrong by it, whether the rollout still looks or not.
    harmed = [
        np.empty(0, np.int64) if one is None else np.flatnonzero(np.isfinite(one.hurt) & (one.begun <= until))
        for one in course.passages
    ]
    pairs = [(one, some) for one, some in zip(course.passages, harmed, strict=True) if one is not None]
    unseen = sum(int(np.isinf(one.bad[some]).sum()) for one, some in pairs)
    started = np.concatenate([p.offered[p.offered <= until] for p in passages]) if passages else np.empty(0)
    by_hour = np.bincount(started.astype(np.int64)) if len(started) else np.zeros(1, np.int64)
    return Tale(
        course.opens,
        course.ends,
        course.ended,
        course.halted,
        course.stands if np.isinf(course.ended) and course.halted is None else None,
        exposed,
        [len(some) for some in harmed],
        unseen,
        _never(passages, devices, until, blocked),
        float(size) * len(started),
        float(size) * float(by_hour.max()),
        _over_time([one.confirmed[one.confirmed <= until] for one in passages], horizon),
        _over_time([one.hurt[some[one.hurt[some] <= horizon]] for one, some in pairs], horizon),
    )


def _over_time(times: Sequence[Numbers], horizon: float) -> Numbers:
    """How many of these times, none of them after the horizon, have come at each of ``POINTS`` moments up to it."""
    counts = np.zeros(POINTS)
    for some in times:
        places = some * ((POINTS - 1) / horizon)
        counts += np.bincount(np.ceil(places, out=places).astype(np.int64), minlength=POINTS)[:POINTS]
    return np.cumsum(counts)


def _never(passages: Sequence[Passage], devices: Sequence[int], until: float, blocked: Blocked) -> Counter[str]:
    found: Counter[str] = Counter()
    for passage in passages:
        left = ~(passage.begun <= until)
        if not left.any():
            continue
        found["not heard of"] += int((left & ~(passage.asked <= until)).sum())
        waits = left & (passage.asked <= until) & ~(passage.offered <= until)
        found += _by_reason(blocked, blocked.fetch[passage.some[waits]], "offered nothing before it ended")
        found["failed before it switched"] += int((left & (passage.undelivered <= until)).sum())
        waits = left & (passage.offered <= until) & ~(passage.undelivered <= until)
        found += _by_reason(blocked, blocked.switch[passage.some[waits]], "given no leave to switch before it ended")
    opened = sum(len(passage.some) for passage in passages)
    found["its ring never opened"] += sum(devices) - opened
    return Counter({why: count for why, count in found.items() if count})


def _by_reason(blocked: Blocked, places: Places, otherwise: str) -> Counter[str]:
    counts = np.bincount(places, minlength=len(blocked.reasons))
    return Counter({words or otherwise: int(n) for words, n in zip(blocked.reasons, counts, strict=True) if n})


def answer(tales: Sequence[Tale], devices: Sequence[int], horizon: float) -> Answer:
    """What these runs say together."""
    total = max(1, sum(devices))
    halted = Counter(_rule(tale.halted) for tale in tales if tale.halted is not None)
    stands = Counter(tale.stands for tale in tales if tale.stands is not None)
    never: Counter[str] = Counter()
    for tale in tales:
        never.update(tale.never)
    runs = len(tales)
    return Answer(
        finishes=sum(np.isfinite(tale.ended) for tale in tales) / runs,
        done=spread([tale.ended for tale in tales]),
        halts=sum(halted.values()) / runs,
        halted_by=tuple((why, count / runs) for why, count in halted.most_common(4)),
        stands=tuple((ring, why, count / runs) for (ring, why), count in _merged(stands)),
        rings=tuple(
            RingAnswer(
                spread([tale.opens[n] for tale in tales]),
                spread([tale.ends[n] for tale in tales]),
                spread([tale.exposed[n] for tale in tales]),
                spread([tale.hurt[n] for tale in tales]),
            )
            for n in range(len(devices))
        ),
        exposed=spread([sum(tale.exposed) for tale in tales]),
        hurt=spread([sum(tale.hurt) for tale in tales]),
        hurt_unseen=spread([tale.unseen for tale in tales]),
        served=spread([sum(tale.exposed) / total for tale in tales]),
        never=tuple((why, count / runs) for why, count in never.most_common()),
        bytes=spread([tale.bytes for tale in tales]),
        peak=spread([tale.peak for tale in tales]),
        fan=Fan(
            tuple(np.linspace(0, horizon, POINTS).tolist()),
            _spreads(np.stack([tale.good_at for tale in tales])),
            _spreads(np.stack([tale.hurt_at for tale in tales])),
        ),
    )


def _rule(why: str | None) -> str:
    """Which rule halted, without its numbers."""
    text = why or ""
    return text.partition(":")[0] if "brake:" in text else "hard_stop"


def _merged(stands: Counter[tuple[int, str]]) -> list[tuple[tuple[int, str], int]]:
    """Reasons that differ in their numbers alone, told once, by the one met most often."""
    kinds: dict[tuple[int, str], tuple[str, int]] = {}
    for (ring, why), count in stands.most_common():
        kind = ring, "".join(letter for letter in why if not letter.isdigit())
        words, before = kinds.get(kind, (why, 0))
        kinds[kind] = words, before + count
    return [((ring, words), count) for (ring, _), (words, count) in kinds.items()]


def spread(values: Sequence[float]) -> Spread:
    """The quantiles of some values; infinite ones are larger than all others."""
    (found,) = _spreads(np.asarray(values, np.float64)[:, None])
    return found


def _spreads(values: Numbers) -> tuple[Spread, ...]:
    """Those of each column."""
    ordered = np.sort(values, axis=0)
    places = [min(len(ordered) - 1, int(q * len(ordered))) for q in QUANTILES]
    return tuple(Spread(*column) for column in ordered[places].T.tolist())
