"""How a plan's devices on narrow radio would be sent to: ring by ring, before anything starts."""

import asyncio
import math
from collections.abc import Sequence
from datetime import datetime, timedelta

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.manifest import envelope_prefix, payload_head
from mellow_herald.core.plan import Plan
from mellow_herald.core.radio.air import CHANNELS
from mellow_herald.core.radio.forecast import Asked, Listener, forecast_session
from mellow_herald.core.radio.loss import Loss
from mellow_herald.core.radio.member import SETUP
from mellow_herald.core.refusal import Refused
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.rollouts.planning import Drawn, Prepared
from mellow_herald.store import radio
from mellow_herald.store.radio import Listening
from mellow_herald.wire.radio import RadioForecast

# More are looked at as these are.
SAMPLE = 2000
# A device that says nothing in so many of its intervals is taken for silent too soon.
QUIET_INTERVALS = 3


def set_up_time(every: timedelta) -> timedelta:
    """How long it takes until a device that speaks so often is prepared, from before it was told of anything: one word
    to ask, one for each step of the set-up, one for the last answer, and a fifth more."""
    return every * (len(SETUP) + 2) * 1.2


def block_size(prepared: Prepared) -> int:
    """What is sent (bytes): the release file, envelope and images."""
    release = prepared.release
    sizes = {image["digest"]: image["size"] for image in prepared.images}
    head = len(envelope_prefix(release["authentication"], release["manifest"], len(sizes)))
    return head + sum(len(payload_head(digest, size)) + size for digest, size in sizes.items())


async def forecast_rings(
    connection: AsyncConnection, prepared: Prepared, drawn: Drawn, opens: Sequence[datetime | None], now: datetime
) -> list[RadioForecast]:
    """A forecast for each ring that has devices on narrow radio; a problem if the release cannot be sent to them, or is
    to be sent sooner than they can be prepared."""
    found: list[RadioForecast] = []
    for ring, placed, at in zip(prepared.plan.rings, drawn.placed, opens, strict=True):
        ids = placed.ids[:SAMPLE].tolist()
        listening = await radio.listening(connection, ids) if ids else []
        if listening:
            whole = len(listening) * len(placed.ids) // len(ids)
            found.append(await _forecast(prepared, ring.name, listening, whole, max(at or now, now)))
    if found and prepared.plan.arms:
        raise ProblemError(
            422,
            "one-release-by-radio",
            f"Devices on narrow radio are sent one release, all at once; ring {found[0].ring!r} has some. Leave them "
            'out of a plan that compares two: leave_out = "has radio".',
        )
    if found:
        _check_start(prepared.plan, found[0])
    return found


async def _forecast(
    prepared: Prepared, ring: str, listening: Sequence[Listening], devices: int, opens: datetime
) -> RadioForecast:
    asked = prepared.plan.radio
    size = block_size(prepared)
    group = [
        Listener(
            timedelta(seconds=one["interval_s"]),
            len(SETUP) + 2,
            None if one["lost"] is None else Loss(min(0.95, one["lost"]), max(1.0, one["burst"] or 1.0)),
            one["most_fragment"],
        )
        for one in listening
    ]
    wanted = Asked(asked.region, asked.rate, asked.fragment, asked.redundancy)
    try:
        foreseen = await asyncio.to_thread(forecast_session, size, wanted, group, opens)
    except Refused as refused:
        raise ProblemError(422, refused.kind, f"It cannot be sent by radio: {refused}") from None
    if asked.length is not None and asked.length < foreseen.length:
        # In whole seconds, and no longer than it takes by a second.
        takes = timedelta(seconds=math.ceil(foreseen.length.total_seconds()))
        raise ProblemError(
            422,
            "too-short",
            f"radio.length: {asked.length} is shorter than ring {ring!r} takes: {takes}. Write at least that, or leave"
            " radio.length out.",
        )
    slowest = max(listening, key=lambda one: one["interval_s"])
    begins = max(foreseen.earliest, asked.at or foreseen.earliest)
    layout, air = foreseen.layout, foreseen.air
    return RadioForecast(
        ring=ring,
        devices=devices,
        bytes=size,
        region=air.region,
        data_rate=air.data_rate,
        frequency=asked.frequency or CHANNELS[air.region].frequency,
        fragment=air.fragment,
        fragments=layout.fragments,
        redundancy=air.redundancy,
        coded=layout.coded,
        on_air_s=layout.on_air,
        apart_s=layout.apart,
        length_s=foreseen.length.total_seconds(),
        earliest=foreseen.earliest,
        begins_at=begins,
        ends_at=begins + foreseen.length,
        slowest=slowest["serial"],
        slowest_s=slowest["interval_s"],
        measured=foreseen.measured,
        expected_share=foreseen.share,
        repair=asked.repair.value,
        energy=foreseen.energy.value,
    )


def _check_start(plan: Plan, first: RadioForecast) -> None:
    at = plan.radio.at
    if at is not None and at < first.earliest:
        raise ProblemError(
            422,
            "too-soon",
            f"radio.at: {at:%Y-%m-%d %H:%M} is sooner than all can be prepared: {first.slowest} speaks every "
            f"{first.slowest_s // 60} min. The earliest is {first.earliest:%Y-%m-%d %H:%M} UTC; leave radio.at out to "
            "begin then.",
        )


def warnings(plan: Plan, forecasts: Sequence[RadioForecast]) -> list[str]:
    """What in a plan does not fit devices that speak seldom."""
    found = []
    for one in forecasts:
        slow = timedelta(seconds=one.slowest_s)
        if plan.answer_within < QUIET_INTERVALS * slow:
            found.append(
                f"answer_within is shorter than {QUIET_INTERVALS} intervals of {one.slowest}, which speaks every "
                f"{one.slowest_s // 60} min: it may be taken for silent."
            )
        ring = next(ring for ring in plan.rings if ring.name == one.ring)
        if ring.soak < 2 * slow:
            found.append(f"the soak of ring {ring.name!r} is shorter than two intervals of {one.slowest}.")
    return found
