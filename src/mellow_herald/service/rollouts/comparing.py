"""Two releases that a rollout compares: side by side, and one of them chosen for the rest."""

import asyncio
import math
from collections.abc import Sequence
from datetime import datetime

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.arms import Arm, find_arm
from mellow_herald.core.attempt import BEFORE_SWITCH, RETRIED, CallOff, EndTries, Resume, State
from mellow_herald.core.comparison import (
    ALPHA,
    Came,
    Exposed,
    Means,
    Rates,
    compare_means,
    compare_rates,
    count_in_order,
)
from mellow_herald.core.plan import Plan
from mellow_herald.core.relapse import Measure
from mellow_herald.core.rollout import RolloutState
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.readings.change import moved_by
from mellow_herald.service.releases.offering import check_offerable
from mellow_herald.service.rollouts.ending import apply_to
from mellow_herald.service.rollouts.opening import open_at_once
from mellow_herald.service.rollouts.planning import compared_by, plan_of
from mellow_herald.service.rollouts.record import record_decision, renew_orders, stored_rollout
from mellow_herald.store import arms, attempts, releases, rollouts
from mellow_herald.store.gate import Lock, close_gate, share, take
from mellow_herald.store.readings import signals
from mellow_herald.store.rollouts import RolloutOfRelease
from mellow_herald.store.rows import StoredAttempt
from mellow_herald.wire.comparison import ArmOut, ChooseIn, ComparedReading, ComparisonOut

MOST_AT_ONCE = 1_000_000
NOT_CHOSEN = "not-chosen"
BEFORE_CHOICE = (RolloutState.RUNNING, RolloutState.HELD, RolloutState.HALTED)


async def compare(context: Context, rollout_id: int) -> ComparisonOut:
    """Both releases side by side, as it stands."""
    now = context.clock.now()
    async with context.engine.connect() as connection:
        row = await stored_rollout(connection, rollout_id)
        return await _compare(connection, row, plan_of(row), now)


