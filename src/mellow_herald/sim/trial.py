"""A trial on a device: what was switched to is streamed in, taken into use and tested, part by part; what fails takes
everything back.

Every step can lose power. Which parts are on trial stands in the boot record, what was told of them beside the work; a
restart in the middle finds both, streams what is in pieces again, and goes on.
"""

import asyncio
from collections.abc import Awaitable, Callable, Iterable
from typing import Any

from mellow_herald.core.attempt import State
from mellow_herald.core.behaviour import Fault, faults_of, find_behaviour
from mellow_herald.core.component import Kind, kind_of
from mellow_herald.sim.bootloader import (
    APP,
    Boot,
    Cause,
    Slot,
    WentBack,
    confirm,
    give_up,
    join_next,
    leave_out,
    trial_slots,
)
from mellow_herald.sim.hardware import BLOCK, Hardware
from mellow_herald.sim.making import Making
from mellow_herald.sim.scenario import BusSpec, DeviceSpec
from mellow_herald.sim.service_time import ServiceTime
from mellow_herald.sim.standing import Standing
from mellow_herald.sim.talk import Talk

SELF_TEST_S, ACTION_S, LONGEST_ACTION_S = 6.0, 1.0, 60.0
BUS_TRIES = 3
MOST_PART_LINES = 60


class Restart(Exception):
    """The device resets."""

    def __init__(self, cause: Cause) -> None:
        super().__init__(cause)
        self.cause = cause


class PartFailed(Exception):
    """A part did not prove itself."""

    def __init__(self, name: str, why: WentBack, detail: str) -> None:
        super().__init__(detail)
        self.name, self.why, self.detail = name, why, detail


