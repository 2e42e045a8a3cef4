"""A simulated device: its firmware's life on its hardware, speaking the device protocol.

The device decides everything a real one decides: it verifies manifest and image itself, keeps its old firmware until
it has clearance, runs new firmware on trial, and goes back when that does not prove itself.
"""

import hashlib
import random
import time
from collections.abc import Callable
from typing import Any

from mellow_herald.core.attempt import State
from mellow_herald.core.behaviour import Fault, faults_of, find_behaviour
from mellow_herald.core.firmware import APP
from mellow_herald.core.keys import KeyList, KeyStatus, verify_key_list
from mellow_herald.core.manifest import Verified, verify_envelope
from mellow_herald.core.nameplate import Nameplate, find_nameplate
from mellow_herald.core.order import Order
from mellow_herald.core.refusal import Refused
from mellow_herald.core.suit import Component, class_id
from mellow_herald.core.version import parse_version
from mellow_herald.sim.bootloader import (
    Boot,
    Cause,
    Slot,
    SlotNote,
    WentBack,
    arm,
    confirm,
    give_up,
    note_well,
    reported,
)
from mellow_herald.sim.hardware import BLOCK, Hardware
from mellow_herald.sim.scenario import DeviceSpec
from mellow_herald.sim.service_time import ServiceTime
from mellow_herald.sim.uplink import Backoff, NoAnswerError, RefusedCallError, Uplink
from mellow_herald.wire.device import CheckinIn, Condition, Content, EnrolmentIn, OrderOut

UPDATER = 1
RESTART_S, SELF_TEST_S = 4.0, 6.0
DOWNLOAD_TRIES = 8
REPORT_EVERY = 25  # percent
SELF_TESTS = ("clock", "flash", "link", "load-cell")


class LinkCut(Exception):
    """The link broke off in the middle of a transfer."""


class GivenUp(Exception):
    """The update cannot be done; the device goes on with what it runs."""

    def __init__(self, reason: str, detail: str) -> None:
        super().__init__(detail)
        self.reason, self.detail = reason, detail


