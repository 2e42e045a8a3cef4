"""What the failing devices of a rollout have in common."""

import asyncio

from mellow_herald.core.plan import BrakeKind
from mellow_herald.core.suspects import find_suspects
from mellow_herald.service.context import Context
from mellow_herald.service.rollouts import row_of
from mellow_herald.store import suspects
from mellow_herald.wire.suspect import SuspectOut, SuspectsOut

MOST = 20
FALSE_RATE = 0.05


async def find(context: Context, rollout_id: int, kind: BrakeKind | None) -> SuspectsOut:
    """The suspects of a rollout; of its firmware, or, where nothing was harmed, of its delivery."""
    async with context.engine.connect() as connection:
        await row_of(connection, rollout_id)
        meant = kind or BrakeKind.FIRMWARE
        facts, bad = await suspects.load_decided(connection, rollout_id, meant)
        if kind is None and not any(bad):
            other = await suspects.load_decided(connection, rollout_id, BrakeKind.DELIVERY)
            if any(other[1]):
                meant, (facts, bad) = BrakeKind.DELIVERY, other
    # A hundred thousand devices take a second of computing: others are answered meanwhile.
    found = await asyncio.to_thread(find_suspects, facts, bad, rate=FALSE_RATE)
    return SuspectsOut(
        rollout=rollout_id, kind=meant, decided=len(bad), bad=sum(bad), false_rate=FALSE_RATE,
        suspects=[
            SuspectOut(
                words=" and ".join(f"{name} {value}" for name, value in one.facts), selector=one.selector,
                devices=one.devices, bad=one.bad, rate=one.rate, others=one.others, other_bad=one.other_bad,
                other_rate=one.other_rate, difference=one.rate - one.other_rate, low=one.low, high=one.high, p=one.p,
                q=one.q,
            )
            for one in found[:MOST]
        ],
        words=_words(len(bad), sum(bad), len(found)),
    )  # fmt: skip


def _words(decided: int, bad: int, found: int) -> str:
    if bad < 3:
        return f"{bad} of {decided} decided devices are bad: it takes at least 3 to see what they have in common."
    if bad == decided:
        return f"all {decided} decided devices are bad: no fact sets them apart."
    if not found:
        return f"{bad} of {decided} decided devices are bad, and no fact or label sets them apart beyond chance."
    return f"{bad} of {decided} decided devices are bad."
