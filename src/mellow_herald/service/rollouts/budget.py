"""How a rollout's harm budget stands, and what one means for a plan."""

from collections.abc import Sequence
from datetime import datetime, timedelta

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.forecast import RingFacts, RingForecast, forecast
from mellow_herald.core.harm.budget import HarmBudget
from mellow_herald.core.harm.forecast import good_waves
from mellow_herald.core.harm.waves import Wave
from mellow_herald.core.plan import Plan
from mellow_herald.service.rollouts.planning import Prepared, plan_of
from mellow_herald.store import harm
from mellow_herald.store.harm import StoredWave
from mellow_herald.store.rollouts import RolloutOfRelease
from mellow_herald.wire.rollout import BudgetPreview, HarmBudgetOut, HarmWaveOut

# Above so much of the budget the harm that comes by itself is told of.
MUCH = 0.5


async def stands(
    connection: AsyncConnection, row: RolloutOfRelease, at_risk: int, now: datetime
) -> HarmBudgetOut | None:
    """The harm budget of a rollout as it stands; None where its plan has none."""
    plan = plan_of(row)
    budget = plan.harm
    if budget is None:
        return None
    found = await harm.standing(connection, row["id"], plan, now)
    left = max(0, budget.at_most - found.hurt)
    wave = None if found.wave is None else wave_as_shown(found.wave, budget, found.given, found.undecided)
    free = max(0, left - at_risk) if budget.sure else 0 if wave is None else max(0, wave.size - found.given)
    used_up = left < budget.of_a_cluster
    return HarmBudgetOut(
        at_most=budget.at_most,
        sure=budget.sure,
        certainty=budget.certainty,
        hurt=found.hurt,
        at_risk=at_risk,
        free=free,
        used_up=used_up,
        wave=wave,
        words=_words(budget, found.hurt, at_risk, free, wave, used_up=used_up),
    )


async def waves(connection: AsyncConnection, row: RolloutOfRelease) -> list[HarmWaveOut]:
    """All waves of a rollout's harm budget so far."""
    budget = plan_of(row).harm
    return (
        [] if budget is None else [wave_as_shown(one, budget) for one in await harm.list_waves(connection, row["id"])]
    )


def wave_as_shown(
    row: StoredWave, budget: HarmBudget, given: int | None = None, undecided: int | None = None
) -> HarmWaveOut:
    """A wave with what was known when it began, in words."""
    wave = harm.to_wave(row)
    return HarmWaveOut.model_validate(
        {**row, "given": given, "undecided": undecided, "words": f"wave {wave.number}: {wave.summary(budget)}"}
    )


def _words(budget: HarmBudget, hurt: int, at_risk: int, free: int, wave: HarmWaveOut | None, *, used_up: bool) -> str:
    surely = "for sure" if budget.sure else f"with a certainty of {100 * budget.certainty:g} %"
    held = f"harm budget: {hurt} of at most {budget.at_most} devices hurt, {surely}"
    if used_up:
        return f"{held}; it is used up"
    if budget.sure:
        return f"{held}; {at_risk} at risk, {free} more may be"
    if wave is None:
        return f"{held}; its first wave begins with the first ring"
    what = "devices" if budget.cluster_by is None else f"values of {budget.cluster_by}"
    given = f"{wave.given} of {wave.size} {what} of wave {wave.number} have leave, {wave.undecided} devices undecided"
    return f"{held}; {given}"


async def foresee(
    connection: AsyncConnection,
    prepared: Prepared,
    facts: Sequence[RingFacts],
    size: int,
    rate: float | None,
    now: datetime,
) -> tuple[list[RingForecast], BudgetPreview | None]:
    """When rings open and are done, with the plan's harm budget; and what that means."""
    plan = prepared.plan
    without = forecast(plan, facts, size, rate, now)
    budget = plan.harm
    if budget is None:
        return without, None
    by_ring = good_waves(budget, [one.devices for one in facts])
    within = forecast(plan, facts, size, rate, now, by_ring)
    longest = max(ring.soak for ring in plan.rings)
    heard, background = await harm.background(
        connection, prepared.target, now - max(longest, timedelta(minutes=1)), now, plan.answer_within
    )
    shown = BudgetPreview(
        at_most=budget.at_most,
        sure=budget.sure,
        certainty=budget.certainty,
        wave_at_most=None if budget.sure else budget.wave_at_most,
        waves=by_ring,
        done=within[-1].done,
        done_without=without[-1].done,
        heard=heard,
        background=background,
        words=_foreseen(plan, budget, sum(one.devices for one in facts), background, heard),
    )
    return within, shown


def _foreseen(plan: Plan, budget: HarmBudget, devices: int, background: int, heard: int) -> list[str]:
    found = []
    if not budget.sure:
        first = Wave(1, budget.at_most // budget.of_a_cluster, budget.at_most // budget.of_a_cluster, 1.0)
        found.append(f"it begins with {first.summary(budget)}, and goes on in waves that grow as devices do well")
        found.append(
            "a release that gets worse meanwhile, or hurts devices by what they have in common, may hurt up to "
            f"{budget.wave_at_most} more (wave_at_most)"
        )
    by_itself = devices * background / heard if heard else 0.0
    if by_itself > MUCH * budget.at_most:
        found.append(
            f"{background} of {heard} devices restarted or fell silent lately, without this release: among {devices} "
            f"that makes {by_itself:.0f}, more than half of the budget"
        )
    if plan.brake.hard_stop is not None and plan.brake.hard_stop <= budget.at_most:
        found.append(f"hard_stop halts at {plan.brake.hard_stop} bad devices, before the budget is used up")
    return found
