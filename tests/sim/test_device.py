"""A simulated device's own judgement, with a service on strings: it believes nothing it has not verified."""

import asyncio
import random
from collections.abc import AsyncIterator, Callable
from typing import Any

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from mellow_herald.core.behaviour import Behaviour, Fault, encode_behaviour
from mellow_herald.core.firmware import Image, for_slot
from mellow_herald.core.keys import KeyStatus, SigningKey, raw_public, sign_key_list
from mellow_herald.core.manifest import join_envelope, manifest_digest, sign_manifest
from mellow_herald.core.nameplate import Nameplate, encode_nameplate
from mellow_herald.core.order import Order
from mellow_herald.core.seal import describe
from mellow_herald.core.suit import encode_manifest
from mellow_herald.sim.bootloader import Slot, SlotNote, arm, confirm
from mellow_herald.sim.device import SimDevice
from mellow_herald.sim.flash import Flash
from mellow_herald.sim.hardware import Hardware, chip_size
from mellow_herald.sim.scenario import DeviceSpec, LinkSpec
from mellow_herald.sim.service_time import ServiceTime
from mellow_herald.sim.uplink import NoAnswerError, RefusedCallError
from mellow_herald.wire.device import CheckinIn, Clearance, EnrolmentIn, EnrolmentOut, OrderOut
from tests.harness.firmware import BOARD, DOMAIN, LINE, Publisher, load_image, make_bytes, make_image

PUBLISHER = Publisher()
SLOT_SIZE = 64 * 1024


class StringedUplink:
    """A service that says what a test wants: offers one release, clears at once, and remembers all reports."""

    def __init__(self, image: Image, *, key: Ed25519PrivateKey | None = None, domain: str = DOMAIN) -> None:
        body = encode_manifest(describe([image], domain))
        self.envelope = join_envelope(sign_manifest(body, key or PUBLISHER.key), body)
        self.digest, self.data, self.key_list = manifest_digest(body), image.data, PUBLISHER.key_list_bytes()
        self.token: str | None = None
        self.reports: list[dict[str, Any]] = []
        self.checkins: list[CheckinIn] = []
        self.ranges: list[int] = []
        self.over = asyncio.Event()
        self.refuse_checkins = False

    async def enrol(self, said: EnrolmentIn) -> EnrolmentOut:
        return EnrolmentOut(device_id=1, token="t", admission="admitted")

    async def checkin(self, said: CheckinIn) -> OrderOut:
        self.checkins.append(said)
        if self.refuse_checkins:
            raise NoAnswerError
        state = self.reports[-1]["state"] if self.reports else None
        order = OrderOut(next_checkin_s=60, attempt=1, manifest=self.digest, trial_s=30)
        if state is None:
            order.order = Order.FETCH
        elif state == "staged":
            order.order, order.clearance = Order.SWITCH, Clearance(number=1, seconds=600)
        elif state in ("confirmed", "failed", "reverted"):
            self.over.set()
            await asyncio.Event().wait()
        return order

    async def report(self, reports: list[dict[str, Any]]) -> OrderOut:
        self.reports += reports
        return OrderOut(next_checkin_s=60)

    async def keys(self) -> bytes:
        return self.key_list

    async def manifest(self, digest: str) -> bytes:
        assert digest == self.digest
        return self.envelope

    async def image(self, uri: str, have: int) -> AsyncIterator[bytes]:
        self.ranges.append(have)
        for at in range(have, len(self.data), 5000):
            yield self.data[at : at + 5000]

    def said(self) -> list[str]:
        """The states reported, each once in a row."""
        states = [report["state"] for report in self.reports]
        return [s for s, before in zip(states, [None, *states], strict=False) if s != before]


def chip(image: bytes | None = None) -> Hardware:
    hardware = Hardware(Flash(bytearray(b"\xff" * chip_size(SLOT_SIZE))))
    hardware.install_at_factory(image or make_bytes("2.4.0"))
    return hardware


async def live(uplink: StringedUplink, hardware: Hardware | None = None, **spec: Any) -> SimDevice:
    """Lets a device live until its attempt is over."""
    values = {"serial": "TA-1", "board": BOARD, "line": LINE, "hw_rev": 1, "image": "x", **spec}
    time = ServiceTime()
    time.scale = 2000.0
    device = SimDevice(
        DeviceSpec.model_validate(values),
        hardware or chip(),
        uplink,  # type: ignore[arg-type]
        time,
        root=raw_public(PUBLISHER.root),
        key_list=PUBLISHER.key_list_bytes(),
        vendor_domain=DOMAIN,
        code="c",
        check_in_s=60,
        seed=1,
    )
    task = asyncio.create_task(device.run())
    try:
        await asyncio.wait_for(uplink.over.wait(), 10)
    finally:
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)
    return device


