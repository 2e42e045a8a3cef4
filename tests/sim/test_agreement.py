"""The machine that proves it: the real intake and the real simulated device, with a network between them that loses,
delays, doubles and reorders, and people who halt, resume, roll back, retry, flash by cable and copy a flash.

Whenever both are quiet, what the flash runs and what the attempt says agree.
"""

import asyncio
import random
from collections.abc import AsyncIterator, Callable
from dataclasses import dataclass
from datetime import timedelta
from typing import Any, TypeVar

from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, precondition, rule

from mellow_herald.core.attempt import UNDER_WAY, State
from mellow_herald.core.behaviour import Behaviour, Fault, encode_behaviour
from mellow_herald.core.component import Kind
from mellow_herald.core.digest import sha256_hex
from mellow_herald.core.keys import raw_public
from mellow_herald.core.manifest import join_envelope, sign_manifest
from mellow_herald.core.order import Order
from mellow_herald.core.placed import Belongs, placed_bytes
from mellow_herald.core.rollout import RolloutState
from mellow_herald.core.seal import describe
from mellow_herald.core.suit import encode_manifest
from mellow_herald.service.problems import ProblemError
from mellow_herald.sim.contents import digests, running_content
from mellow_herald.sim.device import SimDevice
from mellow_herald.sim.flash import Flash, MemoryChip
from mellow_herald.sim.hardware import Hardware, Layout, PartLayout, make_in_memory
from mellow_herald.sim.making import Making
from mellow_herald.sim.scenario import DeviceSpec
from mellow_herald.sim.service_time import ServiceTime
from mellow_herald.sim.uplink import NoAnswerError, RefusedCallError
from mellow_herald.wire.device import CheckinIn, EnrolmentIn, EnrolmentOut, OrderOut, ReportIn
from mellow_herald.wire.plan import PlanDocument
from tests.harness.desk import INTERVAL_S, T0, Desk, Digests
from tests.harness.firmware import BOARD, DOMAIN, LINE, Publisher, load_image, make_bytes
from tests.harness.virtual_time import VirtualLoop

PUBLISHER = Publisher()
ROOM = 16 * 1024
TWO_SLOTS = Layout({"app": PartLayout(ROOM)})
IN_PLACE = Layout({"app": PartLayout(ROOM, in_place=True)}, recovery=ROOM)
THREE_PARTS = Layout({name: PartLayout(ROOM) for name in ("app", "assets", "radio")})
FILE = "file/sounds"
UNLIKE_PARTS = Layout({"app": PartLayout(ROOM), "radio": PartLayout(ROOM, streamed=True), FILE: PartLayout(ROOM)})
ORDER = {"radio": ["app"], FILE: ["radio"]}
ANSWER_S, LONGEST_DELAY_S = 30.0, 100.0
ANSWER_WITHIN = timedelta(minutes=30)
PLAN = PlanDocument.model_validate(
    {
        "name": "any",
        "release": f"{BOARD}/{LINE}/2.5.0",
        "target": f"board = {BOARD}",
        "rings": [{"name": "all"}],
        "numbers": {"trial_for": "60s"},
    }
).to_plan()
Answer = TypeVar("Answer")


@dataclass
class Release:
    """A release as devices fetch it."""

    images: dict[str, bytes]
    envelope: bytes

    @property
    def digests(self) -> Digests:
        return {name: frozenset({sha256_hex(data)}) for name, data in self.images.items()}


def firmware(component: str, version: str, updater: int, fault: Fault | None = None) -> bytes:
    data = make_bytes(version, component=component, updater=updater, size=4000, floor=4)
    return data if fault is None else data + encode_behaviour([Behaviour(f"board = {BOARD}", fault)])


def file(version: str, fault: Fault | None = None) -> bytes:
    data = f"sounds {version}".encode() * 300
    return data if fault is None else data + encode_behaviour([Behaviour(f"board = {BOARD}", fault)])


