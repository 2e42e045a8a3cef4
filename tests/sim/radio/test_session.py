"""A whole session on the air: the service's side and units that know the standards' commands only."""

import random
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

import pytest

from mellow_herald.core.radio.air import CHANNELS, Region
from mellow_herald.core.radio.coding import Block
from mellow_herald.core.radio.completion import expected_share
from mellow_herald.core.radio.keys import GroupSession, block_mic, group_key_key, wrap
from mellow_herald.core.radio.loss import Loss
from mellow_herald.core.radio.member import MATRIX_FULL, Invitation, Member, Step, hear, next_command
from mellow_herald.core.radio.packages import PORTS, Package, decode, encode, fragments
from mellow_herald.core.radio.session import Air, Layout, earliest, lay_out
from mellow_herald.core.radio.transmission import (
    AskStatus,
    End,
    Outcome,
    SendFragment,
    Sent,
    WaitUntil,
    answered,
    asked,
    expected_length,
    fragment_sent,
    next_move,
    spread_for,
)
from mellow_herald.sim.radio.ether import Ether
from mellow_herald.sim.radio.unit import Unit

NOON = datetime(2026, 11, 23, 12, tzinfo=UTC)
GROUP_KEY, ADDRESS, DESCRIPTOR = bytes(range(16, 32)), 0x01020304, b"comb"
OF_PORT = {port: package for package, port in PORTS.items()}


@dataclass
class Yard:
    """The service's side, as far as it is computation: it invites, sends, and listens to what comes in."""

    ether: Ether
    units: dict[str, Unit]
    block: bytes
    air: Air
    layout: Layout = field(init=False)
    members: dict[str, Member] = field(default_factory=dict)
    heard: int = 0
    counter: int = 0
    sent: Sent = field(default_factory=Sent)

    def __post_init__(self) -> None:
        self.layout = lay_out(len(self.block), self.air)
        self.cut = Block.cut(self.block, self.air.fragment)
        self.group = GroupSession.derive(GROUP_KEY, ADDRESS)

    def invite(self, every: timedelta) -> None:
        begins_at = earliest(self.ether.now, [(every, 6)])
        self.spread = spread_for(len(self.units))
        self.invitations = {
            eui: Invitation(
                group=1,
                address=ADDRESS,
                wrapped_key=wrap(GROUP_KEY, group_key_key(unit.root)),
                counters=(0, 0xFFFF),
                begins_at=begins_at,
                time_out=self.layout.time_out + 1,  # parity waits for answers, too
                frequency=self.air.frequency,
                data_rate=self.air.data_rate,
                fragments=self.layout.fragments,
                fragment=self.air.fragment,
                padding=self.cut.padding,
                descriptor=DESCRIPTOR,
                session=1,
                mic=block_mic(unit.root, 1, 0, DESCRIPTOR, self.block),
                spread=self.spread,
            )
            for eui, unit in self.units.items()
        }
        self.members = {eui: Member() for eui in self.units}
        self.begins_at = begins_at

    def listen(self) -> None:
        for uplink in self.ether.since(self.heard):
            member, invited = self.members[uplink.eui], self.invitations[uplink.eui]
            package = OF_PORT.get(uplink.port)
            told = []
            for command in decode(package, uplink.payload, uplink=True) if package else ():
                member, answer = hear(member, command, invited, uplink.at)
                told += [answer] if answer else []
            self.members[uplink.eui] = member
            if not self.ether.queued(uplink.eui):
                more = next_command(member, invited)
                told += [more] if more and not told else []
            for command in told[:1]:
                self.ether.queue(uplink.eui, PORTS[command.package], encode([command]))
        self.heard = self.ether.heard

    def prepare(self) -> None:
        while self.ether.now < self.begins_at:
            self.ether.play(min(self.begins_at, self.ether.now + timedelta(seconds=2)))
            self.listen()
        self.ready = {
            eui
            for eui, one in self.members.items()
            if one.step(self.invitations[eui]) is Step.READY and not one.problem
        }

    def send(self, payload: bytes) -> None:
        frame = self.group.frame(self.counter, PORTS[Package.FRAGMENTS], payload)
        self.counter += 1
        free_at = self.ether.send(frame, self.air.frequency, self.air.data_rate)
        self.ether.play(free_at)
        self.listen()

    def transmit(self, halt_after: int | None = None) -> Outcome:
        while True:
            ready = [self.members[eui] for eui in sorted(self.ready)]
            halted = halt_after is not None and self.sent.fragments >= halt_after
            match next_move(self.sent, self.layout, ready, self.begins_at, self.ether.now, halted=halted):
                case SendFragment(number):
                    self.send(encode([fragments.DataFragment(0, number, self.cut.payload(number))]))
                    self.sent = fragment_sent(self.sent)
                case AskStatus(everybody):
                    self.send(encode([fragments.FragSessionStatusReq(0, everybody)]))
                    self.sent = asked(self.sent, self.spread, self.ether.now)
                case WaitUntil(at):
                    self.ether.play(at)
                    self.listen()
                    if self.sent.answers_until is not None and self.ether.now >= self.sent.answers_until:
                        self.sent = answered(self.sent, [self.members[eui] for eui in sorted(self.ready)])
                case End(outcome):
                    return outcome


def yard(count: int, size: int, loss: Loss, seed: int, *, redundancy: int = 15, rate: int = 4, **more: object) -> Yard:
    rng = random.Random(seed)
    ether = Ether(Region.EU868, NOON, rng)
    units = {}
    for number in range(count):
        eui = f"{number:016x}"
        given = {"offset": rng.uniform(-3000, 3000), "drift": rng.uniform(-40e-6, 40e-6), **more}
        units[eui] = Unit(eui, rng.randbytes(16), NOON, **given)  # type: ignore[arg-type]
        ether.place(units[eui], timedelta(minutes=1), loss)
    made = Yard(ether, units, rng.randbytes(size), Air(Region.EU868, rate, 40, redundancy))
    made.invite(timedelta(minutes=1))
    return made


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