async def test_a_good_release_is_staged_tried_and_confirmed() -> None:
    uplink = StringedUplink(make_image("2.5.0"))
    device = await live(uplink)
    assert uplink.said() == ["downloading", "staged", "installing", "proving", "confirmed"]
    assert device.running is Slot.B
    record = device.hardware.record
    assert record.active is Slot.B and record.trial is None
    assert device.hardware.image(Slot.B) == make_bytes("2.5.0")
    assert device.hardware.data["settings"] == {"sample_every_s": 600}, "settings survive"
    orders = [(report["boots"], report["seq"]) for report in uplink.reports]
    assert orders == sorted(set(orders)), "boots and seq only rise"


def behaving(when: str) -> Image:
    """A 2.5.0 whose self-test fails on devices that match."""
    return load_image(make_bytes("2.5.0") + encode_behaviour([Behaviour(when, Fault.FAIL_SELF_TEST)]))


async def test_a_failing_self_test_goes_back_and_says_which() -> None:
    uplink = StringedUplink(behaving("load_cell = worn"))
    device = await live(uplink, quirks={"load_cell": "worn"})
    assert uplink.said()[-2:] == ["proving", "reverted"]
    assert uplink.reports[-1]["reason"] == "self-test-failed"
    tests = next(report["tests"] for report in uplink.reports if "tests" in report)
    assert [test["name"] for test in tests if not test["passed"]] == ["load-cell"]
    assert device.running is Slot.A and device.lamp == "gone back"
    assert device.hardware.record.went_back is None, "told once"


async def test_the_same_image_is_good_where_its_fault_does_not_show() -> None:
    uplink = StringedUplink(behaving("load_cell = worn"))
    await live(uplink)
    assert uplink.said()[-1] == "confirmed"


def spoil_signature(uplink: StringedUplink) -> None:
    uplink.envelope = uplink.envelope[:-40] + bytes([uplink.envelope[-40] ^ 1]) + uplink.envelope[-39:]


def spoil_image(uplink: StringedUplink) -> None:
    uplink.data = uplink.data[:-1] + bytes([uplink.data[-1] ^ 1])


def lengthen_image(uplink: StringedUplink) -> None:
    uplink.data += b"more"


def revoke_key(uplink: StringedUplink) -> None:
    keys = [SigningKey(raw_public(PUBLISHER.key), KeyStatus.REVOKED)]
    uplink.key_list = sign_key_list(PUBLISHER.root, 2, keys)


@pytest.mark.parametrize(
    ("image", "key", "spoil", "reason"),
    [
        (make_image("2.5.0"), None, spoil_signature, "signature-refused"),
        (make_image("2.5.0"), Ed25519PrivateKey.generate(), None, "signature-refused"),
        (make_image("2.5.0"), PUBLISHER.revoked, None, "signature-refused"),
        (make_image("2.5.0"), None, revoke_key, "signature-refused"),
        (make_image("2.5.0"), None, spoil_image, "digest-mismatch"),
        (make_image("2.5.0"), None, lengthen_image, "digest-mismatch"),
        (make_image("2.5.0", line="feed-pump"), None, None, "refused-by-device"),
        (make_image("2.5.0", board="comb-s2"), None, None, "refused-by-device"),
        (make_image("2.5.0", hw_rev_min=2), None, None, "refused-by-device"),
        (make_image("2.5.0", size=70_000), None, None, "no-room"),
        (make_image("2.5.0", needs=(("app", "2.4.1"),)), None, None, "refused-by-device"),
        (make_image("2.5.0", needs=(("radio", "1.0.0"),)), None, None, "refused-by-device"),
        (for_slot(make_image("2.5.0"), 0), None, None, "refused-by-device"),
    ],
)
async def test_what_is_not_for_this_device_is_never_switched_to(
    image: Image, key: Ed25519PrivateKey | None, spoil: Callable[[StringedUplink], None] | None, reason: str
) -> None:
    uplink = StringedUplink(image, key=key)
    if spoil:
        spoil(uplink)
    device = await live(uplink)
    assert (uplink.reports[-1]["state"], uplink.reports[-1]["reason"]) == ("failed", reason)
    assert device.running is Slot.A
    assert device.hardware.record.trial is None and "installing" not in uplink.said()


async def test_a_key_revoked_after_staging_bars_the_switch() -> None:
    class Revoking(StringedUplink):
        async def report(self, reports: list[dict[str, Any]]) -> OrderOut:
            if reports[-1]["state"] == "staged":
                revoke_key(self)
            return await super().report(reports)

    uplink = Revoking(make_image("2.5.0"))
    device = await live(uplink)
    assert uplink.said()[-2:] == ["staged", "failed"]
    assert (
        uplink.reports[-1]["reason"] == "signature-refused"
        and "after the image was staged" in uplink.reports[-1]["detail"]
    )
    assert device.running is Slot.A and Slot.B not in device.hardware.record.notes


async def test_what_a_retired_key_signed_stays_good_and_silence_about_keys_bars_nothing() -> None:
    class Mute(StringedUplink):
        async def keys(self) -> bytes:
            if self.said()[-1:] == ["staged"]:
                raise NoAnswerError
            return self.key_list

    uplink = Mute(make_image("2.5.0"), key=PUBLISHER.retired)
    device = await live(uplink)
    assert uplink.said()[-1] == "confirmed" and device.running is Slot.B


