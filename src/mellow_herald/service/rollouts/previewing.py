"""What a plan would do before it does anything."""

import asyncio
from collections.abc import AsyncIterator, Iterator
from dataclasses import asdict, dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.brake import MOST_FORESEEN, Watch, halts_at
from mellow_herald.core.brake_study import foresee_faults
from mellow_herald.core.calendar import Use, is_open, next_opening
from mellow_herald.core.eligibility import IN_WORDS, PassedOver
from mellow_herald.core.firmware import APP
from mellow_herald.core.forecast import RingFacts
from mellow_herald.core.foresight import HOURS, TOGETHER, Foreseen, foresee
from mellow_herald.core.plan import Plan
from mellow_herald.service.context import Context
from mellow_herald.service.rollouts import coap_forecast, radio_forecast
from mellow_herald.service.rollouts.budget import foresee as foresee_budget
from mellow_herald.service.rollouts.planning import Drawn, Prepared, draw, lots, prepare, size_of
from mellow_herald.store import conditions, previewing, rings
from mellow_herald.store.rings import DrawnRow
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.rollout import (
    ArmPreview,
    CoverageOut,
    DrawnDevice,
    FaultPreview,
    ForeseenOut,
    PassedOverPreview,
    PreviewOut,
    RingPreview,
)

FIRST = 12
SAMPLE = 2000
EXPORT_SLICE = 5000
USUAL = timedelta(minutes=5)


@dataclass(frozen=True, slots=True)
class _Seen:
    """What a look at the devices says: what their links carry (bytes a second), and of each ring a sample and its first
    devices."""

    rate: float | None
    samples: list[previewing.Sample]
    first: list[list[DrawnRow]]
    foreseen: list[list[Foreseen]]
    passed: list[PassedOverPreview]


async def preview(context: Context, document: PlanDocument, *, overtake: bool = False) -> PreviewOut:
    """What the plan would do now: rings, who is passed over, bytes, both bounds of harm, expected times."""
    now = context.clock.now()
    async with context.previews, context.engine.connect() as connection:
        prepared = await prepare(connection, document, now, overtake=overtake)
        # What does not need the other's result goes side by side: of a million devices each of these takes a while.
        drawn, shares = await asyncio.gather(
            draw(connection, prepared.plan, prepared.target, now), _shares(context, prepared, now)
        )
        seen, faults = await asyncio.gather(_look(connection, prepared, drawn, now), _faults(prepared, drawn, shares))
        overtaken = await _overtaken(connection, prepared, drawn, overtake=overtake)
        size = prepared.size
        sampled = zip(drawn.counts, seen.samples, strict=True)
        facts = [RingFacts(count, one.interval or USUAL, one.next_call) for count, one in sampled]
        forecasts, budget = await foresee_budget(connection, prepared, facts, size, seen.rate, now)
        opens = [one.opens for one in forecasts]
        by_radio = await radio_forecast.forecast_rings(connection, prepared, drawn, opens, now)
        served = context.settings.coap_port is not None
        by_coap = await coap_forecast.warnings(connection, prepared, drawn, served=served)
    rings, exposed = [], 0
    for position, (ring, one, asked) in enumerate(zip(document.rings, drawn.placed, forecasts, strict=True)):
        exposed += len(one.ids)
        rings.append(
            RingPreview(
                position=position,
                name=ring.name,
                devices=len(one.ids),
                soak=ring.soak,
                bytes=size * len(one.ids),
                first=[DrawnDevice.model_validate(dict(row)) for row in seen.first[position]],
                coverage=[CoverageOut(values=dict(c.values), eligible=c.eligible, taken=c.taken) for c in one.coverage],
                presence=seen.samples[position].presence,
                sampled=min(len(one.ids), SAMPLE),
                foreseen=[ForeseenOut.model_validate(asdict(told)) for told in seen.foreseen[position]],
                exposed_so_far=exposed,
                opens=asked.opens,
                first_sign=asked.first_sign,
                through=asked.through,
                done=asked.done,
                by_hand=asked.by_hand,
                at_risk=asked.at_risk,
                unproven=asked.unproven,
                rules_out=asked.rules_out,
            )
        )
    return PreviewOut(
        now=now,
        name=document.name,
        release=document.release,
        targeted=drawn.targeted,
        eligible=drawn.eligible,
        unplaced=drawn.eligible - sum(drawn.counts),
        passed_over=seen.passed,
        rings=rings,
        counts=drawn.counts,
        bytes=size * sum(drawn.counts),
        image_bytes=size,
        rate=seen.rate,
        overtaken=overtaken,
        faults=faults,
        budget=budget,
        arms=_arms(prepared, drawn),
        warnings=[
            *_warnings(prepared, drawn, rings, now),
            *_never_met(prepared.plan, seen.foreseen),
            *radio_forecast.warnings(prepared.plan, by_radio),
            *by_coap,
        ],
        radio=by_radio,
    )