class SimDevice:
    """One device. ``run`` never returns by itself; cancel it to switch the device off."""

    def __init__(
        self,
        spec: DeviceSpec,
        hardware: Hardware,
        uplink: Uplink,
        time_: ServiceTime,
        *,
        root: bytes,
        key_list: bytes,
        vendor_domain: str,
        code: str,
        check_in_s: int,
        seed: int,
        say: Callable[[str, str], None] = lambda serial, line: None,
    ) -> None:
        self.spec, self.hardware = spec, hardware
        self._uplink, self._time, self._say = uplink, time_, say
        self._root, self._made_with, self._code = root, key_list, code
        self._vendor_domain, self._check_in_s, self._seed = vendor_domain, check_in_s, seed
        self._rng = random.Random(f"{seed}/{spec.serial}")
        self._backoff = Backoff(self._rng)
        self._cuts = sorted(spec.link.cut_at, reverse=True)
        self._boot = Boot(None)
        self._plate: Nameplate | None = None
        self._faults: frozenset[Fault] = frozenset()
        self._seq = 0
        self._started = time.monotonic()
        self.lamp = "dark"

    @property
    def running(self) -> Slot | None:
        """The slot whose image runs, None if nothing does."""
        return self._boot.slot

    async def run(self) -> None:
        """The device's life from power-on."""
        await self._time.sleep(self._rng.uniform(0, 0.2) * self._check_in_s)
        await self._start(Cause.POWER)
        while True:
            order = await self._check_in()
            while order.order is not None:
                order = await self._obey(order)
            await self._time.sleep(order.next_checkin_s)

    # Starting -----------------------------------------------------------------------------------------------------

    async def _start(self, cause: Cause) -> None:
        """Boots, gets to know what runs, and does what must be done before anything else."""
        self._boot = self.hardware.start(cause)
        self._seq, self._started = 0, time.monotonic()
        if self._boot.slot is None:
            self.lamp = "needs help"
            await self._time.sleep(10**9)
        assert self._boot.slot is not None
        image = self.hardware.image(self._boot.slot)
        self._plate = find_nameplate(image)
        self._faults = faults_of(
            find_behaviour(image), self._facts(), hashlib.sha256(image).hexdigest(), self._seed
        )  # fmt: skip
        self._log(f"running {self._plate.version if self._plate else 'an unnamed image'} from slot {self._boot.slot}")
        await self._enrol()
        if self._boot.on_trial:
            await self._prove()
        else:
            self.lamp = "running"
            await self._settle_switch()
            self.hardware.record = note_well(self.hardware.record)

    def _facts(self) -> dict[str, Any]:
        spec = self.spec
        own = {"serial": spec.serial, "board": spec.board, "line": spec.line, "hw_rev": spec.hw_rev}
        return {**spec.quirks, **spec.labels, **own, "version": self._plate.version if self._plate else None}

    async def _enrol(self) -> None:
        data = self.hardware.data
        if "token" not in data:
            data.setdefault("nonce", "".join(self._rng.choices("0123456789abcdef", k=32)))
            data.setdefault("settings", {"sample_every_s": 600})
            data.setdefault("key_list", self._made_with)
            self.hardware.data = data  # before the call: the same nonce must be sent if its answer gets lost
            spec = self.spec
            said = EnrolmentIn(
                serial=spec.serial, board=spec.board, line=spec.line, hw_rev=spec.hw_rev, code=self._code,
                nonce=data["nonce"], labels=spec.labels,
            )  # fmt: skip
            answer = await self._patiently(lambda: self._uplink.enrol(said))
            data |= {"token": answer.token, "device_id": answer.device_id}
            self.hardware.data = data
            self._log("enrolled")
        self._uplink.token = data["token"]

    # Talking ------------------------------------------------------------------------------------------------------

    async def _patiently(self, call: Any) -> Any:
        """Repeats a call until it is answered, with growing pauses."""
        while True:
            try:
                answer = await call()
            except NoAnswerError as error:
                await self._backoff.pause(error)
            except RefusedCallError as refused:
                self._log(f"refused: {refused.detail}")
                await self._time.sleep(self._check_in_s)
            else:
                self._backoff.reset()
                return answer

    async def _check_in(self, *, after_restart: bool = False) -> OrderOut:
        await self._send_unsent()
        return await self._patiently(lambda: self._uplink.checkin(self._checkin(after_restart)))  # type: ignore[no-any-return]

    def _checkin(self, after_restart: bool) -> CheckinIn:
        self._seq += 1
        slot = self._boot.slot
        assert slot is not None
        settings = repr(sorted(self.hardware.data["settings"].items()))
        return CheckinIn(
            boots=self.hardware.record.boots,
            seq=self._seq,
            ready=not self._boot.on_trial,
            running={"app": self._content(slot)},
            standby={"app": self._content(slot.other)} if slot.other in self.hardware.record.notes else {},
            updater=UPDATER,
            condition=Condition(
                battery=self.spec.battery, charging=False, link=self.spec.link.kind, free=self.hardware.slot_size,
                busy=False, owner="willing",
            ),
            uptime_s=self._time.uptime(self._started),
            readings={"free_memory": 41_000.0, "temperature": 21.5},
            settings_digest=hashlib.sha256(settings.encode()).hexdigest(),
            after_restart=after_restart,
        )  # fmt: skip

    def _content(self, slot: Slot) -> Content:
        note = self.hardware.record.notes[slot]
        return Content(version=note.version, digest=note.digest, slot=slot.value, floor=note.floor)

    async def _report(self, state: State, **more: Any) -> OrderOut | None:
        """Reports about the attempt at hand. What cannot be sent now is kept, over restarts, too."""
        self._seq += 1
        data = self.hardware.data
        work = data["work"]
        report = {
            "boots": self.hardware.record.boots, "seq": self._seq, "attempt": work["attempt"], "try": work["try"],
            "state": state.value, "at": self._time.text(), **more,
        }  # fmt: skip
        data["unsent"] = [*data.get("unsent", []), {k: v for k, v in report.items() if v is not None}]
        self.hardware.data = data
        return await self._send_unsent()

    async def _send_unsent(self) -> OrderOut | None:
        unsent = self.hardware.data.get("unsent", [])
        if not unsent:
            return None
        try:
            order = await self._uplink.report([dict(report) for report in unsent])
        except NoAnswerError:
            return None
        except RefusedCallError as refused:
            self._log(f"report refused: {refused.detail}")
            order = None
        data = self.hardware.data
        data["unsent"] = data["unsent"][len(unsent) :]
        self.hardware.data = data
        return order

    # Obeying ------------------------------------------------------------------------------------------------------

    async def _obey(self, order: OrderOut) -> OrderOut:
        """Does what an order says; returns the order that stands then."""
        match order.order:
            case Order.FETCH:
                await self._fetch(order)
                return await self._check_in()
            case Order.SWITCH if order.clearance is not None and order.clearance.seconds > 0:
                if not await self._signer_is_good():
                    return await self._check_in()
                await self._switch(order)
                return await self._check_in(after_restart=True)
            case Order.ABANDON:
                self._log("told to abandon what is staged")
                self.hardware.erase_slot(self._standby)
        return OrderOut(next_checkin_s=order.next_checkin_s)

    @property
    def _standby(self) -> Slot:
        assert self._boot.slot is not None
        return self._boot.slot.other

    async def _fetch(self, order: OrderOut) -> None:
        data = self.hardware.data
        data["work"] = {"attempt": order.attempt, "try": order.try_number, "trial_s": order.trial_s}
        self.hardware.data = data
        try:
            verified = await self._verify_manifest(order.manifest or "")
            data = self.hardware.data
            self.hardware.data = {**data, "work": {**data["work"], "signed_by": verified.kid}}
            component = verified.manifest.for_slot(APP, list(Slot).index(self._standby))
            if component is None or {one.name for one in verified.manifest.components} != {APP}:
                raise GivenUp(
                    "refused-by-device", f"the release carries no image of {APP} alone for slot {self._standby}"
                )
            note = self.hardware.record.notes.get(self._standby)
            if note is None or note.digest != component.digest:
                await self._download(component, verified)
            await self._report(State.STAGED)
            self._log(f"staged {component.version}")
        except GivenUp as given_up:
            self._log(f"gave up: {given_up.detail}")
            await self._report(State.FAILED, reason=given_up.reason, detail=given_up.detail)

    async def _verify_manifest(self, digest: str) -> Verified:
        """Fetches and verifies a manifest with the device's own keys, and checks that it is meant for this device."""
        envelope = await self._patiently(lambda: self._uplink.manifest(digest))
        keys = self._take_keys(await self._patiently(self._uplink.keys))
        try:
            verified = verify_envelope(envelope, keys)
        except Refused as refused:
            raise GivenUp("signature-refused", str(refused)) from None
        release, spec = verified.manifest, self.spec
        if release.class_id != class_id(self._vendor_domain, spec.board, spec.line):
            raise GivenUp("refused-by-device", f"the release is for {release.board}/{release.line}")
        if not release.hw_rev_min <= spec.hw_rev <= release.hw_rev_max:
            raise GivenUp("refused-by-device", f"the release is not for hardware revision {spec.hw_rev}")
        if release.floor < self.hardware.record.floor:
            raise GivenUp("refused-by-device", f"floor number {release.floor} is below {self.hardware.record.floor}")
        for name, least in release.needs:
            running = self._plate.version if name == APP and self._plate else None
            if running is None or parse_version(running) < parse_version(least):
                raise GivenUp("refused-by-device", f"the release needs {name} {least} or later to be running")
        return verified

    async def _newest_keys(self) -> KeyList:
        """The key list as far as it can be known now: the service may not answer."""
        try:
            return self._take_keys(await self._uplink.keys())
        except (NoAnswerError, RefusedCallError):
            return verify_key_list(self.hardware.data["key_list"], self._root)

    def _take_keys(self, offered: bytes) -> KeyList:
        """The newest key list known; one that is not newer, or not signed by the root, is not taken."""
        own = verify_key_list(self.hardware.data["key_list"], self._root)
        try:
            newer = verify_key_list(offered, self._root)
        except Refused as refused:
            self._log(f"key list refused: {refused}")
            return own
        if newer.number <= own.number:
            return own
        self.hardware.data = {**self.hardware.data, "key_list": offered}
        return newer

    async def _download(self, component: Component, verified: Verified) -> None:
        """Writes an image block by block into the standby slot; goes on where a transfer broke off."""
        if component.size > self.hardware.slot_size:
            raise GivenUp("no-room", f"{component.size} bytes do not fit a slot of {self.hardware.slot_size}")
        standby = self._standby
        await self._report(State.DOWNLOADING, step="erase", percent=0)
        self.hardware.erase_slot(standby)
        transfer = _Transfer(self.hardware, standby, component.size)
        for _ in range(DOWNLOAD_TRIES):
            try:
                await self._transfer(component, transfer)
                break
            except LinkCut:
                percent = transfer.percent
                self._log(f"transfer cut at {percent} %")
                await self._time.sleep(self._rng.uniform(5, 15))
                detail = f"transfer cut at {percent} %, going on from byte {transfer.have}"
                await self._report(State.DOWNLOADING, step="fetch", percent=percent, detail=detail)
            except NoAnswerError as error:
                await self._backoff.pause(error)
            except RefusedCallError as refused:
                raise GivenUp("download-broken", refused.detail) from None
        else:
            raise GivenUp("download-broken", f"broke off {DOWNLOAD_TRIES} times")
        await self._report(State.DOWNLOADING, step="verify", percent=100, rate=self.spec.link.bytes_per_s)
        if self.hardware.digest_of(standby, component.size) != component.digest:
            raise GivenUp("digest-mismatch", "what stands in the flash is not what the manifest says")
        note = SlotNote(component.size, component.digest, component.version, verified.manifest.floor)
        self.hardware.note_slot(standby, note)

    async def _transfer(self, component: Component, transfer: "_Transfer") -> None:
        link = self.spec.link
        await self._time.sleep(link.latency_ms / 1000)
        told = transfer.percent // REPORT_EVERY
        async for piece in self._uplink.image(component.uri, transfer.have):
            for at in range(0, len(piece), BLOCK):
                block = piece[at : at + BLOCK]
                await self._time.sleep(len(block) / link.bytes_per_s)
                transfer.take(block)
                if self._cuts and transfer.have >= self._cuts[-1] * component.size:
                    self._cuts.pop()
                    raise LinkCut
            if transfer.percent // REPORT_EVERY > told and transfer.percent < 100:
                told = transfer.percent // REPORT_EVERY
                percent = transfer.percent
                await self._report(State.DOWNLOADING, step="fetch", percent=percent, rate=link.bytes_per_s)

    # Switching ----------------------------------------------------------------------------------------------------

    async def _signer_is_good(self) -> bool:
        """Whether the key that signed what is staged was not revoked since; if it was, the image goes."""
        keys, kid = await self._newest_keys(), self.hardware.data["work"].get("signed_by")
        key = keys.find(kid) if kid else None
        if kid is None or (key is not None and key.status is not KeyStatus.REVOKED):
            return True
        self.hardware.erase_slot(self._standby)
        self._log(f"gave up: key {kid} was revoked")
        detail = f"key {kid} was revoked in key list {keys.number} after the image was staged"
        await self._report(State.FAILED, reason="signature-refused", detail=detail)
        return False

    async def _switch(self, order: OrderOut) -> None:
        """Puts the staged image on trial and restarts."""
        data = self.hardware.data
        target = self.hardware.record.notes[self._standby].digest
        work = {"attempt": order.attempt, "try": order.try_number, "trial_s": order.trial_s, "switching_to": target}
        self.hardware.data = {**data, "work": work}
        await self._report(State.INSTALLING)
        self.hardware.record = arm(self.hardware.record, self._standby)
        self.lamp = "updating"
        await self._restart(Cause.ORDER)

    async def _restart(self, cause: Cause) -> None:
        await self._time.sleep(RESTART_S)
        await self._start(cause)

    async def _prove(self) -> None:
        """New firmware on trial: tests itself, reaches the service, then confirms or goes back."""
        self.lamp = "on trial"
        trial_s = self.hardware.data["work"]["trial_s"]
        began = time.monotonic()
        await self._report(State.PROVING)
        await self._time.sleep(SELF_TEST_S)
        tests = self._self_tests()
        await self._report(State.PROVING, tests=tests)
        if not all(test["passed"] for test in tests):
            self.hardware.record = give_up(self.hardware.record, WentBack.SELF_TEST_FAILED)
            return await self._restart(Cause.GIVE_UP)
        while not await self._any_answer():
            if self._time.uptime(began) > trial_s:
                self.hardware.record = give_up(self.hardware.record, WentBack.NO_CONTACT)
                return await self._restart(Cause.GIVE_UP)
            await self._time.sleep(1)
        self.hardware.record = confirm(self.hardware.record)
        self._boot = Boot(self._boot.slot)
        self.lamp = "running"
        return await self._settle_switch()

    def _self_tests(self) -> list[dict[str, Any]]:
        failing = Fault.FAIL_SELF_TEST in self._faults
        return [
            {"name": name, "passed": not (failing and name == "load-cell"),
             "detail": "reads 0 counts" if failing and name == "load-cell" else ""}
            for name in SELF_TESTS
        ]  # fmt: skip

    async def _any_answer(self) -> bool:
        """Whether the service answers at all; even a 5xx counts, since its outage must not revert a fleet."""
        try:
            await self._uplink.checkin(self._checkin(after_restart=True))
        except RefusedCallError:
            return True
        except NoAnswerError as error:
            return error.wait is not None
        return True

    async def _settle_switch(self) -> None:
        """Tells how a switch ended, once it has.

        What ended it may have been a power cut at any point: before the boot loader was told to switch, or after it
        confirmed and before that was reported. What counts is what runs now.
        """
        work, why = self.hardware.data.get("work", {}), self.hardware.record.went_back
        target = work.get("switching_to")
        if target is None:
            return
        assert self._boot.slot is not None
        if self.hardware.record.notes[self._boot.slot].digest == target:
            self._log("confirmed")
            await self._report(State.CONFIRMED)
        else:
            self.lamp = "gone back"
            detail = "the boot loader went back to the firmware before"
            await self._report(State.REVERTED, reason=(why or WentBack.POWER_LOST).value, detail=detail)
        work = {name: value for name, value in work.items() if name != "switching_to"}
        self.hardware.data = {**self.hardware.data, "work": work}
        self.hardware.record = reported(self.hardware.record)

    def _log(self, line: str) -> None:
        self._say(self.spec.serial, line)


class _Transfer:
    """A download on its way into a slot."""

    def __init__(self, hardware: Hardware, slot: Slot, size: int) -> None:
        self._hardware, self._at, self._size = hardware, hardware.slot_at(slot), size
        self.have = 0

    @property
    def percent(self) -> int:
        """How much is there, in %."""
        return 100 * self.have // self._size

    def take(self, data: bytes) -> None:
        """Writes the next bytes."""
        if self.have + len(data) > self._size:
            raise GivenUp("digest-mismatch", "more bytes came than the manifest says")
        self._hardware.flash.write(self._at + self.have, data)
        self.have += len(data)