class Trial:
    """Proves what one device was switched to. ``answered`` tells whether the service answers at all, ``connects`` why
    a connection with the certificate of a place does not come about (None: it does)."""

    def __init__(
        self,
        spec: DeviceSpec,
        hardware: Hardware,
        talk: Talk,
        time: ServiceTime,
        making: Making,
        standing: Standing,
        answered: Callable[[], Awaitable[bool]],
        connects: Callable[[str], Awaitable[str | None]],
    ) -> None:
        self._spec, self._hardware, self._talk, self._time = spec, hardware, talk, time
        self._making, self._standing, self._answered, self._connects = making, standing, answered, connects
        self._lines: dict[str, list[str]] = {}
        self._bus_broken: dict[str, int] = {}

    @property
    def _work(self) -> dict[str, Any]:
        work: dict[str, Any] = self._hardware.data["work"]
        return work

    def needs_restart(self, names: Iterable[str]) -> bool:
        """Whether these parts run only after the device itself restarted."""
        parts = self._hardware.layout.parts
        boots = any(kind_of(name) is Kind.FIRMWARE and not parts[name].streamed for name in names)
        return boots or bool(self._work.get("restart"))

    async def prove(self) -> None:
        """Proves group after group of what is on trial, then confirms. What fails goes back: by a restart where the
        device itself runs it, or at once."""
        while self._standing.boot.on_trial:
            record, proven = self._hardware.record, self._work.get("proven", [])
            group = [name for name in record.trial if name not in proven]
            try:
                await self._prove_group(group)
            except PartFailed as failed:
                await self._fail(failed)
                continue
            self._hardware.keep(work={**self._work, "proven": [*proven, *group]})
            record = self._hardware.record
            if record.to_come:
                await self._talk.report(State.PROVING, parts={name: {"state": "confirmed"} for name in group})
                await self._join(record.to_come[0])
                continue
            self._hardware.record = record = confirm(record)
            self._standing.boot = Boot(self._standing.boot.slots)

    async def _join(self, names: tuple[str, ...]) -> None:
        self._talk.log(f"next: {', '.join(names)}")
        await self._talk.report(State.PROVING, parts={name: {"state": "installing"} for name in names})
        self._hardware.record = join_next(self._hardware.record)
        if self.needs_restart(names):
            raise Restart(Cause.ORDER)
        self._standing.counts(trial_slots(self._hardware.record), on_trial=True)

    async def _prove_group(self, group: list[str]) -> None:
        several = len(self._work["components"]) > 1 or group != [APP]
        told = {"parts": {name: {"state": "proving"} for name in group}} if several else {}
        began = self._time.monotonic()
        await self._talk.report(State.PROVING, **told)
        streams = [self._stream(name, self._standing.boot.slots[name]) for name in self._standing.to_stream()]
        for done in await asyncio.gather(*streams, return_exceptions=True):
            if isinstance(done, BaseException):
                raise done
        for name in group:
            await self._take_into_use(name, self._standing.boot.slots[name])
        if APP in group:
            await self._test_app()
        if self.needs_restart(group):
            await self._reach(began)

    async def _test_app(self) -> None:
        await self._time.sleep(SELF_TEST_S)
        tests = self._standing.firmware.self_tests()
        await self._talk.report(State.PROVING, tests=tests)
        failed = [test["name"] for test in tests if not test["passed"]]
        if failed:
            raise PartFailed(APP, WentBack.SELF_TEST_FAILED, f"self-test failed: {failed[0]}")

    async def _reach(self, began: float) -> None:
        while not await self._answered():
            if self._time.uptime(began) > self._work["trial_s"]:
                raise PartFailed(APP, WentBack.NO_CONTACT, "reached nobody on trial")
            await self._time.sleep(1)

    async def _stream(self, name: str, slot: Slot) -> None:
        """Streams a file into a part's controller, from the start; raises ``PartFailed`` where the bus breaks off."""
        bus = self._spec.bus.get(name, BusSpec())
        blocks = self._hardware.blocks_of(name, slot)
        for again in range(BUS_TRIES):
            self._note(name, f"streaming {blocks} blocks into {name}")
            broken_at = None
            for number in range(blocks):
                await self._time.sleep(BLOCK / bus.bytes_per_s)
                if number + 1 == bus.breaks_at and self._bus_broken.get(name, 0) < bus.times:
                    self._bus_broken[name] = self._bus_broken.get(name, 0) + 1
                    broken_at = number + 1
                    self._note(name, f"block {broken_at} of {blocks}: no acknowledgement from {name}")
                    break
                self._hardware.stream_block(name, slot, number)
            if broken_at is None and self._hardware.controller_has(name, slot):
                self._note(name, f"{name} runs what was streamed")
                self._standing.look_at_controllers()
                return
            left = BUS_TRIES - again - 1
            self._note(name, f"{name} is in pieces, {f'{left} tries left' if left else 'giving up'}")
        self._standing.look_at_controllers()
        detail = f"the stream broke off {BUS_TRIES} times, last at block {broken_at} of {blocks}"
        raise PartFailed(name, WentBack.STREAM_BROKEN, detail)

    async def _take_into_use(self, name: str, slot: Slot) -> None:
        """What a part does once it counts: its action, its connection, its own tests."""
        if name == APP:
            return
        image = self._hardware.image(name, slot)
        faults = self._faults(name, image)
        match kind_of(name):
            case Kind.FILE:
                await self._act(name, faults)
            case Kind.CERTIFICATE:
                why = await self._connects(name)
                if why is not None:
                    self._note(name, f"cannot connect with {name}: {why}")
                    raise PartFailed(name, WentBack.NO_CONTACT, why)
                self._note(name, f"connected with {name}")
            case Kind.SETTINGS:
                self._note(name, f"{name} taken into use")
            case Kind.FIRMWARE if Fault.FAIL_SELF_TEST in faults or Fault.CRASH_AT_BOOT in faults:
                self._note(name, f"{name} does not answer its self-test")
                raise PartFailed(name, WentBack.SELF_TEST_FAILED, f"{name} does not answer its self-test")
            case Kind.FIRMWARE:
                self._note(name, f"{name} answers its self-test")

    async def _act(self, name: str, faults: frozenset[Fault]) -> None:
        action = self._making.actions.get(name)
        if action is None:
            self._note(name, f"{name} is in place and reads back whole")
            return
        self._note(name, f"running {action} for {name}")
        if Fault.HANG_ACTION in faults:
            await self._time.sleep(LONGEST_ACTION_S)
            self._note(name, f"{action} was stopped after {LONGEST_ACTION_S:.0f} s")
            raise PartFailed(name, WentBack.ACTION_FAILED, f"{action} did not end within {LONGEST_ACTION_S:.0f} s")
        await self._time.sleep(ACTION_S)
        if Fault.FAIL_ACTION in faults:
            self._note(name, f"{action}: line 3: value out of range")
            self._note(name, f"{action} ended with status 1")
            raise PartFailed(name, WentBack.ACTION_FAILED, f"{action} ended with status 1")
        self._note(name, f"{action} ended with status 0")

    def _faults(self, name: str, image: bytes) -> frozenset[Fault]:
        note = self._hardware.record.note(name, self._standing.boot.slots[name])
        digest = note.digest if note else ""
        facts = {**self._spec.facts, "version": self._standing.firmware.version or None}
        return faults_of(find_behaviour(image), facts, digest, self._making.seed)

    def _note(self, name: str, line: str) -> None:
        """A line of the log that is a part's own, too."""
        self._talk.log(line)
        self._lines.setdefault(name, []).append(f"{self._time.text() or '-'} {line}")

    def lines_of(self, name: str) -> str:
        """The last lines of a part's own log."""
        return "\n".join(self._lines.get(name, [])[-MOST_PART_LINES:])

    # Going back ---------------------------------------------------------------------------------------------------

    async def _fail(self, failed: PartFailed) -> None:
        self._talk.log(failed.detail)
        record, work = self._hardware.record, self._work
        told = {"state": "reverted", "reason": failed.why.value, "detail": failed.detail}
        told["log"] = self.lines_of(failed.name)
        gone = {failed.name, *_behind(failed.name, work.get("after", {}))}
        if work.get("independent") and failed.name != APP and set(work["components"]) - gone:
            await self._go_on_without(failed, gone, told)
            return
        self._hardware.keep(work={**work, "failed": {"name": failed.name, **told}})
        restart = self.needs_restart(record.trial)
        self._hardware.record = give_up(record, failed.why, failed.name)
        if restart:
            raise Restart(Cause.GIVE_UP)
        slots = {name: part.active for name, part in self._hardware.record.parts.items()}
        self._standing.counts(slots, on_trial=False)
        await self.restore(work["components"])

    async def _go_on_without(self, failed: PartFailed, gone: set[str], told: dict[str, Any]) -> None:
        """The release says that its components are independent: this one goes back with those that come after it."""
        work = self._work
        self._hardware.record = leave_out(self._hardware.record, gone)
        kept = [name for name in work["components"] if name not in gone]
        wanted = {name: one for name, one in work["switching_to"].items() if name not in gone}
        self._hardware.keep(work={**work, "components": kept, "switching_to": wanted})
        self._standing.counts(trial_slots(self._hardware.record), on_trial=bool(self._hardware.record.trial))
        self._talk.log(f"goes on without {', '.join(sorted(gone))}")
        await self.restore(sorted(gone))
        also = {name: {"state": "reverted"} for name in gone}
        await self._talk.report(State.PROVING, parts={**also, failed.name: told})

    async def restore(self, names: Iterable[str]) -> None:
        """After going back: brings the controllers of streamed parts, and what was taken into use, to what counts
        again, in reverse order. A part that cannot be brought back needs a cable, and says so."""
        for name in reversed(list(names)):
            slot = self._standing.boot.slots.get(name)
            if slot is None or self._hardware.record.note(name, slot) is None:
                continue
            if name in self._standing.to_stream():
                try:
                    await self._stream(name, slot)
                except PartFailed as failed:
                    self._note(name, f"{name} needs a cable: {failed.detail}")
                    self._hardware.keep(work={**self._work, "cable": [*self._work.get("cable", []), name]})
                    continue
            self._note(name, f"{name} is back at {self._version(name, slot)}")
            if kind_of(name) is Kind.FILE and name in self._making.actions:
                self._note(name, f"running {self._making.actions[name]} for {name} as it was")
                await self._time.sleep(ACTION_S)

    def _version(self, name: str, slot: Slot) -> str:
        note = self._hardware.record.note(name, slot)
        return note.version or f"{note.digest[:12]}…" if note else "nothing"

    def told_of_parts(self) -> dict[str, Any]:
        """What is to be told of single parts when the whole went back."""
        work = self._work
        told: dict[str, Any] = {}
        failed = work.get("failed")
        if failed is not None:
            told[failed["name"]] = {key: value for key, value in failed.items() if key != "name"}
        for name in work.get("cable", []):
            detail = "it could not be brought back to what ran before: somebody has to go there with a cable"
            told[name] = {"state": "reverted", "reason": "needs-cable", "detail": detail, "log": self.lines_of(name)}
        return told


def _behind(name: str, after: dict[str, list[str]]) -> set[str]:
    """The parts that come after one, and after those."""
    found: set[str] = set()
    waiting = [name]
    while waiting:
        one = waiting.pop()
        more = {other for other, before in after.items() if one in before} - found
        found |= more
        waiting += more
    return found
