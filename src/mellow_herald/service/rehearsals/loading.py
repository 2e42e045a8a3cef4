"""The model of a fleet, from what the service has recorded of it."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from statistics import median
from zoneinfo import ZoneInfo

import numpy as np
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.arms import ARM
from mellow_herald.core.forecast import ASSUMED_RATE, RESTART
from mellow_herald.core.foresight import BATTERY_SHIFT, HEARD, UNSAID, Flags, Words
from mellow_herald.core.plan import Plan
from mellow_herald.core.rehearsal.faults import Fault
from mellow_herald.core.rehearsal.fleet import Column, Fleet, Numbers, Places, column_of, without_gaps
from mellow_herald.core.rings import NONE
from mellow_herald.core.selector import And, Compare, Node, Not, Or, parse_selector
from mellow_herald.service.rollouts.planning import Drawn, Prepared, lots
from mellow_herald.store import previewing, rehearsals
from mellow_herald.store.rehearsals import Known

USUAL_INTERVAL_S = 300
# A device of which fewer hours are known has no week of its own.
LEAST_HOURS = 24


@dataclass(frozen=True, slots=True)
class Model:
    """The model, the places of whom each fault can strike, and what was taken for granted; where two releases are
    compared, ``arms`` names which each device gets."""

    fleet: Fleet
    ids: Sequence[int]
    assumed: float
    assumptions: tuple[str, ...]
    arms: Sequence[str] = ()


async def load(connection: AsyncConnection, prepared: Prepared, drawn: Drawn, now: datetime) -> Model:
    """What is known of the devices that the plan's rings would have now."""
    plan = prepared.plan
    ids = [int(one) for placed in drawn.placed for one in placed.ids.tolist()]
    ring = np.repeat(np.arange(len(drawn.placed)), [len(placed.ids) for placed in drawn.placed])
    watched = list(plan.brake.watch_by)
    cluster = plan.harm.cluster_by if plan.harm is not None else None
    names = [*watched, *([cluster] if cluster and cluster not in watched else [])]
    known = await rehearsals.known_of(connection, ids, names)
    words, zones = await rehearsals.weeks_of(connection, ids, now)
    words, own = _with_usual_weeks(words, known)
    rate = await previewing.measured_rate(connection, prepared.release["board"])
    took = np.array(await rehearsals.switches_took(connection, ids)) / 3600
    # Who goes back restarts once more, in no more than half of what restart and trial together take.
    restart = min(RESTART.total_seconds() / 3600, float(np.median(took)) / 2 if len(took) else np.inf)
    zone_places, used = _zones(plan, zones)
    gateways = {one.serial: n for n, one in enumerate(known)}
    second = np.concatenate([NONE, *lots(plan, drawn).values()])
    arms = [plan.arms[int(one)].name for one in np.isin(ids, second)] if plan.arms else []
    fleet = Fleet(
        ring,
        np.array([_interval(known, one) / 3600 for one in known], np.float64),
        _rates(known, rate),
        words,
        np.array([not plan.needs.links or one.link is None or one.link in plan.needs.links for one in known], np.bool_),
        zone_places,
        used,
        np.array([gateways.get(one.gateway or "", -1) for one in known], np.int64),
        own,
        restart,
        took,
        {name: _column(known, name) for name in names} | ({ARM: column_of(arms)} if arms else {}),
    )
    assumptions = tuple(_assumptions(rate, len(took) > 0, own, plan))
    return Model(fleet, ids, float((~own).mean()) if len(own) else 0.0, assumptions, arms)


async def struck_by(connection: AsyncConnection, fault: Fault | None, model: Model, now: datetime) -> Flags | None:
    """Whom a fault can strike."""
    if fault is None:
        return None
    if fault.where is None:
        return np.ones(len(model.ids), np.bool_)
    return await _picked(connection, parse_selector(fault.where), model, now)


async def _picked(connection: AsyncConnection, node: Node, model: Model, now: datetime) -> Flags:
    """Whom a selector picks; of two releases that are compared, ``arm`` says which a device would get."""
    match node:
        case And(parts) if model.arms:
            picks = [await _picked(connection, part, model, now) for part in parts]
            return np.array(np.logical_and.reduce(picks), np.bool_)
        case Or(parts) if model.arms:
            picks = [await _picked(connection, part, model, now) for part in parts]
            return np.array(np.logical_or.reduce(picks), np.bool_)
        case Not(part) if model.arms:
            return ~await _picked(connection, part, model, now)
        case Compare(name, "=" | "!=" as op, value) if model.arms and name == ARM:
            return np.array([(arm == value) == (op == "=") for arm in model.arms], np.bool_)
    picked = await rehearsals.picked(connection, model.ids, node, now)
    return np.array([one in picked for one in model.ids], np.bool_)


def _with_usual_weeks(words: Words, known: Sequence[Known]) -> tuple[Words, Flags]:
    """Gives devices without a week of their own that of another of the same link, in turn; where there is none, it is
    taken to be there all the time."""
    own = (words != 0).sum(axis=1) >= LEAST_HOURS
    found = words.copy()
    found[own] = without_gaps(words[own])
    links: dict[str, list[int]] = {}
    for place in np.flatnonzero(own).tolist():
        links.setdefault(known[place].link or "", []).append(place)
    anyone = np.flatnonzero(own).tolist()
    always = np.full(words.shape[1], HEARD, np.int16) | np.int16(UNSAID << BATTERY_SHIFT)
    for turn, place in enumerate(np.flatnonzero(~own).tolist()):
        alike = links.get(known[place].link or "", anyone)
        found[place] = found[alike[turn % len(alike)]] if alike else always
    return found, own


def _interval(known: Sequence[Known], one: Known) -> float:
    return float(one.interval_s or USUAL_INTERVAL_S)


def _rates(known: Sequence[Known], measured: float | None) -> Numbers:
    """Each device's own rate, else the median of its link, else that of the board, else what is assumed."""
    by_link: dict[str, list[float]] = {}
    for one in known:
        if one.rate:
            by_link.setdefault(one.link or "", []).append(one.rate)
    usual = {link: median(rates) for link, rates in by_link.items()}
    fallback = measured or ASSUMED_RATE
    return np.array([one.rate or usual.get(one.link or "", fallback) for one in known], np.float64)


def _zones(plan: Plan, zones: Sequence[str | None]) -> tuple[Places, list[ZoneInfo]]:
    used: list[ZoneInfo] = []
    place: dict[str | None, int] = {}
    for tz in dict.fromkeys(zones):
        zone = plan.calendar.zone_of(tz)
        if zone not in used:
            used.append(zone)
        place[tz] = used.index(zone)
    return np.array([place[tz] for tz in zones], np.int64), used or [plan.calendar.zone]


def _column(known: Sequence[Known], name: str) -> Column:
    return column_of([one.facts[name] for one in known])


def _assumptions(rate: float | None, took: bool, own: Flags, plan: Plan) -> list[str]:
    found = ["each device lives the week to come as it lived its last one", "people say go and approve when asked"]
    if rate is None:
        found.append(f"no transfer was measured yet: {ASSUMED_RATE // 1000} kB a second are assumed")
    if not took:
        found.append(f"no switch was measured yet: restarts of {RESTART.total_seconds():.0f} s are assumed")
    if len(own) and not own.any():
        found.append("no device has a day of history: all are taken to be there all the time")
    if plan.arms:
        found.append(
            f"the two releases that are compared are alike, but for a fault that names an arm; the rest gets"
            f" {plan.arms[0].name}"
        )
    if plan.switch.value == "at-restart":
        found.append("devices restart by themselves when they are ready")
    return found
