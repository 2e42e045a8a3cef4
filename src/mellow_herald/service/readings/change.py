"""Before and after: what an update did to a reading, for a person to look at and for the brake to halt on."""

import asyncio
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime, timedelta
from statistics import median

import numpy as np
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import Relapse, State
from mellow_herald.core.readings.buckets import STEPS_S
from mellow_herald.core.readings.change import Side, Trend, drift, effect, trend, worsened
from mellow_herald.core.relapse import Measure, ReadingRule
from mellow_herald.core.rollout import RolloutState
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError, say_trouble
from mellow_herald.service.rollouts.ending import apply_to
from mellow_herald.service.rollouts.planning import plan_of
from mellow_herald.store import attempts, rollouts
from mellow_herald.store.gate import Lock, try_take
from mellow_herald.store.readings import signals
from mellow_herald.store.readings.around import Minute, Moved, Switched, around, not_switched, switched
from mellow_herald.store.rollouts import RolloutOfRelease
from mellow_herald.wire.readings import ChangeOut, CourseOut, EffectOut, SideOut
from mellow_herald.wire.rollout import RolloutOut

MOST_DEVICES, MOST_ROLLOUTS = 5000, 1000
COURSE_POINTS, NEAR_S = 96, 600.0
REPORTED = timedelta(days=1)
LOOK_S, SOONEST_S = 60.0, 1.0
LONGEST_BEFORE = timedelta(days=2)
Numbers = tuple[list[float], list[float]]


async def before_and_after(context: Context, rollout_id: int, signal: str, span: timedelta) -> ChangeOut:
    """A signal of the devices of a rollout around their switch, and of those that have not switched at the same time.
    Problem 404 if there is no such rollout or signal."""
    now = context.clock.now()
    async with context.engine.connect() as connection:
        rows = await rollouts.list_rollouts(connection, rollout_id=rollout_id)
        if not rows:
            raise ProblemError(404, "not-found", f"There is no rollout {rollout_id}.")
        known = [row for row in await signals.of_boards(connection) if row["name"] == signal]
        if not known:
            raise ProblemError(404, "not-found", f"Nobody has declared or sent {signal}. See `herald signal list`.")
        devices = await switched(connection, rollout_id, MOST_DEVICES)
        # What a device sent after it was brought back tells nothing of what it was brought.
        moved = [Moved(d["device_id"], d["exposed_at"], d["left_at"]) for d in devices if d["exposed_at"] is not None]
        still = await _control(connection, rows[0], signal)
        # Those that have not switched are looked at around the moment at which half of the others had, for as long.
        middle = median(one.at.timestamp() for one in moved) if moved else now.timestamp()
        lasted = median(((one.until or now) - one.at).total_seconds() for one in moved) if moved else 0.0
        at = datetime.fromtimestamp(middle, now.tzinfo)
        until = at + timedelta(seconds=lasted) if moved else None
        own = await around(connection, moved, signal, span)
        other = await around(connection, [Moved(one, at, until) for one in still], signal, span)
    updated, control = _sides(own), _sides(other)
    step_s = next(step for step in STEPS_S if 2 * span.total_seconds() / step <= COURSE_POINTS)
    return ChangeOut(
        now=now,
        signal=signal,
        unit=known[0]["unit"],
        span_s=span.total_seconds(),
        devices=len(updated),
        control_devices=len(control),
        switched_at=at if moved else None,
        level=_effect(updated, control, lambda one: one.mean),
        per_day=_effect(updated, control, lambda one: one.per_day),
        updated=_course(own, step_s),
        control=_course(other, step_s),
        step_s=step_s,
    )


async def moved_by(
    connection: AsyncConnection, rollout_id: int, signal: str, measure: Measure
) -> tuple[list[float], list[float]]:
    """By how much a signal moved, device by device, from before the switch to after it: under each of the two releases
    that a rollout gave by lot."""
    devices = await switched(connection, rollout_id, MOST_DEVICES)
    lots = {one["device_id"]: one["lot"] for one in devices if one["lot"] is not None}
    moved = [
        Moved(one["device_id"], one["exposed_at"], one["left_at"])
        for one in devices
        if one["device_id"] in lots and one["exposed_at"] is not None
    ]
    found: tuple[list[float], list[float]] = ([], [])
    for device_id, (before, after) in _sides(await around(connection, moved, signal, LONGEST_BEFORE)).items():
        if before is not None and after is not None:
            per_day = measure is Measure.PER_DAY
            found[lots[device_id]].append(after.per_day - before.per_day if per_day else after.mean - before.mean)
    return found


async def watched(context: Context, rollout: RolloutOut) -> list[ChangeOut]:
    """Before and after of the readings that a rollout's brake watches over time and that have come, a day around the
    switch: what its report keeps."""
    names = [rule.name for rule in rollout.plan.brake.readings if rule.measure is Measure.PER_DAY]
    if not names:
        return []
    async with context.engine.connect() as connection:
        known = {row["name"] for row in await signals.of_boards(connection)}
    found = [await before_and_after(context, rollout.id, name, REPORTED) for name in names if name in known]
    return [one for one in found if one.updated]


Both = tuple[Trend | None, Trend | None]


