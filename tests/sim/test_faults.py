"""What a simulated device does when its firmware is bad."""

import asyncio
from dataclasses import replace
from typing import Any

import pytest

from mellow_herald.core.behaviour import Behaviour, Fault, encode_behaviour
from mellow_herald.core.firmware import Image
from mellow_herald.sim.bootloader import APP, Slot
from mellow_herald.sim.device import SimDevice
from mellow_herald.wire.device import CheckinIn, OrderOut
from tests.harness.firmware import BOARD, load_image, make_bytes, make_image
from tests.sim.test_device import (
    IN_PLACE,
    LAYOUT,
    StringedUplink,
    chip,
    live,
    until,
)


def behaving(when: str) -> Image:
    """A 2.5.0 whose self-test fails on devices that match."""
    return load_image(make_bytes("2.5.0") + encode_behaviour([Behaviour(when, Fault.FAIL_SELF_TEST)]))


async def test_a_failing_self_test_goes_back_and_says_which() -> None:
    uplink = StringedUplink(behaving("load_cell = worn"))
    device = await live(uplink, quirks={"load_cell": "worn"})
    assert uplink.states()[-2:] == ["proving", "reverted"]
    assert uplink.reports[-1]["reason"] == "self-test-failed"
    tests = next(report["tests"] for report in uplink.reports if "tests" in report)
    assert [test["name"] for test in tests if not test["passed"]] == ["load-cell"]
    assert device.running is Slot.A and device.lamp == "gone back"
    assert device.hardware.record.went_back is None, "told once"


async def test_the_same_image_is_good_where_its_fault_does_not_show() -> None:
    uplink = StringedUplink(behaving("load_cell = worn"))
    await live(uplink)
    assert uplink.states()[-1] == "confirmed"


async def test_firmware_that_reaches_nobody_on_trial_goes_back() -> None:
    uplink = StringedUplink(make_image("2.5.0"))
    report = uplink.report

    async def cut_after_installing(reports: list[dict[str, Any]]) -> OrderOut:
        answer = await report(reports)
        if reports[-1]["state"] == "installing":
            uplink.refuse_checkins = True
        elif reports[-1]["state"] == "reverted":
            uplink.refuse_checkins = False
        return answer

    uplink.report = cut_after_installing  # type: ignore[method-assign]
    device = await live(uplink)
    assert (uplink.reports[-1]["state"], uplink.reports[-1]["reason"]) == ("reverted", "no-contact")
    assert device.running is Slot.A


def faulty(*faults: Fault, version: str = "2.5.0") -> Image:
    rules = [Behaviour(f"board = {BOARD}", fault) for fault in faults]
    return load_image(make_bytes(version) + encode_behaviour(rules))


@pytest.mark.parametrize(("fault", "reason"), [(Fault.CRASH_AT_BOOT, "crashed"), (Fault.HANG, "hung")])
async def test_a_crash_or_hang_at_boot_goes_back_and_its_log_is_attached(fault: Fault, reason: str) -> None:
    uplink = StringedUplink(faulty(fault))
    device = await live(uplink)
    assert uplink.states()[-2:] == ["installing", "reverted"]
    assert uplink.reports[-1]["reason"] == reason and "running 2.5.0 from slot b" in uplink.reports[-1]["log"]
    assert device.running is Slot.A


async def test_an_image_without_an_updater_takes_the_device_away_in_silence() -> None:
    uplink = StringedUplink(faulty(Fault.NO_UPDATER))

    async def long_after(device: SimDevice) -> None:
        await until(lambda: device.running is Slot.B and device.lamp == "running")
        await asyncio.sleep(0.3)  # ten minutes of service time

    device = await live(uplink, during=long_after)
    assert uplink.states()[-1] == "installing" and uplink.checkins[-1].running[APP].version == "2.4.0"
    assert not device.hardware.record.trial, "it runs for good"


async def test_an_image_that_wipes_settings_shows_in_their_digest() -> None:
    uplink = StringedUplink(faulty(Fault.WIPE_SETTINGS))
    device = await live(uplink)
    assert uplink.states()[-1] == "confirmed"
    assert device.hardware.data["settings"] == {"sample_every_s": 600}
    assert uplink.checkins[0].settings_digest != uplink.checkins[-1].settings_digest


async def test_a_leak_crashes_some_time_after_confirming_again_and_again() -> None:
    class GoingOn(StringedUplink):
        async def checkin(self, said: CheckinIn, wait_s: int = 0) -> OrderOut:
            if self.states()[-1:] != ["confirmed"]:
                return await super().checkin(said)
            self.checkins.append(said)
            return OrderOut(next_checkin_s=60)

    going_on = GoingOn(faulty(Fault.LEAK))

    async def three_crashes(device: SimDevice) -> None:
        await until(lambda: device.hardware.record.boots >= 5)

    device = await live(going_on, during=three_crashes)
    assert going_on.states()[-1] == "confirmed" and device.running is Slot.B, "too late to be early resets"
    free = [said.readings["free_memory"] for said in going_on.checkins]
    assert min(free) < 0.7 * max(free)


async def test_a_single_slot_updates_in_place_and_ends_in_recovery_if_that_was_wrong() -> None:
    uplink = StringedUplink(make_image("2.5.0"))
    device = await live(uplink, chip(IN_PLACE))
    assert uplink.states()[-1] == "confirmed" and device.running is Slot.A
    assert uplink.checkins[-1].standby == {}, "the staging file is used up"
    uplink = StringedUplink(faulty(Fault.CRASH_AT_BOOT))
    device = await live(uplink, chip(IN_PLACE, make_bytes("1.0.0-recovery")))
    assert (uplink.states()[-1], uplink.reports[-1]["reason"]) == ("reverted", "in-recovery")
    assert device.running is None and device.lamp == "needs help"


async def test_a_device_in_recovery_says_so_and_takes_an_update() -> None:
    hardware = chip(replace(LAYOUT, recovery=32768), make_bytes("1.0.0-recovery"))
    hardware.flash.erase(hardware.slot_at(APP, Slot.A), 4096)
    uplink = StringedUplink(make_image("2.5.0"))
    device = await live(uplink, hardware)
    first = uplink.checkins[0].running[APP]
    assert (first.slot, first.version) == ("recovery", "1.0.0-recovery")
    assert uplink.states()[-1] == "confirmed" and device.lamp == "running"
