"""Devices as they are shown: what they run, what they wait for, whether they can be updated; and one brought a release
at once."""

from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any, NamedTuple

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core import limits
from mellow_herald.core.attempt import State
from mellow_herald.core.eligibility import OF_ONE, Allow, PassedOver
from mellow_herald.core.firmware import APP
from mellow_herald.core.needs import explain, obstacles
from mellow_herald.core.presence import presence
from mellow_herald.core.selector import Compare, Node
from mellow_herald.service.context import Context
from mellow_herald.service.fleet import topology
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.releases.offering import check_offerable, release_name
from mellow_herald.service.rollouts.life import start
from mellow_herald.service.rollouts.planning import needs_of, rules_of
from mellow_herald.service.rollouts.shown import attempt_as_shown
from mellow_herald.store import alarms, attempts, fleet, history, releases, rings
from mellow_herald.store.fleet import DeviceOrder, ShownDevice
from mellow_herald.wire.fleet import (
    AttemptBrief,
    DeviceDetail,
    DeviceReleases,
    InstallIn,
    ReleaseForDevice,
    Taken,
    TimelineEntry,
)
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.topology import AlarmOut

TIMELINE = 200
MOST_BEHIND = 100
MOST_RELEASES = 100
MOST_TAKEN = 50
MOST_ALARMS = 20


def as_shown(row: Mapping[str, Any], now: datetime) -> dict[str, Any]:
    """A row of ``store.fleet.list_devices`` with what follows from it at ``now``."""
    facts = dict(row)
    interval = timedelta(seconds=facts["interval_s"] or 1)
    seen_at = facts["seen_at"]
    expected = seen_at + timedelta(seconds=facts["next_s"]) if seen_at else None
    facts |= {
        "presence": presence(facts["heard_at"], interval, now),
        "next_checkin_at": expected,
        "condition": facts["condition"] or {},
        "readings": facts["readings"] or {},
        "transport": transport(facts),
    }
    says = (facts["running"].get(APP) or {}).get("version")
    facts |= {
        "says_version": says,
        "version_differs": None not in (says, facts["version"]) and says != facts["version"],
    }
    if facts["newest_id"] is not None:
        names = AttemptBrief.model_fields
        facts["attempt"] = AttemptBrief.model_validate({name: facts[f"newest_{name}"] for name in names})
        if facts["newest_live"]:
            facts["waiting"], facts["waiting_until"] = explain(
                State(facts["newest_state"]),
                facts["newest_waiting_for"],
                facts["condition"],
                needs_of(facts["newest_plan"]),
                expected,
                now,
                facts["newest_waiting_until"],
            )
    return facts


def transport(device: Mapping[str, Any]) -> str:
    """By what a device is reached."""
    if device["radio_interval_s"] is not None:
        return "radio"
    return "coap" if device["coap_lifetime_s"] is not None else "http"


async def show(context: Context, serial: str) -> DeviceDetail:
    """Everything known of one device."""
    now = context.clock.now()
    async with context.engine.connect() as connection:
        node = Compare("serial", "=", serial)
        rows = [] if "\x00" in serial else await fleet.list_devices(connection, node, now=now, limit=1)
        if not rows:
            raise ProblemError(404, "not-found", f"There is no device {serial!r}. See `herald device list`.")
        entries = await history.device_timeline(connection, rows[0]["id"], serial, TIMELINE)
        behind = await fleet.list_behind(connection, serial, MOST_BEHIND)
        standby, running = (rows[0][slots].get(APP) or {} for slots in ("standby", "running"))
        held = standby.get("digest") if standby.get("digest") != running.get("digest") else None
        newest = rows[0]["newest_id"]
        attempt = None if newest is None else await attempts.find_attempt(connection, newest)
        away = await topology.cut_off(connection, rows[0]["gateway"])
        heard = await alarms.list_alarms(connection, serial=serial, limit=MOST_ALARMS)
        failed = None if held is None else await history.why_it_failed(connection, rows[0]["id"], held)
    facts = as_shown(rows[0], now)
    more = {
        "timeline": [TimelineEntry.model_validate(entry) for entry in entries],
        "obstacles": obstacles({**facts, "cloned": facts["cloned_at"] is not None}, now),
        "behind": behind,
        "cut_off": away,
        "parts": [] if attempt is None else attempt_as_shown(attempt, now)["parts"],
        "alarms": [AlarmOut.model_validate(dict(row)) for row in heard],
        "way_back": held is not None and failed is None,
        "standby_failed": failed,
    }
    return DeviceDetail.model_validate({**facts, **more})


class Found(NamedTuple):
    """Devices that a selector picks, at most so many as were asked for and one more; how many it picks in all (None:
    not asked for), and whether that is only ``about`` so many."""

    rows: list[ShownDevice]
    total: int | None
    about: bool = False