def _sides(minutes: Iterable[Minute]) -> dict[int, Both]:
    """Of each device how its reading moved before its switch, and after."""
    before: dict[int, Numbers] = {}
    after: dict[int, Numbers] = {}
    for one in minutes:
        times, values = (before if one["after_s"] < 0 else after).setdefault(one["device_id"], ([], []))
        times.append(one["after_s"])
        values.append(one["mean"])
    return {
        device_id: (_trend(before.get(device_id)), _trend(after.get(device_id)))
        for device_id in before.keys() | after.keys()
    }


def _trend(numbers: Numbers | None) -> Trend | None:
    return None if numbers is None else trend(np.array(numbers[0]), np.array(numbers[1]))


def _effect(updated: Mapping[int, Both], control: Mapping[int, Both], of: Callable[[Trend], float]) -> EffectOut:
    def both(sides: Mapping[int, Both]) -> tuple[list[float], list[float]]:
        pairs = [(before, after) for before, after in sides.values() if before is not None and after is not None]
        return [of(before) for before, _ in pairs], [of(after) for _, after in pairs]

    told = effect(*both(updated), *both(control))
    return EffectOut(
        before=_side(told.before),
        after=_side(told.after),
        control_before=_side(told.control_before),
        control_after=_side(told.control_after),
        difference=told.difference,
        low=told.low,
        high=told.high,
    )


def _side(side: Side | None) -> SideOut | None:
    return None if side is None else SideOut(devices=side.devices, low=side.low, median=side.median, high=side.high)


def _course(minutes: Sequence[Minute], step_s: int) -> list[CourseOut]:
    """The median and the quartiles over the devices, step by step, of how far each is from what it had at its switch:
    how full their batteries are differs by more than what an update does to them."""
    near = max(NEAR_S, step_s)
    at_switch: dict[int, list[float]] = {}
    for one in minutes:
        if -near <= one["after_s"] < 0:
            at_switch.setdefault(one["device_id"], []).append(one["mean"])
    own = {device_id: sum(each) / len(each) for device_id, each in at_switch.items()}
    steps: dict[int, dict[int, list[float]]] = {}
    for one in minutes:
        if one["device_id"] in own:
            moved = one["mean"] - own[one["device_id"]]
            steps.setdefault(int(one["after_s"] // step_s), {}).setdefault(one["device_id"], []).append(moved)
    found = []
    for step, devices in sorted(steps.items()):
        values = [sum(each) / len(each) for each in devices.values()]
        low, middle, high = np.percentile(np.array(values), (25, 50, 75))
        found.append(
            CourseOut(
                after_s=step * step_s, devices=len(values), low=float(low), median=float(middle), high=float(high)
            )
        )
    return found


# The brake ------------------------------------------------------------------------------------------------------------


async def keep_watching(context: Context) -> None:
    """Until cancelled: looks at how the readings that plans name move on devices in their soak."""
    while True:
        try:
            await watch_once(context)
        except Exception as error:
            say_trouble("readings in soaks could not be looked at; trying again", error)
        await asyncio.sleep(max(SOONEST_S, LOOK_S / context.clock.scale))


async def watch_once(context: Context) -> int:
    """Looks once; returns on how many devices something got worse."""
    async with context.engine.begin() as connection:
        if not await try_take(connection, Lock.READINGS, 2):
            return 0
        live = await rollouts.list_rollouts(connection, live=True, limit=MOST_ROLLOUTS)
        rows = [row for row in live if row["state"] == RolloutState.RUNNING]
        worse = {row["id"]: found for row in rows if (found := await _watch(connection, context, row))}
    context.signals.note_harm(set(worse))
    return sum(worse.values())


async def _watch(connection: AsyncConnection, context: Context, row: RolloutOfRelease) -> int:
    rules = [rule for rule in plan_of(row).brake.readings if rule.measure is Measure.PER_DAY]
    if not rules:
        return 0
    devices = await switched(connection, row["id"], MOST_DEVICES)
    soaking = [one for one in devices if _soaks(one)]
    found = 0
    for rule in rules if soaking else ():
        still = await _control(connection, row, rule.name)
        found += await _relapsed(connection, rule, soaking, still, context.clock.now())
    return found


async def _control(connection: AsyncConnection, row: RolloutOfRelease, signal: str) -> list[int]:
    return await not_switched(connection, row["id"], row["board"], row["line"], signal, MOST_DEVICES)


def _soaks(one: Switched) -> bool:
    return one["state"] == State.CONFIRMED and not one["closed"] and one["exposed_at"] is not None


async def _relapsed(
    connection: AsyncConnection, rule: ReadingRule, soaking: Sequence[Switched], still: Sequence[int], now: datetime
) -> int:
    moved = [Moved(one["device_id"], one["exposed_at"]) for one in soaking if one["exposed_at"] is not None]
    sides = _sides(await around(connection, moved, rule.name, LONGEST_BEFORE))
    at = datetime.fromtimestamp(median(one.at.timestamp() for one in moved), now.tzinfo)
    control = _sides(await around(connection, [Moved(one, at) for one in still], rule.name, LONGEST_BEFORE))
    by = drift(rule, [after.per_day - before.per_day for before, after in control.values() if before and after])
    said = {
        one["attempt_id"]: words
        for one in soaking
        if (words := worsened(rule, *sides.get(one["device_id"], (None, None)), by)) is not None
    }
    found = 0
    for row in await attempts.lock_some(connection, said):
        found += await apply_to(connection, [row], Relapse("readings-worse"), now, said[row["id"]])
    return found
