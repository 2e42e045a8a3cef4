"""A simulated device: its firmware's life on its hardware, speaking the device protocol.

The device decides everything a real one decides: it verifies manifest and image itself, keeps its old firmware until
it has clearance, runs new firmware on trial, and goes back when that does not prove itself. Given its seed, its flash
and the times it is told, it does the same again.
"""

import asyncio
import hashlib
import random
from collections.abc import Callable
from contextlib import suppress
from datetime import datetime
from functools import partial
from typing import Any

from mellow_herald.core.attempt import State
from mellow_herald.core.behaviour import Fault
from mellow_herald.core.board import RECOVERY, slot_words
from mellow_herald.core.component import Kind, kind_of
from mellow_herald.core.settings import canonical, read_settings
from mellow_herald.sim.bootloader import APP, Cause, Slot, SlotNote, WentBack, confirm, note_well, reported
from mellow_herald.sim.certificates import why_not
from mellow_herald.sim.condition import condition_of, made_at, note_drain
from mellow_herald.sim.contents import digests, running_content, standby_content
from mellow_herald.sim.fetching import Fetching
from mellow_herald.sim.firmware import Firmware, read_firmware
from mellow_herald.sim.flash import PowerLost
from mellow_herald.sim.hardware import Hardware
from mellow_herald.sim.making import Making
from mellow_herald.sim.obeying import Obeying
from mellow_herald.sim.placing import Placing
from mellow_herald.sim.scenario import DeviceSpec
from mellow_herald.sim.sensing import Sensing
from mellow_herald.sim.service_time import ServiceTime
from mellow_herald.sim.standing import Standing
from mellow_herald.sim.surroundings import (
    in_spell,
    lost,
    next_outage,
    on_air,
    outage_at,
)
from mellow_herald.sim.talk import Talk
from mellow_herald.sim.trial import Restart, Trial
from mellow_herald.sim.update import settled_as
from mellow_herald.sim.uplink import Calls, NoAnswerError, RefusedCallError, Uplink
from mellow_herald.wire.device import AlarmIn, CheckinIn, Condition, Content, EnrolmentIn, OrderOut

WATCHDOG_S, WELL_AFTER_S, LEAK_S = 15.0, 60.0, 240.0
POWER_BACK_S = 20.0
FREE_MEMORY = 41_000.0
DEFAULT_SETTINGS = {"sample_every_s": 600}
FOREVER = 10**9
LEAST_BATTERY = 10  # percent; below it a device does not dare to switch
LOW_BATTERY = 20  # percent; below it a device raises an alarm
MOST_ALARMS = 20
LOOK_UP_S = 10.0
SETTINGS = "settings/main"


