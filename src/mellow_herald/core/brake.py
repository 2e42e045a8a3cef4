"""The brake: halts a rollout on evidence of harm, not on luck.

Two brakes work alike, each with a limit p0: *firmware* counts bad devices among the exposed ones, *delivery* failures
before exposure among the offered ones. Evidence is an e-process, valid however often one looks (Ville's inequality;
Ramdas, Grünwald, Vovk, Shafer, "Game-theoretic statistics and safe anytime-valid inference", Statistical Science 2023):

    E(f, n) = Σ w_j (q_j/p0)^f ((1−q_j)/(1−p0))^(n−f)

with f bad of n devices and fixed failure rates q_j above the limit (``core.evidence``). If, in order of first exposure,
the running mean of P(ever bad | past) never exceeds p0, the chance that E ever reaches 1/x is at most x.

Evidence is kept for the whole rollout, for each ring and for each value of the watched facts, and averaged with weights
that are fixed at the start, so that ten thousand good devices in one place cannot hide a hundred bad ones in another.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
import numpy.typing as npt

from mellow_herald.core.arms import ARM
from mellow_herald.core.evidence import Numbers, Rule, log_evidence, log_mean, value_weights
from mellow_herald.core.plan import BrakeKind

WHOLE, RING = "whole", "ring"
# Above so much of what halts, a brake is near: no further ring opens by itself.
NEAR = 0.25
# More foreseen values of a fact than this share what is kept for those not foreseen.
MOST_FORESEEN = 200


COUNTED = {BrakeKind.FIRMWARE: "exposed", BrakeKind.DELIVERY: "offered"}


@dataclass(frozen=True, slots=True)
class Watch:
    """How evidence is divided, fixed when a rollout starts: its number of ``rings``, and for each watched fact the
    values that are ``foreseen``; and by which rule it is read."""

    rings: int
    foreseen: Mapping[str, Sequence[str]]
    rule: Rule = Rule.POINTS

    def as_dict(self) -> dict[str, object]:
        """As it is stored with a rollout."""
        foreseen = {fact: list(values) for fact, values in self.foreseen.items()}
        return {"rings": self.rings, "foreseen": foreseen, "rule": self.rule.value}

    @classmethod
    def from_dict(cls, stored: Mapping[str, Any]) -> "Watch":
        """As it was stored; before there was a choice, the rule was ``beta``."""
        return cls(stored["rings"], stored["foreseen"], Rule(stored.get("rule", Rule.BETA)))


@dataclass(frozen=True, slots=True)
class Tally:
    """Devices of one ring that agree in all watched facts: ``bad`` of ``seen`` (numbers, or arrays of one number for
    each moment of a history), when the first of them was seen, and how many of the bad came through on a later try."""

    ring: int
    facts: Mapping[str, str]
    seen: npt.ArrayLike
    bad: npt.ArrayLike
    first_at: datetime | None = None
    later_good: int = 0


@dataclass(frozen=True, slots=True)
class Stream:
    """One place where evidence is kept: the ``whole`` rollout, a ``ring`` (its position as value), or a watched fact's
    value. ``log_evidence`` is the natural logarithm of E."""

    fact: str
    value: str
    weight: float
    seen: int
    bad: int
    log_evidence: float

    @property
    def contribution(self) -> float:
        """The logarithm of what it adds to the mean."""
        return float(np.log(self.weight)) + self.log_evidence if self.weight > 0 else -np.inf


@dataclass(frozen=True, slots=True)
class Reading:
    """What one brake shows now. ``halts_at`` is the evidence that halts in this round; ``strongest`` the stream whose
    own evidence is highest; ``later_good`` of the bad came through on a later try, which takes nothing off."""

    kind: BrakeKind
    limit: float
    halts_at: float
    log_evidence: float
    streams: tuple[Stream, ...]
    later_good: int = 0

    @property
    def evidence(self) -> float:
        """The mean of all streams' evidence, at most 1e300."""
        return float(np.exp(min(self.log_evidence, 690.0)))

    @property
    def whole(self) -> Stream:
        """The stream of the whole rollout."""
        return self.streams[0]

    @property
    def strongest(self) -> Stream:
        """The stream whose own evidence is highest; the whole, where no part of it shows more."""
        return max(self.streams, key=lambda stream: stream.log_evidence)

    @property
    def halts(self) -> bool:
        """Whether there is enough evidence to halt."""
        return self.log_evidence >= float(np.log(self.halts_at))

    @property
    def near(self) -> bool:
        """Whether it is so near to halting that no ring should open by itself."""
        return self.log_evidence >= float(np.log(self.halts_at * NEAR))

    def summary(self, ring_names: Sequence[str] = ()) -> str:
        """In words, e.g. ``firmware brake: evidence 12.8 of 40; 10 bad of 180 exposed (5.6 %, limit 2 %); hw_rev 2
        shows most of all``."""
        whole = self.whole
        share = f"{100 * whole.bad / whole.seen:.1f} %, " if whole.seen else ""
        text = (
            f"{self.kind.value} brake: evidence {_plain(self.evidence)} of {self.halts_at:g}; "
            f"{whole.bad} {self._bad_words} of {whole.seen} {COUNTED[self.kind]}"
            f"{self._later_words} ({share}limit {100 * self.limit:g} %)"
        )
        named = stream_name(self.strongest, ring_names)
        return f"{text}; {named} shows most of all" if self.strongest.bad and named else text

    @property
    def _bad_words(self) -> str:
        return "failed at first" if self.later_good else "bad"

    @property
    def _later_words(self) -> str:
        if not self.later_good:
            return ""
        return f", {'all' if self.later_good >= self.whole.bad else self.later_good} through later"


