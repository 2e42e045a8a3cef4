"""What the failing devices of a rollout have in common."""

import asyncio

from mellow_herald.core.plan import BrakeKind
from mellow_herald.core.suspects import Suspect, find_suspects, leading_candidate
from mellow_herald.service.context import Context
from mellow_herald.service.rollouts.record import stored_rollout
from mellow_herald.store import suspects
from mellow_herald.wire.suspect import SuspectOut, SuspectsOut

MOST = 20
FALSE_RATE = 0.05


async def find(context: Context, rollout_id: int, kind: BrakeKind | None, *, excepted: bool = False) -> SuspectsOut:
    """The suspects of a rollout; of its firmware, or, where nothing was harmed, of its delivery. Who was left out
    counts only with ``excepted``: it is not evidence against the rest. In a large fleet they may be a few seconds
    old."""
    question = ("suspects", rollout_id, kind, excepted)
    return await context.counted(question, lambda: _find(context, rollout_id, kind, excepted))


async def _find(context: Context, rollout_id: int, kind: BrakeKind | None, excepted: bool) -> SuspectsOut:
    async with context.engine.connect() as connection:
        await stored_rollout(connection, rollout_id)
        meant = kind or BrakeKind.FIRMWARE
        facts, bad = await suspects.load_decided(connection, rollout_id, meant, excepted=excepted)
        if kind is None and not any(bad):
            other = await suspects.load_decided(connection, rollout_id, BrakeKind.DELIVERY, excepted=excepted)
            if any(other[1]):
                meant, (facts, bad) = BrakeKind.DELIVERY, other
    # A hundred thousand devices take a second of computing: others are answered meanwhile.
    found = await asyncio.to_thread(find_suspects, facts, bad, rate=FALSE_RATE)
    candidate = None if found else await asyncio.to_thread(leading_candidate, facts, bad)
    return SuspectsOut(
        rollout=rollout_id,
        kind=meant,
        decided=len(bad),
        bad=sum(bad),
        false_rate=FALSE_RATE,
        excepted=excepted,
        suspects=[_as_shown(one) for one in found[:MOST]],
        candidate=None if candidate is None else _as_shown(candidate),
        words=_summary(len(bad), sum(bad), len(found), candidate),
    )


def _as_shown(one: Suspect) -> SuspectOut:
    return SuspectOut(
        words=_name(one),
        selector=one.selector,
        devices=one.devices,
        bad=one.bad,
        rate=one.rate,
        others=one.others,
        other_bad=one.other_bad,
        other_rate=one.other_rate,
        difference=one.rate - one.other_rate,
        low=one.low,
        high=one.high,
        p=one.p,
        q=one.q,
    )


def _name(one: Suspect) -> str:
    return " and ".join(f"{name} {value}" for name, value in one.facts)


def _summary(decided: int, bad: int, found: int, candidate: Suspect | None) -> str:
    told = f"{bad} of {decided} decided devices are bad"
    if not bad or found:
        return f"{told}."
    if bad == decided:
        return f"all {decided} decided devices are bad: no fact sets them apart."
    if candidate is None:
        return f"{told}, and no fact or label sets them apart."
    return (
        f"{told}. {_name(candidate)}: {candidate.bad} of {candidate.devices} bad, others {candidate.other_bad} of "
        f"{candidate.others}; not yet beyond chance: p = {candidate.p:.2g}, and the best of many was picked."
    )