def release(images: dict[str, bytes], *, ordered: bool = False) -> Release:
    belongs = Belongs(LINE, BOARD, "2.5.0", 4)
    loaded = [
        placed_bytes(Kind.FILE, "sounds", belongs, data) if name == FILE else load_image(data)
        for name, data in images.items()
    ]
    after = {name: [one for one in before if one in images] for name, before in ORDER.items() if name in images}
    body = encode_manifest(describe(loaded, DOMAIN, version="2.5.0", after=after if ordered else None))
    return Release(images, join_envelope(sign_manifest(body, PUBLISHER.key), body))


class Network:
    """What becomes of each call between a device and the service."""

    def __init__(self, loop: VirtualLoop, rng: random.Random) -> None:
        self.loop, self.rng = loop, rng
        self.rough, self.serving = False, True

    async def carry(self, deliver: Callable[[], Answer]) -> Answer:
        """Carries one call and its answer, or not; the device gives up on it after a while."""
        fate = self.rng.choices(("good", "lost", "unanswered", "late", "doubled"), (5, 1, 2, 1, 1))[0]
        await asyncio.sleep(0.05)
        if not self.serving:
            await asyncio.sleep(0 if self.rng.random() < 0.5 else ANSWER_S)
            raise NoAnswerError(answered=False)
        if not self.rough or fate == "good":
            return deliver()
        if fate == "doubled":
            answer = deliver()
            self._later(deliver)
            return answer
        if fate == "unanswered":
            deliver()
        elif fate == "late":
            self._later(deliver)
        await asyncio.sleep(ANSWER_S)
        raise NoAnswerError

    def _later(self, deliver: Callable[[], object]) -> None:
        def arrive() -> None:
            if self.serving:
                try:
                    deliver()
                except RefusedCallError:
                    pass  # nobody hears it

        self.loop.call_later(self.rng.uniform(0.1, LONGEST_DELAY_S), arrive)


class Line:
    """A device's uplink over that network."""

    def __init__(self, machine: "Agreement", network: Network) -> None:
        self._machine, self._network = machine, network
        self.token: str | None = None

    async def enrol(self, said: EnrolmentIn) -> EnrolmentOut:
        return EnrolmentOut(device_id=1, token="t", admission="admitted")

    async def checkin(self, said: CheckinIn, wait_s: int = 0) -> OrderOut:
        return await self._network.carry(lambda: self._machine.hear_checkin(self, said))

    async def report(self, reports: list[dict[str, Any]]) -> OrderOut:
        said = [ReportIn.model_validate(one) for one in reports]
        return await self._network.carry(lambda: self._machine.hear_reports(self, said))

    async def logs(self, lines: list[dict[str, Any]]) -> None:
        return None

    async def keys(self) -> bytes:
        return await self._network.carry(PUBLISHER.key_list_bytes)

    async def manifest(self, digest: str) -> bytes:
        return await self._network.carry(lambda: self._machine.manifest(digest))

    async def image(self, uri: str, have: int) -> AsyncIterator[bytes]:
        data = await self._network.carry(lambda: self._machine.image(uri.rpartition("/")[2]))
        yield data[have:]