async def export(context: Context, document: PlanDocument, *, overtake: bool = False) -> AsyncIterator[dict[str, Any]]:
    """Every device that a ring would have, ring by ring, and every one that would be passed over, with the reason."""
    now = context.clock.now()
    async with context.engine.connect() as connection:
        prepared = await prepare(connection, document, now, overtake=overtake)
        drawn = await draw(connection, prepared.plan, prepared.target, now)
        for position, one in enumerate(drawn.placed):
            for at in range(0, len(one.ids), EXPORT_SLICE):
                for row in await rings.describe(connection, one.ids[at : at + EXPORT_SLICE].tolist()):
                    name = prepared.plan.rings[position].name
                    yield {
                        "ring": position,
                        "name": name,
                        "serial": row["serial"],
                        "hw_rev": row["hw_rev"],
                        "version": row["version"],
                        "passed_over": None,
                    }
        async for passed in previewing.every_passed_over(connection, prepared.target, now):
            yield {
                "ring": None,
                "name": None,
                "serial": passed["serial"],
                "hw_rev": passed["hw_rev"],
                "version": passed["version"],
                "passed_over": passed["reason"],
            }


async def _overtaken(
    connection: AsyncConnection, prepared: Prepared, drawn: Drawn, *, overtake: bool
) -> dict[str, int]:
    if not overtake:
        return {}
    counts: dict[str, int] = {}
    for one in drawn.placed:
        for at in range(0, len(one.ids), rings.SLICE):
            found = await previewing.live_in(connection, one.ids[at : at + rings.SLICE].tolist())
            for name, devices in found.items():
                counts[name] = counts.get(name, 0) + devices
    return counts


async def _look(connection: AsyncConnection, prepared: Prepared, drawn: Drawn, now: datetime) -> _Seen:
    """The devices of the rings and the others, as they are now."""
    return _Seen(
        await previewing.measured_rate(connection, prepared.release["board"]),
        [await previewing.sample(connection, one.ids[:SAMPLE].tolist(), now) for one in drawn.placed],
        [await rings.describe(connection, one.ids[:FIRST].tolist()) for one in drawn.placed],
        [await _foresee(connection, prepared.plan, one.ids[:SAMPLE].tolist(), now) for one in drawn.placed],
        [
            PassedOverPreview(
                reason=reason,
                words=IN_WORDS[PassedOver(reason)],
                devices=devices,
                first=await previewing.first_passed_over(connection, prepared.target, reason, now, FIRST),
            )
            for reason, devices in sorted(drawn.passed_over.items(), key=lambda item: -item[1])
        ],
    )


async def _foresee(connection: AsyncConnection, plan: Plan, ids: list[int], now: datetime) -> list[Foreseen]:
    """How many of these devices will meet the plan's conditions within a day, from how they were in the last week."""
    if not ids:
        return []
    words, zones = await conditions.load_week(connection, ids, now)
    calendar = plan.calendar
    hour = now.astimezone(UTC).replace(minute=0, second=0, microsecond=0)

    def hours_of(tz: str | None) -> list[bool]:
        zone = calendar.zone_of(tz)
        return [is_open(calendar.windows, Use.SWITCH, zone, hour + timedelta(hours=k)) for k in range(HOURS)]

    by_zone = {tz: hours_of(tz) for tz in set(zones)}
    may_switch = np.array([by_zone[tz] for tz in zones], np.bool_)
    return await asyncio.to_thread(foresee, words, plan.needs, may_switch, windows=calendar.asks_for(Use.SWITCH))


async def _shares(context: Context, prepared: Prepared, now: datetime) -> dict[str, dict[str, float]]:
    """Of the facts that the brake watches, the values with their shares."""
    watched = prepared.plan.brake.watch_by
    async with context.engine.connect() as connection:
        return await rings.share_of_values(connection, prepared.target, watched, now, MOST_FORESEEN)