async def test_the_image_for_its_own_standby_slot_is_taken() -> None:
    uplink = StringedUplink(for_slot(make_image("2.5.0"), 1))
    assert (await live(uplink)).running is Slot.B


async def test_a_lower_floor_number_is_refused() -> None:
    hardware = chip()
    hardware.record = type(hardware.record)(**{**vars_of(hardware), "floor": 9})
    uplink = StringedUplink(make_image("2.5.0"))
    await live(uplink, hardware)
    assert uplink.reports[-1]["reason"] == "refused-by-device" and "below 9" in uplink.reports[-1]["detail"]


def vars_of(hardware: Hardware) -> dict[str, Any]:
    record = hardware.record
    return {name: getattr(record, name) for name in record.__dataclass_fields__}


async def test_a_cut_transfer_goes_on_where_it_broke_off() -> None:
    uplink = StringedUplink(make_image("2.5.0"))
    device = await live(uplink, link=LinkSpec(cut_at=[0.3, 0.6]).model_dump())
    assert uplink.said()[-1] == "confirmed"
    assert len(uplink.ranges) == 3 and 0 == uplink.ranges[0] < uplink.ranges[1] < uplink.ranges[2]
    told = [report["detail"] for report in uplink.reports if "cut" in report.get("detail", "")]
    assert len(told) == 2 and f"from byte {uplink.ranges[1]}" in told[0]
    assert device.hardware.image(Slot.B) == make_bytes("2.5.0")


async def test_an_older_or_foreign_key_list_is_not_taken() -> None:
    uplink = StringedUplink(make_image("2.5.0"))
    stranger = Ed25519PrivateKey.generate()
    uplink.key_list = sign_key_list(stranger, 99, [SigningKey(raw_public(stranger), KeyStatus.ACTIVE)])
    device = await live(uplink)
    assert uplink.said()[-1] == "confirmed", "its own list is still good"
    assert device.hardware.data["key_list"] == PUBLISHER.key_list_bytes()


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


@pytest.mark.parametrize(("switched", "state"), [(False, "reverted"), (True, "confirmed")])
async def test_power_lost_around_the_switch_is_settled_by_what_runs(switched: bool, state: str) -> None:
    """Before the boot loader was told to switch, or after it confirmed and before that was reported."""
    uplink, hardware = StringedUplink(make_image("2.5.0")), chip()
    new = make_image("2.5.0")
    hardware.flash.write(hardware.slot_at(Slot.B), new.data)
    hardware.note_slot(Slot.B, SlotNote(new.size, new.digest, "2.5.0", 4))
    work = {"attempt": 1, "try": 1, "trial_s": 30, "switching_to": new.digest}
    kept = {"token": "t", "settings": {}, "key_list": PUBLISHER.key_list_bytes()}
    hardware.data = {**kept, "work": work}
    if switched:
        hardware.record = confirm(arm(hardware.record, Slot.B))
    uplink.reports = [{"state": "installing", "boots": 0, "seq": 9}]
    await live(uplink, hardware)
    assert uplink.said() == ["installing", state]
    if not switched:
        assert uplink.reports[-1]["reason"] == "power-lost"
    assert "switching_to" not in hardware.data["work"], "told once"


async def test_reports_that_cannot_be_sent_are_kept_on_the_flash() -> None:
    uplink = StringedUplink(make_image("2.5.0"))
    report, cut = uplink.report, [True]

    async def at_first_nobody(reports: list[dict[str, Any]]) -> OrderOut:
        if cut[0]:
            cut[0] = not any(one["state"] == "staged" for one in reports)
            raise NoAnswerError
        return await report(reports)

    uplink.report = at_first_nobody  # type: ignore[method-assign]
    await live(uplink)
    assert uplink.said() == ["downloading", "staged", "installing", "proving", "confirmed"], "all, in order"


async def test_a_refused_report_does_not_stand_in_the_way_of_the_next() -> None:
    uplink = StringedUplink(make_image("2.5.0"))
    report = uplink.report

    async def refuse_progress(reports: list[dict[str, Any]]) -> OrderOut:
        if reports[-1]["state"] == "downloading":
            raise RefusedCallError(422, "bad-values", "no")
        return await report(reports)

    uplink.report = refuse_progress  # type: ignore[method-assign]
    await live(uplink)
    assert uplink.said() == ["staged", "installing", "proving", "confirmed"]


async def test_the_same_seed_lives_the_same_life() -> None:
    lives = []
    for _ in range(2):
        uplink = StringedUplink(make_image("2.5.0"))
        await live(uplink, link=LinkSpec(cut_at=[0.5]).model_dump())
        lives.append([{k: v for k, v in r.items() if k != "at"} for r in uplink.reports])
    assert lives[0] == lives[1]
    assert random.Random("1/TA-1").random() == random.Random("1/TA-1").random()


def test_a_factory_image_needs_a_nameplate() -> None:
    with pytest.raises(ValueError, match="nameplate"):
        chip(b"plain code" * 100)
    assert encode_nameplate(Nameplate(LINE, BOARD, "app", "1.0.0", 1))