class Agreement(RuleBasedStateMachine):
    """One device, now and then two with one token."""

    @initialize(
        seed=st.integers(0, 2**32),
        layout=st.sampled_from((TWO_SLOTS, IN_PLACE, THREE_PARTS, UNLIKE_PARTS, UNLIKE_PARTS)),
        fault=st.sampled_from((None, None, None, Fault.FAIL_SELF_TEST, Fault.CRASH_AT_BOOT, Fault.HANG)),
        updaters=st.sampled_from(((2, 2), (2, 2), (1, 2), (1, 1), (2, 1))),
        brings=st.sampled_from(
            (("app",), ("radio",), (FILE,), ("app", "radio"), (FILE, "radio"), ("app", "assets", "radio", FILE))
        ),
        ordered=st.booleans(),
        part_fault=st.sampled_from((None, None, ("radio", Fault.FAIL_SELF_TEST), (FILE, Fault.FAIL_ACTION))),
        bus_breaks=st.sampled_from((0, 0, 2, 4, 10**6)),
        tries=st.integers(1, 2),
        rough=st.booleans(),
    )
    def make(
        self,
        seed: int,
        layout: Layout,
        fault: Fault | None,
        updaters: tuple[int, int],
        brings: tuple[str, ...],
        ordered: bool,
        part_fault: tuple[str, Fault] | None,
        bus_breaks: int,
        tries: int,
        rough: bool,
    ) -> None:
        self.loop = VirtualLoop()
        asyncio.set_event_loop(self.loop)
        self.rng = random.Random(seed)
        self.network = Network(self.loop, self.rng)
        names = sorted(set(brings) & set(layout.parts)) or ["app"]
        wrong = {"app": fault, **dict([part_fault] if part_fault else [])}
        self.bus_breaks, unlike = bus_breaks, layout is UNLIKE_PARTS
        # An updater of the first protocol knows of no streams and no places.
        updaters = (2, 2) if unlike else updaters
        old = {n: file("1") if n == FILE else firmware(n, "2.4.0", updaters[0]) for n in layout.parts}
        new = {
            n: file("2", wrong.get(n)) if n == FILE else firmware(n, "2.5.0", updaters[1], wrong.get(n)) for n in names
        }
        self.old, self.new = release(old), release(new, ordered=ordered)
        self.local = firmware("app", "9.0.0-local", 2)
        recovery = firmware("app", "0.1.0", 2) if layout.recovery else b""
        in_place = frozenset(name for name, part in layout.parts.items() if part.in_place)
        self.desk = Desk(self.loop, PLAN, in_place, tries)
        self.allowed = {name: {sha256_hex(data)} for name, data in old.items()}
        self.newest = (0, 0)
        self.clone: SimDevice | None = None
        self.fault = fault
        self.device = self.switch_on(make_in_memory(layout, old, recovery))
        self.loop.pass_time(30)
        self.network.rough = rough
        self.desk.begin(self.new.digests)

    def switch_on(self, hardware: Hardware) -> SimDevice:
        spec = DeviceSpec.model_validate(
            {
                "serial": "TA-1",
                "board": BOARD,
                "line": LINE,
                "hw_rev": 1,
                "images": {"app": "x"},
                **({"bus": {"radio": {"breaks_at": 1, "times": self.bus_breaks}}} if self.bus_breaks else {}),
            }
        )
        time = ServiceTime(self.loop.time)
        time._said = T0
        made = Making(
            root=raw_public(PUBLISHER.root),
            key_list=PUBLISHER.key_list_bytes(),
            vendor_domain=DOMAIN,
            code="c",
            check_in_s=INTERVAL_S,
            actions={FILE: "import"},
        )
        device = SimDevice(spec, hardware, Line(self, self.network), time, made)  # type: ignore[arg-type]
        device.life = self.loop.create_task(device.run())  # type: ignore[attr-defined]
        return device

    def switch_off(self, device: SimDevice) -> None:
        device.life.cancel()  # type: ignore[attr-defined]
        self.loop.run_until_complete(asyncio.gather(device.life, return_exceptions=True))  # type: ignore[attr-defined]

    def teardown(self) -> None:
        if hasattr(self, "loop"):
            try:
                self.come_to_rest()
            finally:
                for device in (self.device, self.clone):
                    if device is not None:
                        self.switch_off(device)
                self.loop.close()
                asyncio.set_event_loop(None)

    # The service's ear, and what must never be heard -----------------------------------------------------------------

    def hear_checkin(self, line: Line, said: CheckinIn) -> OrderOut:
        for name, content in said.running.items():
            if content.slot not in ("recovery", "broken"):
                assert content.digest in self.allowed[name], f"{name} runs what nobody gave leave for"
        old, newest = (said.boots, said.seq) < self.newest, max(self.newest, (said.boots, said.seq))
        self.newest = newest
        marked, before = self.desk.device["cloned_at"] is not None, dict(self.desk.attempts)
        order = self.desk.checkin(said)
        if marked:
            assert order.order is None and self.desk.attempts == before, "whose word it is nobody knows"
        assert not (old and order.order), "an answer to what was overtaken on its way"
        if order.order in (Order.SWITCH, Order.SWITCH_BACK, Order.FETCH):
            row = self.desk.attempts[order.attempt or 0]
            images = self.desk.rollouts[row["rollout_id"]].images
            runs_it = all(name in said.running and said.running[name].digest in d for name, d in images.items())
            assert not runs_it, f"told to {order.order} although it runs the target"
            if order.order is not Order.FETCH:
                assert order.clearance is not None
                for name, found in images.items():
                    self.allowed[name] |= found
        return order

    def hear_reports(self, line: Line, said: list[ReportIn]) -> OrderOut:
        try:
            answer = self.desk.reports(said)
            self.newest = max([self.newest, *((one.boots, one.seq) for one in said)])
            return answer
        except ProblemError as problem:
            raise RefusedCallError(problem.status, problem.kind, problem.detail) from None

    def manifest(self, digest: str) -> bytes:
        row = self.desk.attempts.get(int(digest, 16))
        if row is None and digest != "f" * 64:
            raise RefusedCallError(403, "not-your-attempt", "no such manifest")
        back = row is None or self.desk.rollouts[row["rollout_id"]].back
        return (self.old if back else self.new).envelope

    def image(self, digest: str) -> bytes:
        for data in (*self.old.images.values(), *self.new.images.values()):
            if sha256_hex(data) == digest:
                return data
        raise RefusedCallError(403, "not-your-attempt", "no such image")

    # What happens ----------------------------------------------------------------------------------------------------

    @rule(seconds=st.sampled_from((1, 5, 20, 60, 200, 700, 2000)))
    def time_passes(self, seconds: int) -> None:
        self.loop.pass_time(seconds)

    @rule(rough=st.booleans())
    def weather(self, rough: bool) -> None:
        self.network.rough = rough

    @rule(seconds=st.sampled_from((1, 20, 300, 4000)))
    def the_service_is_away(self, seconds: int) -> None:
        self.network.serving = False
        self.loop.pass_time(seconds)
        self.network.serving = True
        self.loop.pass_time(2)

    @rule(seconds=st.sampled_from((0, 5, 400)))
    def power_fails(self, seconds: int) -> None:
        self.device.unplug()
        self.loop.pass_time(seconds)
        self.device.plug()
        self.loop.pass_time(5)

    @rule(after=st.sampled_from((0, 1, 3)))
    def somebody_presses_reset(self, after: int) -> None:
        self.device.reset()
        self.loop.pass_time(after)

    @rule(
        moment=st.sampled_from((State.DOWNLOADING, State.STAGED, State.CLEARED, State.INSTALLING, State.PROVING)),
        what=st.sampled_from(("outage", "power", "reset", "rough", "halt", "hold", "conductor", "cable")),
        seconds=st.sampled_from((1, 30, 300, 900, 4000)),
    )
    def something_happens_just_as_it_is(self, moment: State, what: str, seconds: int) -> None:
        """Waits for a moment that is short, and lets something happen then."""
        if not self.desk.attempts or not self.desk.current["attempt"].live:
            self.desk.finish()
            self.desk.begin(self.new.digests)
        for _ in range(900):
            row = self.desk.current
            if row is None or row["attempt"].state is moment or not row["attempt"].live:
                break
            self.loop.pass_time(1)
        match what:
            case "outage":
                self.the_service_is_away(seconds)
            case "power":
                self.power_fails(seconds)
            case "reset":
                self.somebody_presses_reset(seconds)
            case "rough":
                self.network.rough = True
                self.loop.pass_time(seconds)
            case "cable" if self.clone is None:
                self.somebody_flashes_it_by_cable(self.rng.choice(("local", "old", "new")))
            case _:
                self.somebody_steers(what)
                self.loop.pass_time(seconds)

    @rule(what=st.sampled_from(("begin", "halt", "hold", "resume", "resume", "retry", "finish", "back", "conductor")))
    def somebody_steers(self, what: str) -> None:
        match what:
            case "begin":
                self.desk.begin(self.new.digests)
            case "halt":
                self.desk.halt()
            case "hold":
                self.desk.hold()
            case "resume":
                self.desk.resume()
            case "retry":
                self.desk.retry()
            case "finish":
                self.desk.finish()
            case "back":
                self.desk.halt()
                self.desk.roll_back(self.old.digests)
            case "conductor":
                self.desk.fall_silent(ANSWER_WITHIN)
                self.desk.mark_rolled_back()

    @precondition(lambda self: self.clone is None)
    @rule(which=st.sampled_from(("local", "old", "new")))
    def somebody_flashes_it_by_cable(self, which: str) -> None:
        new = (
            self.new.images.get("app") if self.fault in (None, Fault.FAIL_SELF_TEST) else None
        )  # that would be its end
        image = {"local": self.local, "old": self.old.images["app"], "new": new}[which]
        if image is not None:
            self.allowed["app"].add(sha256_hex(image))
            self.device.flash_by_cable(image)
            self.loop.pass_time(10)

    @precondition(lambda self: self.clone is None and "token" in self.device.hardware.data)
    @rule(seconds=st.sampled_from((10, 400, 2000)))
    def its_flash_is_copied(self, seconds: int) -> None:
        chip = self.device.hardware.flash._chip
        self.clone = self.switch_on(Hardware(Flash(MemoryChip(bytearray(chip.get(0, chip.size))))))
        self.loop.pass_time(seconds)

    @precondition(lambda self: self.clone is not None)
    @rule()
    def the_copy_is_scrapped_and_the_device_enrols_again(self) -> None:
        assert self.clone is not None
        self.switch_off(self.clone)
        self.clone = None
        self.loop.pass_time(2 * LONGEST_DELAY_S)  # what the copy said last has arrived, or never will
        self.desk.enrol_again()
        self.newest = (0, 0)

    @rule()
    def come_to_rest(self) -> None:
        """Nothing is lost any more, and nobody does anything: after a while nothing changes."""
        self.network.rough, self.network.serving = False, True
        if self.clone is not None:
            self.the_copy_is_scrapped_and_the_device_enrols_again()
        self.loop.pass_time(2 * LONGEST_DELAY_S)
        for _ in range(40):
            before = dict(self.desk.attempts)
            self.loop.pass_time(4 * INTERVAL_S)
            row = self.desk.current
            if before == self.desk.attempts and not (row and row["attempt"].at_risk):
                break
        self.agrees()

    def agrees(self) -> None:
        row, device = self.desk.current, self.device
        assert not device.hardware.data.get("unsent"), "everything was told"
        assert self.desk.device["cloned_at"] is None, "one unit is no two"
        in_flash = digests(running_content(device.hardware, device._standing))
        known = {name: content["digest"] for name, content in self.desk.device["running"].items()}
        assert known == in_flash, "the service knows what runs"
        if row is None or row["attempt"].closed:
            return
        attempt, rollout = row["attempt"], self.desk.rollouts[row["rollout_id"]]
        runs_target = all(in_flash.get(name) in found for name, found in rollout.images.items())
        said = f"{attempt.state} ({attempt.reason}), {rollout.state}, runs {in_flash}"
        if rollout.state is RolloutState.RUNNING:
            assert attempt.state not in UNDER_WAY, f"it goes on by itself: {said}"
        assert not attempt.at_risk, said
        if runs_target:
            over = attempt.state in (State.CONFIRMED, State.RELAPSED, State.ROLLED_BACK)
            otherwise = attempt.state is State.CALLED_OFF and attempt.reason == "arrived-otherwise"
            assert over or (otherwise and not attempt.exposed), said
        elif attempt.state is State.CONFIRMED:
            assert attempt.soak_until < self.desk.now, said


Agreement.TestCase.settings = settings(max_examples=60, stateful_step_count=25, deadline=None)
TestAgreement = Agreement.TestCase