class SimDevice:
    """One device. ``run`` never returns by itself; cancel it to switch the device off."""

    def __init__(
        self,
        spec: DeviceSpec,
        hardware: Hardware,
        uplink: Calls,
        time_: ServiceTime,
        making: Making,
        *,
        say: Callable[[str, str], None] = lambda serial, line: None,
        carried: Callable[[], bool] = lambda: True,
        tls_port: Callable[[], int | None] = lambda: None,
    ) -> None:
        self.spec, self.hardware = spec, hardware
        self._uplink, self._time, self._making, self._carried = uplink, time_, making, carried
        self._rng = random.Random(f"{making.seed}/{spec.serial}")
        self._talk = Talk(hardware, uplink, time_, self._rng, lambda line: say(spec.serial, line))
        self._fetching = Fetching(spec, hardware, uplink, time_, making, self._talk, self._rng, self._link_stands)
        self._standing = Standing(hardware)
        self._placing = Placing(hardware, making, self._clock)
        self._trial = Trial(spec, hardware, self._talk, time_, making, self._standing, self._any_answer, self._connects)
        self._sensing = Sensing(spec, hardware, uplink if isinstance(uplink, Uplink) else None, time_)
        self._tls_port = tls_port
        self._alarms: list[dict[str, Any]] = []
        self._battery_told, self._reached, self._up = False, False, True
        self._started = time_.monotonic()
        self._life: asyncio.Task[None] | None = None
        self._jolt: Cause | None = None
        self._plugged = asyncio.Event()
        self._plugged.set()
        self._pressed, self._urgent = asyncio.Event(), asyncio.Event()
        self._link_back_at = 0.0
        self.lamp = "dark"

    @property
    def running(self) -> Slot | None:
        """The slot whose image runs, None if nothing does."""
        return self._standing.boot.slot

    @property
    def link_stands(self) -> bool:
        """Whether its own link stands, whatever the device does."""
        return self._link_stands()

    @property
    def runs(self) -> Content | None:
        """What it runs as `app`."""
        return running_content(self.hardware, self._standing).get(APP)

    @property
    def stands_by(self) -> Content | None:
        """What stands by as `app`."""
        return standby_content(self.hardware, self._standing).get(APP)

    def told(self) -> None:
        """Something came for it although it had not asked."""
        self._urgent.set()

    @property
    def on_line(self) -> bool:
        """Whether the device is up and its own link stands; what is behind it as a gateway depends on that."""
        return self._up and self.lamp not in ("dark", "needs help") and self._link_stands()

    async def run(self) -> None:
        """The device's life, from one restart to the next."""
        await asyncio.sleep(self._rng.uniform(0, self._making.start_within_s))
        cause = Cause.POWER
        while True:
            await self._plugged.wait()
            self._life = asyncio.create_task(self._live(cause))
            try:
                await self._life
            except Restart as restart:
                cause, self._up = restart.cause, False
                self.lamp = "updating" if cause is Cause.ORDER else self.lamp
                # A boot loader that sees reset after reset waits longer and longer.
                await self._time.sleep(
                    self.spec.restart.total_seconds() * 2 ** min(6, self.hardware.record.early_resets)
                )
            except PowerLost:
                cause, self.lamp, self._up = Cause.POWER, "dark", False
                await self._time.sleep(POWER_BACK_S)
            except asyncio.CancelledError:
                if self._jolt is None:
                    raise
                cause, self._jolt, self.lamp = self._jolt, None, "dark"
            finally:
                self._life.cancel()

    # Hands on the bench -------------------------------------------------------------------------------------------

    def reset(self) -> None:
        """Somebody presses the reset button."""
        self._shake(Cause.BUTTON)

    def unplug(self) -> None:
        """Takes its power away, until ``plug``."""
        self._plugged.clear()
        self._shake(Cause.POWER)

    def plug(self) -> None:
        """Gives its power back."""
        self._plugged.set()

    def press(self) -> None:
        """The owner presses the button: yes, update now."""
        self._pressed.set()
        self._talk.log("button pressed")

    def cut_link(self, seconds: float) -> None:
        """Cuts its link for so long, in service time."""
        self._link_back_at = self._time.monotonic() + seconds / self._time.scale

    def put(self, name: str, data: bytes) -> SlotNote:
        """Somebody puts a file, settings or a certificate at its place, by cable and without a restart."""
        if "/" not in name:
            raise ValueError(f"{name} is no place; write file/NAME, settings/NAME or certificate/NAME")
        if kind_of(name) is Kind.SETTINGS:
            data = canonical(read_settings(data))
        note = self.hardware.flash_by_cable(data, name, keep_trial=True)
        self._talk.log(f"{name} was changed by hand")
        return note

    def flash_by_cable(self, image: bytes) -> SlotNote:
        """Flashes an image by cable and resets; raises ``ValueError`` where it cannot be."""
        note = self.hardware.flash_by_cable(image)
        self.hardware.keep(work={}, unsent=[])
        self._shake(Cause.BUTTON)
        return note

    def _shake(self, cause: Cause) -> None:
        if self._life is not None and not self._life.done():
            self._jolt = cause
            self._life.cancel()

    # Starting -----------------------------------------------------------------------------------------------------

    async def _live(self, cause: Cause) -> None:
        """One boot's life: ends only by an exception that restarts the device."""
        await self._wait_for_mains()
        boot = self.hardware.start(cause)
        self._started = self._time.monotonic()
        self._talk.restarted(self.hardware.record.boots)
        if not boot.slots and not boot.recovery:
            self.lamp = "needs help"
            await self._time.sleep(FOREVER)
        firmware = self._read_firmware(boot.slot)
        self._standing.starts(boot, firmware)
        self._up = True
        where = slot_words(RECOVERY if boot.recovery else boot.slot)
        self._talk.log(f"running {firmware.version or 'an unnamed image'} from {where}, cause {cause.value}")
        await self._suffer_at_boot()
        await self._enrol()
        seconds, ends = self._limit()
        beside = [asyncio.create_task(self._sensing.run())]
        if self.spec.gateway:
            beside.append(asyncio.create_task(self._watch_gateway()))
        try:
            async with asyncio.timeout(None if seconds is None else seconds / self._time.scale):
                await self._serve()
        except TimeoutError:
            if self._uptime() > WELL_AFTER_S:
                self.hardware.record = note_well(self.hardware.record)
            raise ends from None
        finally:
            for task in beside:
                task.cancel()

    def _read_firmware(self, slot: Slot | None) -> Firmware:
        image = self.hardware.recovery_image() if slot is None else self.hardware.image(APP, slot)
        return read_firmware(image, self.spec.facts, self._making.seed)

    async def _wait_for_mains(self) -> None:
        now, since = self._time.now(), made_at(self.hardware)
        left = None if now is None or since is None else outage_at(self._making.outages, since, now)
        if left is not None:
            self.lamp = "dark"
            await self._time.sleep(left)

    def _limit(self) -> tuple[float | None, Exception]:
        """When this boot's life ends by itself (seconds from now, None: never), and how."""
        limits: list[tuple[float, Exception]] = []
        now, since = self._time.now(), made_at(self.hardware)
        outage = None if now is None or since is None else next_outage(self._making.outages, since, now)
        if outage is not None:
            limits.append((outage, PowerLost()))
        if Fault.LEAK in self._standing.firmware.faults:
            limits.append((LEAK_S, Restart(Cause.CRASH)))
        return min(limits, key=lambda limit: limit[0], default=(None, PowerLost()))

    async def _suffer_at_boot(self) -> None:
        """What the image gets wrong before its main loop."""
        faults, data = self._standing.firmware.faults, self.hardware.data
        if Fault.WIPE_SETTINGS in faults:
            self._wipe_settings(data)
        if Fault.CRASH_AT_BOOT in faults:
            raise Restart(Cause.CRASH)
        if Fault.HANG in faults:
            await self._time.sleep(WATCHDOG_S)
            raise Restart(Cause.HANG)
        if self._standing.firmware.updater == 0:
            # Nothing in this image knows how to reach the service, or that it should vouch for itself to it.
            self.hardware.record = confirm(self.hardware.record)
            self.lamp = "running"
            await self._time.sleep(FOREVER)

    def _wipe_settings(self, data: dict[str, Any]) -> None:
        """Firmware that writes its own settings over those of its owner."""
        wiped = canonical(DEFAULT_SETTINGS)
        if SETTINGS in self.hardware.layout.parts:
            if self.hardware.image(SETTINGS, self._standing.boot.slots[SETTINGS]) != wiped:
                self.hardware.flash_by_cable(wiped, SETTINGS, keep_trial=True)
        elif data.get("settings", DEFAULT_SETTINGS) != DEFAULT_SETTINGS:
            self.hardware.keep(settings=DEFAULT_SETTINGS)

    async def _serve(self) -> None:
        boot = self._standing.boot
        if boot.on_trial:
            self.lamp = "on trial"
            await self._trial.prove()
        elif self.hardware.record.went_back is not None:
            await self._trial.restore(self.hardware.data["work"].get("components", []))
        elif self._standing.broken:
            await self._trial.restore(self._standing.broken)
        await self._settle_switch()
        if self.lamp != "gone back":
            self.lamp = "needs help" if boot.recovery or self._standing.broken else "running"
        obeying = Obeying(
            self.hardware,
            self._talk,
            self._fetching,
            self._placing,
            self._standing,
            self._trial,
            self._check_in,
            self._pressed.clear,
            self._settle_switch,
            partial(setattr, self, "lamp"),
        )
        after_restart = True
        while True:
            asked = self._time.monotonic()
            order, after_restart = await self._check_in(after_restart=after_restart), False
            while order.order is not None:
                order = await obeying.obey(order)
            if self._uptime() > WELL_AFTER_S and self.hardware.record.early_resets:
                self.hardware.record = note_well(self.hardware.record)
            held = self._time.monotonic() - asked > self.spec.link.wait_s / 2 > 0
            if not held:
                await self._rest(order.next_checkin_s)

    async def _rest(self, seconds: float) -> None:
        """Waits for its next check-in, or for an alarm that should not wait so long."""
        with suppress(TimeoutError):
            await asyncio.wait_for(self._urgent.wait(), seconds / self._time.scale)

    async def _watch_gateway(self) -> None:
        """Who is behind a gateway notices when that goes away, also while a call of its own is held open."""
        while self.spec.gateway:
            await self._time.sleep(LOOK_UP_S)
            if self._reached and not self._carried():
                self._raise_alarm("upstream-lost", self.spec.gateway, "no answer from the gateway")

    async def _enrol(self) -> None:
        if "token" not in (data := self.hardware.data):
            data.setdefault("nonce", "".join(self._rng.choices("0123456789abcdef", k=32)))
            data.setdefault("settings", self.spec.settings)
            data.setdefault("key_list", self._making.key_list)
            self.hardware.data = data  # before the call: the same nonce must be sent if its answer gets lost
            spec = self.spec
            assert isinstance(spec.hw_rev, int)
            labels = {key: value for key, value in spec.labels.items() if isinstance(value, str)}
            said = EnrolmentIn(
                serial=spec.serial,
                board=spec.board,
                line=spec.line,
                hw_rev=spec.hw_rev,
                code=self._making.code,
                nonce=data["nonce"],
                labels=labels,
                gateway=spec.gateway,
            )
            answer = await self._talk.patiently(lambda: self._uplink.enrol(said), self._making.check_in_s)
            self.hardware.keep(token=answer.token, device_id=answer.device_id, made_at=self._time.text())
            self._talk.log("enrolled")
        self._uplink.token = self.hardware.data["token"]

    # Surroundings -------------------------------------------------------------------------------------------------

    def _link_stands(self) -> bool:
        now = self._time.now()
        away = now is not None and in_spell(self.spec.link.offline, now, f"{self.spec.serial}/link")
        return not away and self._time.monotonic() >= self._link_back_at

    async def carry(self, size: int) -> bool:
        """Takes the time that a call of ``size`` bytes takes on the device's link; False if it gets lost."""
        await self._time.sleep(on_air(self.spec.link, size))
        if not self._carried():
            if self._reached:  # while everything starts, gateways may well come later
                self._raise_alarm("upstream-lost", self.spec.gateway or "", "no answer from the gateway")
            return False
        return self._link_stands() and not lost(self.spec.link, self._rng)

    def _raise_alarm(self, kind: str, about: str, text: str) -> None:
        """Notes an alarm for the next call; one that stands already is not raised again."""
        known = any((one["kind"], one["about"]) == (kind, about) for one in self._alarms)
        if not known and len(self._alarms) < MOST_ALARMS:
            alarm = {"kind": kind, "about": about, "at": self._time.text(), "text": text}
            self._alarms.append({name: value for name, value in alarm.items() if value is not None})
            self._urgent.set()
            self._talk.log(f"alarm: {kind} {about}, {text}")

    def _clock(self) -> datetime | None:
        """The device's own clock."""
        now = self._time.now()
        return None if now is None else now - self.spec.clock_behind

    async def _connects(self, name: str) -> str | None:
        """Why a connection with the certificate of a place does not come about."""
        port, place = self._tls_port(), self._making.places.get(name)
        if port is None or place is None:
            return None
        chain = self.hardware.image(name, self._standing.boot.slots[name])
        return await why_not(port, chain, place.key, place.trusted, self._clock())

    def _uptime(self) -> int:
        return self._time.uptime(self._started)

    def _condition(self) -> Condition:
        drains = self._up and Fault.DRAINS_BATTERY in self._standing.firmware.faults
        note_drain(self.spec, self.hardware, self._time.now(), drains=drains)
        return condition_of(self.spec, self.hardware, self._time.now(), consented=self._pressed.is_set())

    # Checking in --------------------------------------------------------------------------------------------------

    async def _check_in(self, *, after_restart: bool = False) -> OrderOut:
        condition = self._condition()
        if condition.battery is not None and condition.battery < LOW_BATTERY and not self._battery_told:
            self._battery_told = True
            self._raise_alarm("battery-low", self.spec.serial, f"{condition.battery} % left")
        alarms = list(self._alarms)
        order = await self._talk.check_in(
            lambda: self._word(after_restart),
            self._making.check_in_s,
            self.spec.link.wait_s,
            tell_first=self._standing.firmware.names_images,
        )
        self._alarms = [alarm for alarm in self._alarms if alarm not in alarms]
        if not self._alarms:
            self._urgent.clear()
        self._reached = True
        self._sensing.obey(order.listen, order.record)
        return order

    def _word(self, after_restart: bool) -> CheckinIn:
        record, condition, uptime = self.hardware.record, self._condition(), self._uptime()
        standing, firmware = self._standing, self._standing.firmware
        fit = condition.owner == "willing" and not condition.busy
        safe = condition.battery is None or condition.battery >= LEAST_BATTERY or bool(condition.charging)
        leaked = uptime / LEAK_S if Fault.LEAK in firmware.faults else 0.0
        return CheckinIn(
            boots=record.boots,
            seq=self._talk.next_seq(),
            ready=not standing.boot.on_trial and fit and safe,
            running=running_content(self.hardware, standing),
            standby=standby_content(self.hardware, standing),
            trial=firmware.names_images and standing.boot.on_trial,
            updater=firmware.updater,
            condition=condition,
            uptime_s=uptime,
            readings={"free_memory": round(FREE_MEMORY * max(0.0, 1 - leaked)), "temperature": 21.5},
            settings_digest=self._settings_digest(),
            after_restart=after_restart,
            listening=self._sensing.number,
            recording=self._sensing.recording,
            parts=list(self.hardware.layout.parts),
            alarms=[AlarmIn.model_validate(alarm) for alarm in self._alarms],
        )

    def _settings_digest(self) -> str:
        if SETTINGS in self.hardware.layout.parts and SETTINGS in self._standing.boot.slots:
            note = self.hardware.record.note(SETTINGS, self._standing.boot.slots[SETTINGS])
            if note is not None:
                return note.digest
        settings = repr(sorted(self.hardware.data["settings"].items()))
        return hashlib.sha256(settings.encode()).hexdigest()

    async def _any_answer(self) -> bool:
        """Whether the service answers at all; even a 5xx counts, since its outage must not revert a fleet."""
        try:
            await self._uplink.checkin(self._word(after_restart=True))
        except RefusedCallError:
            return True
        except NoAnswerError as error:
            return error.answered
        return True

    async def _settle_switch(self) -> None:
        """Tells how a switch ended, once it has.

        What ended it may have been a power cut at any point: before the boot loader was told to switch, or after it
        confirmed and before that was reported. What counts is what runs now.
        """
        record, work = self.hardware.record, self.hardware.data.get("work", {})
        wanted = work.get("switching_to")
        if wanted is None:
            if record.fell_back and "attempt" in work:
                self.lamp = "gone back"
                detail = "several early resets in a row: the boot loader fell back to the firmware before"
                await self._went_back(WentBack.CRASHED.value, detail)
            return
        names_images = self._standing.firmware.names_images
        if settled_as(self.hardware, wanted, self._standing.boot):
            self._talk.log("confirmed")
            runs = digests(running_content(self.hardware, self._standing))
            await self._talk.report(State.CONFIRMED, **({"digests": runs} if names_images else {}))
        elif self._standing.boot.recovery:
            await self._went_back("in-recovery", "nothing else may run: the recovery image was started")
        else:
            self.lamp = "gone back"
            why = (record.went_back or WentBack.POWER_LOST).value
            await self._went_back(why, "the boot loader went back to the firmware before")
        done = {"switching_to", "prepared_for"} if names_images else {"switching_to"}
        self.hardware.keep(work={name: v for name, v in self.hardware.data["work"].items() if name not in done})
        self.hardware.record = reported(self.hardware.record)

    async def _went_back(self, reason: str, detail: str) -> None:
        parts = self._trial.told_of_parts()
        failed = self.hardware.data["work"].get("failed")
        if failed is not None:
            detail = f"{failed['name']}: {failed['detail']}"
        if any(part["reason"] == "needs-cable" for part in parts.values()):
            reason = "needs-cable"
        self._talk.log(detail)
        several = {"parts": parts} if parts else {}
        await self._talk.report(State.REVERTED, reason=reason, detail=detail, **several)
        self.hardware.record = reported(self.hardware.record)
