"""Devices as they are shown: what they run, what they wait for, whether they can be updated; and one brought a release
at once."""

from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any

from mellow_herald.core.attempt import State
from mellow_herald.core.needs import Needs, explain, obstacles
from mellow_herald.core.placement import Allow
from mellow_herald.core.presence import presence
from mellow_herald.core.selector import Compare
from mellow_herald.service import rollouts
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.store import fleet, history
from mellow_herald.wire.fleet import AttemptBrief, DeviceDetail, InstallIn, TimelineEntry
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.rollout import PartOut

TIMELINE = 200
MOST_BEHIND = 100


def as_shown(row: Mapping[str, Any], now: datetime) -> dict[str, Any]:
    """A row of ``store.fleet.list_devices`` with what follows from it at ``now``."""
    facts = dict(row)
    interval = timedelta(seconds=facts["interval_s"] or 1)
    seen_at = facts["seen_at"]
    expected = seen_at + timedelta(seconds=facts["next_s"]) if seen_at else None
    facts |= {
        "presence": presence(seen_at, interval, now),
        "next_checkin_at": expected,
        "condition": facts["condition"] or {},
        "readings": facts["readings"] or {},
    }
    if facts["newest_id"] is not None:
        names = AttemptBrief.model_fields
        facts["attempt"] = AttemptBrief.model_validate({name: facts[f"newest_{name}"] for name in names})
        if facts["newest_live"]:
            facts["waiting"], facts["waiting_until"] = explain(
                State(facts["newest_state"]), facts["newest_waiting_for"], facts["condition"],
                needs_of(facts["newest_plan"]), expected, now, facts["newest_waiting_until"],
            )  # fmt: skip
    return facts


def attempt_as_shown(row: Mapping[str, Any], now: datetime) -> dict[str, Any]:
    """A row of ``store.attempts.list_attempts`` with what it waits for at ``now``."""
    facts = dict(row)
    if facts["live"]:
        expected = facts["seen_at"] + timedelta(seconds=facts["next_s"]) if facts["seen_at"] else None
        facts["waiting"], facts["waiting_until"] = explain(
            State(facts["state"]),
            facts["waiting_for"],
            facts["condition"] or {},
            needs_of(facts["plan"]),
            expected,
            now,
            facts["waiting_until"],
        )
    versions = {image["name"]: image["version"] for image in facts["images"] or []}
    facts["parts"] = [
        PartOut.model_validate({"name": name, "to_version": versions.get(name), **part})
        for name, part in (facts["parts"] or {}).items()
    ]
    facts["way"] = None if facts["back_to"] is None else "back"
    before = facts["before"] or {}
    if before.get("settings") and before.get("settings_after"):
        facts["settings"] = "kept" if before["settings"] == before["settings_after"] else "changed"
    return facts


def needs_of(plan: Any) -> Needs:
    """What a stored plan needs of a device's condition."""
    return PlanDocument.model_validate(plan).needs


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
    facts = as_shown(rows[0], now)
    standby, running = facts["standby"].get("app") or {}, facts["running"].get("app") or {}
    more = {
        "timeline": [TimelineEntry.model_validate(entry) for entry in entries],
        "obstacles": obstacles({**facts, "cloned": facts["cloned_at"] is not None}, now),
        "behind": behind,
        "way_back": bool(standby.get("digest")) and standby.get("digest") != running.get("digest"),
    }
    return DeviceDetail.model_validate({**facts, **more})


async def install(
    context: Context, serial: str, asked: InstallIn, by: str, request_key: str | None
) -> tuple[int, bool]:
    """Brings a release to one device at once: a rollout of one, which does not wait for an owner who postponed and asks
    for the device's log. Returns its id and whether it is new."""
    await show(context, serial)
    asked_for = {Allow.AGAIN: asked.again, Allow.OLDER: asked.older, Allow.UNKNOWN_BUILDS: asked.over_unknown_build}
    document = PlanDocument.model_validate(
        {
            "name": f"{asked.release.rpartition('/')[2]} on {serial}: {asked.reason}"[:200],
            "release": asked.release,
            "target": f'serial = "{serial}"',
            "allow": [name for name, meant in asked_for.items() if meant],
            "urgent": True,
            "log": True,
            "numbers": {"retries": 0},
            "rings": [{"name": serial[:60], "soak": "0s"}],
        }
    )
    return await rollouts.start(context, document, by, request_key)