def stream_name(stream: Stream, ring_names: Sequence[str] = ()) -> str:
    """A stream in words; empty for the whole rollout."""
    if stream.fact == WHOLE:
        return ""
    if stream.fact == RING:
        position = int(stream.value)
        return f"ring {ring_names[position]}" if position < len(ring_names) else f"ring {position + 1}"
    return f"{stream.fact} {stream.value}"


def _plain(value: float) -> str:
    return f"{value:.1f}" if value < 1000 else "over 1000"


def halts_at(round_: int, alpha: float) -> float:
    """The evidence at which a brake halts in the ``round_``-th round (from 1): k(k+1)/α. In the first round each of the
    two brakes has half of α; over all rounds a good rollout is halted with a chance below 2α."""
    return round_ * (round_ + 1) / alpha


def read_brake(kind: BrakeKind, tallies: Iterable[Tally], watch: Watch, limit: float, halt: float) -> Reading:
    """What a brake shows for the devices that were counted in this round."""
    tallies = list(tallies)
    streams, idle = _streams(tallies, watch)
    seen = np.array([float(one) for _, one, _ in streams.values()])
    bad = np.array([float(one) for _, _, one in streams.values()])
    found = [
        Stream(fact, value, weight, int(n), int(f), float(log))
        for ((fact, value), (weight, _, _)), n, f, log in zip(
            streams.items(), seen, bad, log_evidence(bad, seen, limit, watch.rule), strict=True
        )
    ]
    logs = np.array([stream.contribution for stream in found] + ([float(np.log(idle))] if idle > 0 else []))
    return Reading(kind, limit, halt, float(log_mean(logs)), tuple(found), sum(one.later_good for one in tallies))


def evidence_over_time(tallies: Iterable[Tally], watch: Watch, limit: float) -> Numbers:
    """ln E at each moment of a history: ``seen`` and ``bad`` of the tallies are arrays over time."""
    streams, idle = _streams(list(tallies), watch)
    weights = np.array([weight for weight, _, _ in streams.values()])
    seen = np.stack([np.asarray(seen, np.float64) for _, seen, _ in streams.values()])
    bad = np.stack([np.asarray(bad, np.float64) for _, _, bad in streams.values()])
    with np.errstate(divide="ignore"):
        logs = log_evidence(bad, seen, limit, watch.rule) + np.log(weights)[:, None]
        rest = np.full((1, seen.shape[1]), np.log(idle) if idle > 0 else -np.inf)
    return log_mean(np.concatenate([logs, rest]).T)


def _streams(tallies: list[Tally], watch: Watch) -> tuple[dict[tuple[str, str], tuple[float, Numbers, Numbers]], float]:
    """Weight, seen and bad of every stream that has opened, the whole first; and the weight of all that have not, whose
    evidence is 1."""
    zero = np.zeros_like(np.asarray(tallies[0].seen, np.float64)) if tallies else np.zeros(())
    sums: dict[tuple[str, str], list[Numbers]] = {(WHOLE, ""): [zero.copy(), zero.copy()]}
    first: dict[tuple[str, str], tuple[bool, datetime | None, str]] = {}
    for tally in tallies:
        seen, bad = np.asarray(tally.seen, np.float64), np.asarray(tally.bad, np.float64)
        keys = [(WHOLE, ""), (RING, str(tally.ring)), *((f, v) for f, v in tally.facts.items() if f in watch.foreseen)]
        for key in keys:
            both = sums.setdefault(key, [zero.copy(), zero.copy()])
            both[0] += seen
            both[1] += bad
            came = (tally.first_at is None, tally.first_at, key[1])
            if key not in first or (tally.first_at is not None and came < first[key]):
                first[key] = came
    weights = stream_weights(watch, sorted(first, key=lambda key: _comparable(first[key])))
    found = {key: (weights.get(key, 0.0), both[0], both[1]) for key, both in sums.items()}
    return found, max(0.0, 1.0 - sum(weight for weight, _, _ in found.values()))


def _comparable(came: tuple[bool, datetime | None, str]) -> tuple[bool, float, str]:
    return came[0], 0.0 if came[1] is None else came[1].timestamp(), came[2]


def stream_weights(watch: Watch, arrived: Sequence[tuple[str, str]]) -> dict[tuple[str, str], float]:
    """What the rule gives the whole, what the rings share, and what the watched facts share (the whole has that too,
    where none is watched). All together never exceed 1. Where two releases are compared, half of what the whole has is
    theirs: the bad one would have the good one's devices against its evidence."""
    division, arms = watch.rule.division, watch.foreseen.get(ARM, ())
    facts = {name: values for name, values in watch.foreseen.items() if name != ARM}
    whole = division.whole + (0.0 if facts else division.values)
    weights = {(WHOLE, ""): whole / 2 if arms else whole}
    weights |= {(ARM, arm): whole / 2 / len(arms) for arm in arms}
    weights |= {(RING, str(position)): division.rings / watch.rings for position in range(watch.rings)}
    values = value_weights(facts, [key for key in arrived if key[0] != ARM])
    return weights | {key: division.values * weight for key, weight in values.items()}