async def choose(context: Context, rollout_id: int, asked: ChooseIn, by: str) -> None:
    """Chooses the release that everybody gets from now on: rings that are to come, and who was to get the other and has
    no clearance to switch to it yet. Who has switched, or is about to, keeps what the lot gave."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        await share(connection, Lock.KEYS)
        await take(connection, Lock.CONDUCTOR, rollout_id)
        await close_gate(connection, rollout_id)
        row = await stored_rollout(connection, rollout_id)
        plan = plan_of(row)
        position = _position(row, plan, asked.arm)
        chosen = plan.arms[position]
        name = chosen.release
        release = await releases.find_release(connection, name.board, name.line, name.version, share=True)
        assert release is not None
        await check_offerable(connection, release)
        seen = await _compare(connection, row, plan, now)
        await rollouts.change_rollout(connection, rollout_id, chosen=position)
        moved, ended = await _turn_to({**row, "chosen": position}, plan, connection, now, asked.reason)
        data = {"arm": chosen.name, "release": str(name), "turned_to_it": moved, "not_tried_again": ended}
        data |= {"shown": seen.words, "readings": [one.words for one in seen.readings]}
        await rollouts.look_again(connection, rollout_id)
        await record_decision(connection, rollout_id, f"{chosen.name} chosen", by, asked.reason, now, data)
        await renew_orders(connection, rollout_id, "release chosen", now)
    await open_at_once(context, rollout_id)


async def in_words(connection: AsyncConnection, row: RolloutOfRelease, plan: Plan, now: datetime) -> list[str]:
    """What is known of both releases, in sentences; none where a rollout brings one."""
    if not plan.arms:
        return []
    seen = await _compare(connection, row, plan, now)
    chosen = [f"{seen.chosen} was chosen for the rest"] if seen.chosen else []
    return [seen.words, *(one.words for one in seen.readings), *chosen]


async def of_rollout(
    connection: AsyncConnection, row: RolloutOfRelease, plan: Plan, now: datetime
) -> ComparisonOut | None:
    """Both releases side by side; None where a rollout brings one."""
    return await _compare(connection, row, plan, now) if plan.arms else None


def brings_the_chosen(row: RolloutOfRelease, attempt: StoredAttempt) -> bool:
    """Whether an attempt brings what its rollout still brings: not the release that was not chosen."""
    return row["chosen"] is None or (attempt["release_id"] is not None) == bool(row["chosen"])


def _position(row: RolloutOfRelease, plan: Plan, name: str) -> int:
    rollout_id = row["id"]
    if not plan.arms:
        raise _compares_none(rollout_id)
    if row["chosen"] is not None:
        raise ProblemError(
            409,
            "already-chosen",
            f"{plan.arms[row['chosen']].name!r} was chosen in rollout {rollout_id} already; the other goes to "
            "who is left by a rollout of its own, once this one has ended.",
        )
    if row["state"] not in BEFORE_CHOICE:
        raise ProblemError(409, "wrong-state", f"Rollout {rollout_id} is {row['state']}: there is nothing to choose.")
    return find_arm(plan.arms, name)


def _compares_none(rollout_id: int) -> ProblemError:
    return ProblemError(
        409, "compares-nothing", f"Rollout {rollout_id} brings one release. A plan compares two with [[arms]]."
    )


async def _turn_to(
    row: RolloutOfRelease, plan: Plan, connection: AsyncConnection, now: datetime, why: str
) -> tuple[int, int]:
    """Turns to the chosen release who was to get the other and has not switched; of the other's bad devices none is
    tried again. Returns of how many each is true."""
    compared = compared_by(row, plan)
    assert compared is not None
    others = [
        one
        for one in await attempts.lock_slice(connection, row["id"], [*BEFORE_SWITCH, State.CALLED_OFF], MOST_AT_ONCE)
        if one["lot"] is not None and not brings_the_chosen(row, one) and not one["left_out"]
    ]
    # Called off by the halt, they are queued again when somebody resumes.
    under_way = [one for one in others if one["state"] in BEFORE_SWITCH]
    await apply_to(connection, under_way, CallOff(NOT_CHOSEN), now, why)
    await arms.bring(connection, [one["id"] for one in others], compared)
    if row["state"] != RolloutState.HALTED:
        again = await attempts.lock_some(connection, [one["id"] for one in under_way])
        await apply_to(connection, again, Resume(), now, f"it gets {plan.arms[compared.chosen or 0].name} now")
    bad = await attempts.lock_slice(connection, row["id"], RETRIED, MOST_AT_ONCE)
    ended = await apply_to(connection, [one for one in bad if not brings_the_chosen(row, one)], EndTries(), now, why)
    return len(others), ended


# Side by side --------------------------------------------------------------------------------------------------------


async def _compare(connection: AsyncConnection, row: RolloutOfRelease, plan: Plan, now: datetime) -> ComparisonOut:
    if not plan.arms or row["second_release_id"] is None:
        raise _compares_none(row["id"])
    given = await arms.given(connection, row["id"])
    exposed = await arms.exposed_in_order(connection, row["id"], row["ended_at"] or now)
    # In a thread: the intervals are looked for on a grid.
    rates = await asyncio.to_thread(lambda: compare_rates(*count_in_order(exposed)))
    shown = [_arm(arm, n, given.get(n, 0), exposed, rates) for n, arm in enumerate(plan.arms)]
    first, second = (one.bad / one.seen if one.seen else None for one in rates.counted)
    return ComparisonOut(
        now=now,
        rollout_id=row["id"],
        confidence=1 - ALPHA,
        arms=shown,
        difference=None if first is None or second is None else second - first,
        low=rates.difference.low,
        high=rates.difference.high,
        evidence=math.exp(min(rates.log_evidence, 690.0)),
        proven_at=1 / ALPHA,
        differ=rates.differ,
        readings=await _readings(connection, row["id"], plan),
        chosen=None if row["chosen"] is None else plan.arms[row["chosen"]].name,
        words=_in_words(shown, rates),
    )


def _arm(arm: Arm, position: int, given: int, exposed: Sequence[Exposed], rates: Rates) -> ArmOut:
    own = [one.came for one in exposed if one.arm == position]
    return ArmOut(
        name=arm.name,
        release=str(arm.release),
        share=arm.share,
        given=given,
        exposed=len(own),
        bad=own.count(Came.BAD),
        good=own.count(Came.GOOD),
        undecided=own.count(Came.UNDECIDED),
        counted=rates.counted[position].seen,
        counted_bad=rates.counted[position].bad,
        low=rates.arms[position].low,
        high=rates.arms[position].high,
    )


def _in_words(shown: Sequence[ArmOut], rates: Rates) -> str:
    """E.g. ``old filter 1 bad of 41, new filter 3 bad of 40: not proven that they differ (evidence 0.3 of 20;
    difference -9.1 … +19.4 %)``."""
    counts = ", ".join(f"{one.name} {one.counted_bad} bad of {one.counted}" for one in shown)
    if not all(one.counted for one in shown):
        return f"{counts}: nothing to compare yet"
    evidence = math.exp(min(rates.log_evidence, 690.0))
    told = f"evidence {min(evidence, 1000):.3g} of {1 / ALPHA:g}"
    span = f"difference {100 * rates.difference.low:+.1f} … {100 * rates.difference.high:+.1f} %"
    if not rates.differ:
        return f"{counts}: not proven that they differ ({told}; {span})"
    better = min(shown, key=lambda one: one.counted_bad / one.counted)
    return f"{counts}: {better.name} is better ({told}; {span})"


async def _readings(connection: AsyncConnection, rollout_id: int, plan: Plan) -> list[ComparedReading]:
    units = {one["name"]: one["unit"] for one in await signals.of_boards(connection)}
    found = []
    for rule in plan.brake.readings:
        if rule.name in units:
            sides = await moved_by(connection, rollout_id, rule.name, rule.measure)
            told = await asyncio.to_thread(compare_means, *sides)
            found.append(_reading(rule.name, units[rule.name], rule.measure, told, plan))
    return found


def _reading(signal: str, unit: str, measure: Measure, told: Means, plan: Plan) -> ComparedReading:
    a_day = f"{unit} a day" if measure is Measure.PER_DAY else unit
    low, high = (None, None) if told.interval is None else (told.interval.low, told.interval.high)
    names = [arm.name for arm in plan.arms]
    means = ", ".join(
        f"{name} {'unknown' if mean is None else f'{mean:+.3g}'} ({devices} devices)"
        for name, mean, devices in zip(names, told.means, told.devices, strict=True)
    )
    words = f"{signal} {a_day} after the switch, less before it: {means}"
    if low is None or high is None or told.difference is None:
        words += "; too few to compare"
    else:
        proven = "they differ" if told.differ else "not proven that they differ"
        words += f"; {proven}, by {told.difference:+.3g} ({low:+.3g} … {high:+.3g})"
    return ComparedReading(
        signal=signal,
        unit=unit,
        measure=measure,
        devices=list(told.devices),
        means=list(told.means),
        difference=told.difference,
        low=low,
        high=high,
        differ=told.differ,
        words=words,
    )
