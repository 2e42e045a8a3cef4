"""What a device says of itself when it checks in: battery, link, whether it is busy, and what its owner says."""

import math
from datetime import datetime, timedelta
from typing import Any

from mellow_herald.sim.hardware import Hardware
from mellow_herald.sim.scenario import DeviceSpec
from mellow_herald.sim.surroundings import battery_at, charging_at, in_spell
from mellow_herald.wire.device import Condition

DRAIN_TIMES, MILLION = 3, 1_000_000


def made_at(hardware: Hardware) -> datetime | None:
    """When the device first came on-line, in service time; None before that."""
    made = hardware.data.get("made_at")
    return None if made is None else datetime.fromisoformat(made)


def charge_of(spec: DeviceSpec, hardware: Hardware, at: datetime) -> float | None:
    """The charge of the battery in %, less what firmware has drained beside; None without one."""
    if spec.battery is None:
        return None
    drained: int = hardware.data.get("drained", {}).get("millionths", 0)
    return max(0.0, battery_at(spec.battery, made_at(hardware) or at, at) - drained / MILLION)


def note_drain(spec: DeviceSpec, hardware: Hardware, now: datetime | None, *, drains: bool) -> None:
    """Takes down what firmware that drains the battery has taken of it until now. It costs three times as much: the
    usual, which is in the battery's own course, and twice that beside."""
    noted = hardware.data.get("drained", {"millionths": 0, "since": None})
    if now is None or spec.battery is None or not (drains or noted["since"]):
        return
    since = now if noted["since"] is None else datetime.fromisoformat(noted["since"])
    more = (DRAIN_TIMES - 1) * spec.battery.drain_per_day * (now - since) / timedelta(days=1)
    # In millionths of a percent: what is kept on the flash has no fractions.
    total = noted["millionths"] + round(more * MILLION)
    hardware.keep(drained={"millionths": total, "since": now.isoformat() if drains else None})


def condition_of(spec: DeviceSpec, hardware: Hardware, now: datetime | None, *, consented: bool) -> Condition:
    """The device's condition at ``now`` (None: not known yet); ``consented``: the button was pressed."""
    owner, until = _owner(spec, hardware, now, consented)
    battery, charging = None, spec.battery is None
    if spec.battery is not None:
        charging = now is not None and charging_at(spec.battery, now)
        battery = spec.battery.start if now is None else math.floor(charge_of(spec, hardware, now) or 0.0)
    return Condition(
        battery=battery,
        charging=charging,
        link=spec.link.kind,
        free=min(part.size for part in hardware.layout.parts.values()),
        busy=now is not None and in_spell(spec.busy, now, f"{spec.serial}/busy"),
        owner=owner,
        owner_until=until,
    )


def _owner(spec: DeviceSpec, hardware: Hardware, now: datetime | None, consented: bool) -> tuple[Any, datetime | None]:
    """What the owner says of the update at hand, and until when. What was put off is kept with the work."""
    owner, work = spec.owner, hardware.data.get("work", {})
    if owner.kind == "willing" or now is None or "components" not in work or consented:
        return "willing", None
    if owner.kind in ("consents", "refuses"):
        return "must-consent", None
    put_off = work.get("put_off", {"times": 0, "until": now.isoformat()})
    # The plan says how often, and for how long, an owner may put it off; one that knows no limits is an older order.
    allowed = work.get("owner") or {"may_postpone": owner.times, "postpone_by_s": owner.length.total_seconds()}
    times = min(owner.times, allowed["may_postpone"])
    if work.get("urgent") or (put_off["times"] >= times and put_off["until"] <= now.isoformat()):
        return "willing", None
    if put_off["until"] <= now.isoformat():
        by = min(owner.length, timedelta(seconds=allowed["postpone_by_s"]))
        put_off = {"times": put_off["times"] + 1, "until": (now + by).isoformat()}
        hardware.keep(work={**work, "put_off": put_off})
    return "postponed", datetime.fromisoformat(put_off["until"])
