"""A whole session on the air: the service's side and units that know the standards' commands only."""

from datetime import timedelta

import pytest

from mellow_herald.core.radio.air import CHANNELS, Region
from mellow_herald.core.radio.completion import expected_share
from mellow_herald.core.radio.keys import GroupSession
from mellow_herald.core.radio.loss import Loss
from mellow_herald.core.radio.member import MATRIX_FULL, hear
from mellow_herald.core.radio.packages import PORTS, Package, encode, fragments
from mellow_herald.core.radio.transmission import (
    Outcome,
    expected_length,
)
from tests.harness.air import ADDRESS, GROUP_KEY, yard


def test_a_block_reaches_everybody_and_the_session_ends_early() -> None:
    one = yard(12, 8_000, Loss(0.08, 3), seed=1, redundancy=60)
    one.prepare()
    assert len(one.ready) >= 10
    before = one.ether.now
    assert one.transmit() is Outcome.ALL_COMPLETE
    assert one.sent.fragments < one.layout.fragments + one.layout.coded
    assert all(one.units[eui].blocks == [one.block] for eui in one.ready)
    # No fragment was sent before the channel was free again.
    airtime = one.ether.on_air / (one.ether.now - before).total_seconds()
    assert airtime <= CHANNELS[Region.EU868].duty + 0.001


@pytest.mark.parametrize("burst", [1, 5, 10, 30])
def test_forecast_and_air_agree(burst: int) -> None:
    """Over 20 seeds: who completes within five points, how long it takes within a tenth."""
    loss, done, ready, took = Loss(0.08, burst), 0, 0, list[timedelta]()
    for seed in range(20):
        one = yard(8, 6_000, loss, seed, redundancy=20)
        one.prepare()
        began = one.ether.now
        one.transmit()
        done += sum(one.units[eui].blocks == [one.block] for eui in one.ready)
        ready += len(one.ready)
        took.append(one.ether.now - began)
    assert ready > 120
    assert done / ready == pytest.approx(expected_share(one.layout, [loss]), abs=0.05)
    mean = sum(took, timedelta()) / len(took)
    assert mean / expected_length(one.layout, 8) == pytest.approx(1, abs=0.1)


def test_a_halt_stops_at_the_next_fragment() -> None:
    one = yard(4, 4_000, Loss(0.0), seed=3)
    one.prepare()
    assert one.transmit(halt_after=17) is Outcome.HALTED
    assert one.sent.fragments == 17 and not any(unit.blocks for unit in one.units.values())


def test_who_has_another_key_or_no_flash_has_no_part_in_it() -> None:
    one = yard(4, 4_000, Loss(0.0), seed=4)
    other, small = [*one.units.values()][:2]
    other.root, small.flash_bytes = bytes(16), 100
    one.prepare()
    assert one.members[small.eui].problem == "not-enough-memory" and small.eui not in one.ready
    one.transmit()
    assert other.blocks == [], "nothing of the group can be read with another key"
    assert one.members[other.eui].received == 0
    assert all(unit.blocks == [one.block] for unit in [*one.units.values()][2:])


def test_who_loses_more_than_its_memory_says_so() -> None:
    one = yard(3, 8_000, Loss(0.3, 2), seed=5, redundancy=100, most_missing=16)
    one.prepare()
    assert one.transmit() is not Outcome.HALTED
    assert {one.members[eui].problem for eui in one.ready} == {MATRIX_FULL}


def test_what_is_forged_replayed_or_for_another_block_changes_nothing() -> None:
    one = yard(3, 4_000, Loss(0.0), seed=6)
    one.prepare()
    one.ether.play(one.begins_at)
    unit = next(iter(one.units.values()))
    port = PORTS[Package.FRAGMENTS]
    right = encode([fragments.DataFragment(0, 1, one.cut.payload(1))])
    first = one.group.frame(0, port, right)
    forged = GroupSession.derive(bytes(16), ADDRESS).frame(1, port, right)
    another = GroupSession.derive(GROUP_KEY, ADDRESS + 1).frame(2, port, right)

    def overhear(frame: bytes) -> int:
        unit.overhear(frame, one.air.frequency, one.air.data_rate, one.ether.now)
        return unit.receptions[0].received

    assert overhear(first) == 1
    assert overhear(first) == 1, "a counter is heard once"
    assert overhear(forged) == 1 and overhear(another) == 1
    flipped = bytearray(one.group.frame(3, port, right))
    flipped[-6] ^= 1
    assert overhear(bytes(flipped)) == 1
    assert overhear(one.group.frame(4, port, encode([fragments.DataFragment(1, 2, one.cut.payload(2))]))) == 1
    assert overhear(one.group.frame(5, port, encode([fragments.DataFragment(0, 2, one.cut.payload(2))]))) == 2
    one.counter = 6
    assert one.transmit() is Outcome.ALL_COMPLETE
    assert all(unit.blocks == [one.block] for unit in one.units.values())


def test_who_says_that_it_has_all_keeps_nobody_else_from_it() -> None:
    one = yard(4, 4_000, Loss(0.08, 2), seed=7, redundancy=60)
    one.prepare()
    liar = sorted(one.ready)[0]
    one.members[liar] = hear(
        one.members[liar], fragments.FragSessionStatusAns(0, 100, 0), one.invitations[liar], one.ether.now
    )[0]
    assert one.members[liar].complete
    one.transmit()
    assert all(one.units[eui].blocks == [one.block] for eui in one.ready - {liar})


@pytest.mark.parametrize("off", [-20.0, -5.0, 5.0, 20.0, 100_000.0])
def test_a_clock_that_is_off_is_set_before_the_session(off: float) -> None:
    one = yard(3, 2_000, Loss(0.0), seed=8, offset=off)
    one.prepare()
    assert one.ready == set(one.units)
    assert all(abs((unit.clock(one.ether.now) - one.ether.now).total_seconds()) <= 2 for unit in one.units.values())
    assert one.transmit() is Outcome.ALL_COMPLETE
