import random
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.sim.scenario import BatterySpec, LinkSpec, Outage, SpellSpec
from mellow_herald.sim.surroundings import (
    battery_at,
    charging_at,
    in_spell,
    lost,
    next_outage,
    on_air,
    outage_at,
)

START = datetime(2026, 6, 1, tzinfo=UTC)
SPELL = SpellSpec(every=timedelta(hours=6), length=timedelta(minutes=30))


@given(key=st.text(max_size=8))
def test_a_spell_takes_its_share_of_time_and_each_device_has_its_own(key: str) -> None:
    minutes = [in_spell(SPELL, START + timedelta(minutes=minute), key) for minute in range(24 * 60)]
    assert sum(minutes) in range(4 * 30 - 4, 4 * 30 + 5)
    assert not in_spell(None, START, key)


def test_a_battery_drains_by_night_charges_by_day_and_never_leaves_its_bounds() -> None:
    spec = BatterySpec(start=50, drain_per_day=24, charge_per_day=30, charge_from=8, charge_to=18)
    assert battery_at(spec, START, START) == 50
    assert battery_at(spec, START, START + timedelta(hours=8)) == 42
    assert battery_at(spec, START, START + timedelta(hours=18)) == 62
    assert charging_at(spec, START + timedelta(hours=9)) and not charging_at(spec, START + timedelta(hours=19))
    flat = BatterySpec(start=50, drain_per_day=24)
    assert battery_at(flat, START, START + timedelta(days=9)) == 0
    full = BatterySpec(start=50, drain_per_day=1, charge_per_day=60)
    assert battery_at(full, START, START + timedelta(days=9, hours=18)) == 100
    assert battery_at(BatterySpec(start=77), START, START + timedelta(days=99)) == 77


@given(hours=st.integers(0, 400), drain=st.floats(0, 50), charge=st.floats(0, 50), start=st.integers(0, 100))
def test_a_charge_is_a_percentage(hours: int, drain: float, charge: float, start: int) -> None:
    spec = BatterySpec(start=start, drain_per_day=drain, charge_per_day=charge)
    assert 0 <= battery_at(spec, START, START + timedelta(hours=hours)) <= 100


def test_outages_stand_and_pass() -> None:
    outage = Outage(where="site = saltgrass", after=timedelta(minutes=10), length=timedelta(minutes=5))
    at = START + timedelta(minutes=12)
    assert outage_at([outage], START, at) == 180
    assert outage_at([outage], START, START) is None
    assert next_outage([outage], START, START) == 600
    assert next_outage([outage], START, at) is None


def test_a_link_takes_its_time_and_loses_its_share() -> None:
    assert on_air(LinkSpec(bytes_per_s=1000, latency_ms=500, duty=0.1), 100) == pytest.approx(0.5 + 1.0)
    rng = random.Random(1)
    losses = sum(lost(LinkSpec(loss=0.2), rng) for _ in range(2000))
    assert 330 < losses < 470
    assert not lost(LinkSpec(), rng)
