"""What a plan would do before it does anything."""

import asyncio
from collections.abc import AsyncIterator, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.brake import MOST_FORESEEN, Watch, halts_at
from mellow_herald.core.brake_study import foresee_faults
from mellow_herald.core.calendar import Use, next_opening
from mellow_herald.core.firmware import APP
from mellow_herald.core.forecast import RingFacts, forecast
from mellow_herald.core.placement import IN_WORDS, PassedOver
from mellow_herald.service.context import Context
from mellow_herald.service.planning import Drawn, Prepared, draw, prepare
from mellow_herald.service.rollouts import size_of
from mellow_herald.store import foresight, placing
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.rollout import (
    CoverageOut,
    DrawnDevice,
    FaultPreview,
    PassedOverPreview,
    PreviewOut,
    RingPreview,
)

FIRST = 12
SAMPLE = 2000
EXPORT_SLICE = 5000
USUAL = timedelta(minutes=5)
Row = Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class _Seen:
    """What a look at the devices says: what their links carry (bytes a second), and of each ring a sample and its first
    devices."""

    rate: float | None
    samples: list[foresight.Sample]
    first: list[list[Row]]
    passed: list[PassedOverPreview]


async def preview(context: Context, document: PlanDocument, *, overtake: bool = False) -> PreviewOut:
    """What the plan would do now: rings, who is passed over, bytes, both bounds of harm, expected times."""
    now = context.clock.now()
    async with context.previews, context.engine.connect() as connection:
        prepared = await prepare(connection, document, overtake=overtake)
        # What does not need the other's result goes side by side: of a million devices each of these takes a while.
        drawn, shares = await asyncio.gather(
            draw(connection, prepared.plan, prepared.target, now), _shares(context, prepared, now)
        )
        seen, faults = await asyncio.gather(_look(connection, prepared, drawn, now), _faults(prepared, drawn, shares))
        overtaken = await _overtaken(connection, prepared, drawn, overtake=overtake)
    size = size_of(prepared.images)
    facts = [RingFacts(n, s.interval or USUAL, s.next_call) for n, s in zip(drawn.counts, seen.samples, strict=True)]
    forecasts = forecast(prepared.plan, facts, size, seen.rate, now)
    rings, exposed = [], 0
    for position, (ring, one, said) in enumerate(zip(document.rings, drawn.placed, forecasts, strict=True)):
        exposed += len(one.ids)
        rings.append(
            RingPreview(
                position=position, name=ring.name, devices=len(one.ids), soak=ring.soak, bytes=size * len(one.ids),
                first=[DrawnDevice.model_validate(dict(row)) for row in seen.first[position]],
                coverage=[
                    CoverageOut(values=dict(c.values), eligible=c.eligible, taken=c.taken) for c in one.coverage
                ],
                presence=seen.samples[position].presence, sampled=min(len(one.ids), SAMPLE), exposed_so_far=exposed,
                opens=said.opens, first_sign=said.first_sign, through=said.through, done=said.done,
                by_hand=said.by_hand, at_risk=said.at_risk, unproven=said.unproven, rules_out=said.rules_out,
            )
        )  # fmt: skip
    return PreviewOut(
        now=now, name=document.name, release=document.release, targeted=drawn.targeted, eligible=drawn.eligible,
        unplaced=drawn.eligible - sum(drawn.counts), passed_over=seen.passed, rings=rings, counts=drawn.counts,
        bytes=size * sum(drawn.counts), image_bytes=size, rate=seen.rate, overtaken=overtaken, faults=faults,
        warnings=list(_warnings(prepared, drawn, rings, now)),
    )  # fmt: skip


async def export(context: Context, document: PlanDocument, *, overtake: bool = False) -> AsyncIterator[dict[str, Any]]:
    """Every device that a ring would have, ring by ring, and every one that would be passed over, with the reason."""
    now = context.clock.now()
    async with context.engine.connect() as connection:
        prepared = await prepare(connection, document, overtake=overtake)
        drawn = await draw(connection, prepared.plan, prepared.target, now)
        for position, one in enumerate(drawn.placed):
            for at in range(0, len(one.ids), EXPORT_SLICE):
                for row in await placing.describe(connection, one.ids[at : at + EXPORT_SLICE].tolist()):
                    name = prepared.plan.rings[position].name
                    yield {"ring": position, "name": name, "serial": row["serial"], "hw_rev": row["hw_rev"],
                           "version": row["version"], "passed_over": None}  # fmt: skip
        async for row in foresight.every_passed_over(connection, prepared.target, now):
            yield {"ring": None, "name": None, "serial": row["serial"], "hw_rev": row["hw_rev"],
                   "version": row["version"], "passed_over": row["reason"]}  # fmt: skip


async def _overtaken(
    connection: AsyncConnection, prepared: Prepared, drawn: Drawn, *, overtake: bool
) -> dict[str, int]:
    if not overtake:
        return {}
    counts: dict[str, int] = {}
    for one in drawn.placed:
        for at in range(0, len(one.ids), placing.SLICE):
            found = await foresight.live_in(connection, one.ids[at : at + placing.SLICE].tolist())
            for name, devices in found.items():
                counts[name] = counts.get(name, 0) + devices
    return counts


async def _look(connection: AsyncConnection, prepared: Prepared, drawn: Drawn, now: datetime) -> _Seen:
    """The devices of the rings and the others, as they are now."""
    return _Seen(
        await foresight.measured_rate(connection, prepared.release["board"]),
        [await foresight.sample(connection, one.ids[:SAMPLE].tolist(), now) for one in drawn.placed],
        [await placing.describe(connection, one.ids[:FIRST].tolist()) for one in drawn.placed],
        [
            PassedOverPreview(
                reason=reason, words=IN_WORDS[PassedOver(reason)], devices=devices,
                first=await foresight.first_passed_over(connection, prepared.target, reason, now, FIRST),
            )
            for reason, devices in sorted(drawn.passed_over.items(), key=lambda item: -item[1])
        ],
    )  # fmt: skip


async def _shares(context: Context, prepared: Prepared, now: datetime) -> dict[str, dict[str, float]]:
    """Of the facts that the brake watches, the values with their shares."""
    watched = prepared.plan.brake.watch_by
    async with context.engine.connect() as connection:
        return await placing.share_of_values(connection, prepared.target, watched, now, MOST_FORESEEN)


async def _faults(prepared: Prepared, drawn: Drawn, shares: dict[str, dict[str, float]]) -> list[FaultPreview]:
    """What faults would cost with this plan: played through with a fixed seed, so that asking again shows the same."""
    plan = prepared.plan
    if not sum(drawn.counts):
        return []
    watch = Watch(len(plan.rings), {name: list(values) for name, values in shares.items()})
    at_once = [plan.pace.at_risk_at_once or count for count in drawn.counts]
    halt = halts_at(1, plan.brake.alpha)
    found = await asyncio.to_thread(
        foresee_faults, drawn.counts, watch, plan.brake.firmware_limit, halt, at_once, np.random.default_rng(1),
        shares=shares,
    )  # fmt: skip
    return [
        FaultPreview(
            times=one.times, rate=one.rate, exposed=list(one.exposed), hurt=list(one.hurt), halted=one.halted
        )
        for one in found
    ]  # fmt: skip


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
            found.append(f"ring {ring.name!r} has fewer devices than min_good: the next ring will await go.")
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
    if {image["name"] for image in prepared.images} != {APP}:
        others = sorted({image["name"] for image in prepared.images} - {APP})
        found.append(f"the release also brings {', '.join(others)}: it switches together with {APP}.")
    return found