async def find(
    context: Context,
    connection: AsyncConnection,
    where: Node | None,
    *,
    after: str | None,
    limit: int,
    order: DeviceOrder,
    exact: bool,
) -> Found:
    """A page of devices. In a very large fleet how many match is told by a sample, unless the ``exact`` number is asked
    for or too few match for that."""
    now, all_devices = context.clock.now(), len(context.memory.generations)
    told, by_serial = None, order == DeviceOrder()
    if where is not None and all_devices > limits.COUNTED_EXACTLY and (by_serial or after is None):
        told = await fleet.estimate_devices(connection, where, now, all_devices)
    total = None
    if not by_serial:
        rows = await fleet.list_devices(connection, where, now=now, after=after, limit=limit + 1, order=order)
    else:
        frequent = told is not None
        rows, total = await fleet.find_devices(
            connection, where, now=now, after=after, limit=limit + 1, frequent=frequent
        )
    if after is not None:
        return Found(rows, None)
    if len(rows) <= limit:
        return Found(rows, len(rows))
    if told is not None and not exact:
        return Found(rows, told, about=True)
    return Found(rows, await fleet.count_devices(connection, where, now) if total is None else total)


async def releases_for(context: Context, serial: str) -> DeviceReleases:
    """Which releases of its board a device could take, and what it took so far."""
    now = context.clock.now()
    async with context.engine.connect() as connection:
        device = await fleet.find_device(connection, serial)
        if device is None:
            raise ProblemError(404, "not-found", f"There is no device {serial!r}. See `herald device list`.")
        there = await releases.releases_of_board(connection, device["board"], MOST_RELEASES)
        rules = [rules_of(row, row["components"]) for row in there]
        reasons = await rings.reasons_of_one(connection, device["id"], rules, now)
        offerable = [await _not_offered(connection, row) for row in there]
        history_rows = await history.taken(connection, device["id"], MOST_TAKEN)
    found = []
    for row, reason, barred in zip(there, reasons, offerable, strict=True):
        why, mend = barred or (("", "") if reason is None else OF_ONE[PassedOver(reason)])
        found.append(
            ReleaseForDevice(
                id=row["id"],
                release=release_name(row),
                version=row["version"],
                line=row["line"],
                state=row["state"],
                runs_it=_runs(device["running"], row["components"]),
                could_take=not why,
                reason=("not-offered" if barred else reason) if why else None,
                why=why,
                mend=mend.format(serial=serial),
            )
        )
    taken = [
        Taken.model_validate({**row, "release": release_name(row), "scratch": row["release_state"] == "scratch"})
        for row in history_rows
    ]
    return DeviceReleases(releases=found, history=taken)


def _runs(running: Mapping[str, Any], components: Sequence[Any]) -> bool:
    """Whether a device runs all of a release: of each component one of its images."""
    wanted: dict[str, set[str]] = {}
    for one in components:
        wanted.setdefault(one["name"], set()).add(one["digest"])
    return all((running.get(name) or {}).get("digest") in digests for name, digests in wanted.items())


async def _not_offered(connection: AsyncConnection, row: Mapping[str, Any]) -> tuple[str, str] | None:
    """Why no device is offered this release, and what can be done; None if it may be."""
    try:
        await check_offerable(connection, row)
    except ProblemError as problem:
        return "is offered to nobody", problem.detail
    return None


async def install(
    context: Context, serial: str, asked: InstallIn, by: str, request_key: str | None
) -> tuple[int, bool]:
    """Brings a release to one device at once: a rollout of one, which does not wait for an owner who postponed and asks
    for the device's log. Returns its id and whether it is new."""
    await show(context, serial)
    asked_for = {
        Allow.AGAIN: asked.again,
        Allow.OLDER: asked.older,
        Allow.UNKNOWN_BUILDS: asked.over_unknown_build,
        Allow.BENCH_BUILDS: asked.over_bench_build,
    }
    name = f"{asked.release.rpartition('/')[2]} on {serial}: {asked.reason}"
    document = lone_plan(serial, asked.release, name, [one for one, meant in asked_for.items() if meant])
    return await start(context, document, by, request_key, alone=serial)


def lone_plan(serial: str, release: str, name: str, allow: Sequence[Allow]) -> PlanDocument:
    """The plan of a rollout of one device, at once."""
    return PlanDocument.model_validate(
        {
            "name": name[:200],
            "release": release,
            "target": f'serial = "{serial}"',
            "allow": list(allow),
            "urgent": True,
            "log": True,
            "numbers": {"retries": 0},
            "rings": [{"name": serial[:60], "soak": "0s"}],
        }
    )
