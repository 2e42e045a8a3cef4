"""A yard on narrow radio in virtual time: the service's side as far as it is computation, and units that know the
standards' commands only."""

import random
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from mellow_herald.core.radio.air import Region
from mellow_herald.core.radio.coding import Block
from mellow_herald.core.radio.keys import GroupSession, block_mic, group_key_key, wrap
from mellow_herald.core.radio.loss import Loss
from mellow_herald.core.radio.member import Invitation, Member, Step, hear, next_command
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