async def _faults(prepared: Prepared, drawn: Drawn, shares: dict[str, dict[str, float]]) -> list[FaultPreview]:
    """What faults would cost with this plan: played through with a fixed seed, so that asking again shows the same."""
    plan = prepared.plan
    if not sum(drawn.counts):
        return []
    watch = Watch(len(plan.rings), {name: list(values) for name, values in shares.items()})
    at_once = [plan.pace.at_risk_at_once or count for count in drawn.counts]
    halt = halts_at(1, plan.brake.alpha)
    found = await asyncio.to_thread(
        foresee_faults,
        drawn.counts,
        watch,
        plan.brake.firmware_limit,
        halt,
        at_once,
        np.random.default_rng(1),
        shares=shares,
    )
    return [
        FaultPreview(times=one.times, rate=one.rate, exposed=list(one.exposed), hurt=list(one.hurt), halted=one.halted)
        for one in found
    ]


def _arms(prepared: Prepared, drawn: Drawn) -> list[ArmPreview]:
    """The two releases that the plan compares, and how many devices would get each by lot."""
    plan, second = prepared.plan, sum(len(ids) for ids in lots(prepared.plan, drawn).values())
    first = sum(drawn.counts[:-1]) - second
    brought = zip(plan.arms, (first, second), (prepared.images, prepared.second_images), strict=False)
    return [
        ArmPreview(
            name=arm.name, release=str(arm.release), share=arm.share, devices=devices, image_bytes=size_of(images)
        )
        for arm, devices, images in brought
    ]


def _never_met(plan: Plan, foreseen: list[list[Foreseen]]) -> Iterator[str]:
    """Rings whose devices were never as the plan wants them in the whole of the last week."""
    for ring, told in zip(plan.rings, foreseen, strict=True):
        together = next((one for one in told if one.condition == TOGETHER), None)
        if together is None or together.ever or not any(one.ever for one in told):
            continue
        alone = ", ".join(f"{one.condition} {one.ever}" for one in told if one.condition != TOGETHER)
        yield (
            f"no device of ring {ring.name!r} was in any hour of the last week as this plan wants it to be when it "
            f"switches (each by itself: {alone} devices): it can never be met."
        )


def _warnings(prepared: Prepared, drawn: Drawn, rings: list[RingPreview], now: datetime) -> list[str]:
    plan, found = prepared.plan, []
    for ring, shown in zip(plan.rings, rings, strict=True):
        if not shown.devices:
            found.append(f"ring {ring.name!r} gets no device: it opens and is done at once.")
        if ring.serials and shown.devices < len(set(ring.serials)):
            left = len(set(ring.serials)) - shown.devices
            found.append(f"ring {ring.name!r} names {left} devices that are not there, not targeted or passed over.")
        away = shown.presence.get("offline", 0) + shown.presence.get("never-seen", 0)
        if shown.sampled and away * 2 > shown.sampled:
            found.append(f"of ring {ring.name!r} {100 * away // shown.sampled} % are offline: it may prove little.")
        if 0 < shown.devices < plan.brake.min_good and ring is not plan.rings[-1]:
            found.append(f"ring {ring.name!r} has fewer devices than min_good: it will stand still.")
        if ring.spread_over and any(not c.taken for c in shown.coverage):
            missed = [", ".join(f"{k} {v}" for k, v in c.values.items()) for c in shown.coverage if not c.taken]
            found.append(f"ring {ring.name!r} is too small to meet {'; '.join(missed[:5])}.")
    unplaced = drawn.eligible - sum(drawn.counts)
    if unplaced:
        found.append(f"{unplaced} eligible devices come to no ring; a last ring without a size takes the rest.")
    if len(rings) > 1 and rings[0].devices * 2 > drawn.eligible:
        found.append("the first ring has more than half of all devices: a bad release hurts most of the fleet at once.")
    for use in (Use.FETCH, Use.SWITCH):
        if next_opening(plan.calendar.windows, use, plan.calendar.zone, now) is None:
            found.append(f"no window for {use.value} ever opens.")
    never = next((ring for ring in rings if ring.devices and ring.done is None), None)
    if never is not None:
        found.append(f"ring {never.name!r} would not be done before the last day.")
    names = {image["name"] for image in prepared.images}
    if APP in names and names != {APP}:
        found.append(f"the release also brings {', '.join(sorted(names - {APP}))}: it switches together with {APP}.")
    return found
