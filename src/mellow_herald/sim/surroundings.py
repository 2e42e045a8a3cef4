"""What a device lives in, as pure functions of its specification and the time: battery, link, mains, owner."""

import random
from collections.abc import Sequence
from datetime import datetime, timedelta

from mellow_herald.sim.scenario import BatterySpec, LinkSpec, Outage, SpellSpec

HOUR = 3600.0


def in_spell(spell: SpellSpec | None, at: datetime, key: str) -> bool:
    """Whether a spell that comes back stands at ``at``; ``key`` shifts it, so that devices differ."""
    return spell is not None and _into(spell, at, key) < spell.length.total_seconds()


def spell_ends(spell: SpellSpec, at: datetime, key: str) -> float:
    """Seconds until the spell that stands at ``at`` is over."""
    return spell.length.total_seconds() - _into(spell, at, key)


def _into(spell: SpellSpec, at: datetime, key: str) -> float:
    every = spell.every.total_seconds()
    return (at.timestamp() + random.Random(key).uniform(0, every)) % every


def battery_at(spec: BatterySpec, made: datetime, at: datetime) -> float:
    """The battery's charge in % (0–100), after draining evenly and charging in its hours every day (UTC) since
    ``made``.

    Steps of an hour: the charge never leaves 0–100, so it depends on the order of day and night.
    """
    if spec.drain_per_day == 0 and spec.charge_per_day == 0:
        return float(spec.start)
    level = float(spec.start)
    moment = max(made, at - timedelta(days=60))  # by then a battery's first charge is long forgotten
    while moment < at:
        hours = min(1.0, (at - moment).total_seconds() / HOUR)
        gain = spec.charge_per_day / max(1, _length(spec)) if charging_at(spec, moment) else 0.0
        level = min(100.0, max(0.0, level + hours * (gain - spec.drain_per_day / 24)))
        moment += timedelta(hours=1)
    return level


def charging_at(spec: BatterySpec, at: datetime) -> bool:
    """Whether it charges at ``at``."""
    return spec.charge_per_day > 0 and spec.charge_from <= at.hour < spec.charge_to


def _length(spec: BatterySpec) -> int:
    return spec.charge_to - spec.charge_from


def outage_at(outages: Sequence[Outage], since: datetime, at: datetime) -> float | None:
    """Seconds until the mains are back for a device that these outages meet, None while there is power."""
    left = [
        (since + outage.after + outage.length - at).total_seconds()
        for outage in outages
        if since + outage.after <= at < since + outage.after + outage.length
    ]
    return max(left, default=None)


def next_outage(outages: Sequence[Outage], since: datetime, at: datetime) -> float | None:
    """Seconds until the next outage begins, None if there is none to come."""
    return min(((since + one.after - at).total_seconds() for one in outages if since + one.after > at), default=None)


def lost(link: LinkSpec, rng: random.Random) -> bool:
    """Whether the next call gets lost on its way."""
    return link.loss > 0 and rng.random() < link.loss


def on_air(link: LinkSpec, size: int) -> float:
    """Seconds that ``size`` bytes take, waiting for the radio's duty cycle included."""
    return link.latency_ms / 1000 + size / link.bytes_per_s / link.duty
