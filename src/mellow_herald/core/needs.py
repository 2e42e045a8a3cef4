"""What a plan asks of a device's condition before it may download or switch, and how waiting is put into words."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from mellow_herald.core.attempt import State, WaitingFor

BATTERY_AT_LEAST = 30


@dataclass(frozen=True, slots=True)
class Needs:
    """``battery_at_least`` in % (a charging device may have less), ``charging``: only while it charges, ``links``:
    only over these kinds of link (empty: any), ``not_busy``: only while it has nothing better to do. ``urgent``
    does not wait for an owner who postponed; ``must_consent`` waits until the owner said yes."""

    battery_at_least: int = BATTERY_AT_LEAST
    charging: bool = False
    links: tuple[str, ...] = ()
    not_busy: bool = True
    urgent: bool = False
    must_consent: bool = False


Condition = Mapping[str, Any]


def missing(needs: Needs, condition: Condition, *, switching: bool) -> tuple[WaitingFor, datetime | None] | None:
    """What the device waits for before it may download (or, with ``switching``, switch), and until when if that is
    known; None if nothing stands in the way. ``condition`` is what it said last; what it did not say is no obstacle.
    """
    battery, charging = condition.get("battery"), bool(condition.get("charging"))
    if battery is not None and battery < needs.battery_at_least and not charging:
        return WaitingFor.BATTERY, None
    if needs.charging and not charging:
        return WaitingFor.CHARGER, None
    if not switching:
        link = condition.get("link")
        return (WaitingFor.LINK, None) if needs.links and link is not None and link not in needs.links else None
    if condition.get("busy") and needs.not_busy:
        return WaitingFor.DEVICE_BUSY, None
    if condition.get("owner") == "postponed" and not needs.urgent:
        return WaitingFor.OWNER_POSTPONED, condition.get("owner_until")
    if condition.get("owner") == "must-consent" or (needs.must_consent and condition.get("owner") != "willing"):
        return WaitingFor.OWNER_CONSENT, None
    return None


def explain(
    state: State,
    waiting_for: str | None,
    condition: Condition,
    needs: Needs,
    expected: datetime | None,
    now: datetime,
    until: datetime | None = None,
) -> tuple[str, datetime | None]:
    """In words what a live attempt waits for, and until when if that is known. ``expected`` is when the device's next
    check-in is, ``until`` when the obstacle itself is over."""
    call = "its next check-in" if expected is None or expected >= now else "its next check-in, which is overdue"
    match waiting_for:
        case WaitingFor.BATTERY:
            return f"battery at {condition.get('battery')} % of {needs.battery_at_least} %", expected
        case WaitingFor.CHARGER:
            return "the charger: the plan wants it to charge", expected
        case WaitingFor.LINK:
            return f"another link than {condition.get('link')}: the plan allows {', '.join(needs.links)}", expected
        case WaitingFor.DEVICE_BUSY:
            return "the device, which is busy", expected
        case WaitingFor.OWNER_POSTPONED:
            until = condition.get("owner_until")
            return "its owner, who postponed it", datetime.fromisoformat(until) if isinstance(until, str) else until
        case WaitingFor.OWNER_CONSENT:
            return "its owner's consent, by the button", None
        case WaitingFor.WINDOW if until is None:
            return "its next restart of its own: the plan switches then", None
        case WaitingFor.WINDOW:
            return "its window, in which the plan lets it go on", until
        case WaitingFor.PACE:
            return "its turn: as many devices as the plan's pace allows are under way", expected
        case WaitingFor.HARM_BUDGET:
            return "the outcome of others: the harm budget lets no more be at risk until they are decided", expected
        case WaitingFor.CHILDREN:
            return "the devices behind it: a gateway goes after them", expected
        case WaitingFor.GATEWAY:
            return "its gateway, which is being updated", expected
        case WaitingFor.RING:
            return "the rest of its ring: the plan switches once all of them have staged", expected
    match state:
        case State.OFFERED:
            return "the device to begin its download", expected
        case State.DOWNLOADING:
            return "its download", None
        case State.CLEARED:
            return "the device to switch, for which it has clearance", None
        case State.INSTALLING:
            return "the device to come back from its restart", None
        case State.PROVING:
            return "the new firmware to prove itself", None
        case State.FAILED | State.REVERTED | State.SILENT:
            return "its next try", expected
    return call, expected


def obstacles(device: Mapping[str, Any], now: datetime) -> list[str]:
    """Why a device cannot be updated by a rollout at all, in words; empty if it can. ``device`` has the facts of a
    selector: ``admission``, ``updater``, ``runs``, ``pinned_until``, ``pinned_why``, ``cloned``."""
    words = {
        "asking": "it asks for admission: admit it first",
        "refused": "it was refused",
        "retired": "it is retired",
    }
    found = [words[device["admission"]]] if device["admission"] in words else []
    if device.get("runs") is None:
        found.append("it has not said yet what it runs")
    if device.get("updater") == 0:
        found.append("its firmware has no updater: only a cable helps")
    if device.get("pinned_until") and device["pinned_until"] > now:
        found.append(f"it is pinned until {device['pinned_until']:%Y-%m-%d %H:%M}: {device['pinned_why']}")
    if device.get("runs") == "unknown-build":
        found.append("it runs a build that no release has, which is not overwritten unasked")
    if device.get("runs") == "bench-build":
        found.append("it runs a bench build, which no rollout overwrites unasked")
    if device.get("runs") == "unreadable":
        found.append("it cannot read what it runs")
    if device.get("cloned"):
        found.append("two devices use its token: find out which one is meant")
    return found
