"""A simulated device's own judgement, with a service on strings: it believes nothing it has not verified."""

import asyncio
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from mellow_herald.core.firmware import Image, for_slot
from mellow_herald.core.key_status import KeyStatus
from mellow_herald.core.keys import SigningKey, raw_public, sign_key_list
from mellow_herald.core.manifest import join_envelope, manifest_digest, sign_manifest
from mellow_herald.core.order import Order
from mellow_herald.core.seal import describe
from mellow_herald.core.suit import encode_manifest
from mellow_herald.sim.bootloader import APP, Slot, SlotNote, arm, confirm
from mellow_herald.sim.device import SimDevice
from mellow_herald.sim.fleet import Supply
from mellow_herald.sim.hardware import Hardware, Layout, PartLayout, make_in_memory
from mellow_herald.sim.making import Making
from mellow_herald.sim.scenario import DeviceSpec, LinkSpec, Outage
from mellow_herald.sim.service_time import ServiceTime
from mellow_herald.sim.uplink import NoAnswerError, RefusedCallError
from mellow_herald.wire.device import CheckinIn, Clearance, EnrolmentIn, EnrolmentOut, OrderOut
from tests.harness.firmware import BOARD, DOMAIN, LINE, Publisher, load_image, make_bytes, make_image

PUBLISHER = Publisher()
SLOT_SIZE = 64 * 1024
LAYOUT = Layout({APP: PartLayout(SLOT_SIZE)})
IN_PLACE = Layout({APP: PartLayout(SLOT_SIZE, in_place=True)}, recovery=32768)


class StringedUplink:
    """A service that says what a test wants: offers one release, clears at once, and remembers all reports."""

    def __init__(self, image: Image, *, key: Ed25519PrivateKey | None = None, domain: str = DOMAIN) -> None:
        body = encode_manifest(describe([image], domain))
        self.envelope = join_envelope(sign_manifest(body, key or PUBLISHER.key), body)
        self.digest, self.data, self.key_list = manifest_digest(body), image.data, PUBLISHER.key_list_bytes()
        self.to = {image.nameplate.component: image.digest}
        self.token: str | None = None
        self.reports: list[dict[str, Any]] = []
        self.checkins: list[CheckinIn] = []
        self.ranges: list[int] = []
        self.lines: list[dict[str, Any]] = []
        self.log, self.urgent = False, False
        self.over = asyncio.Event()
        self.refuse_checkins = False

    async def enrol(self, said: EnrolmentIn) -> EnrolmentOut:
        return EnrolmentOut(device_id=1, token="t", admission="admitted")

    async def checkin(self, said: CheckinIn, wait_s: int = 0) -> OrderOut:
        self.checkins.append(said)
        if self.refuse_checkins:
            raise NoAnswerError
        state = self.reports[-1]["state"] if self.reports else None
        order = OrderOut(
            next_checkin_s=60, attempt=1, manifest=self.digest, trial_s=30, log=self.log, urgent=self.urgent
        )
        if state in (None, "downloading"):
            order.order = Order.FETCH
        elif state == "staged" and not said.ready:
            order.order = Order.STAY
        elif state == "staged":
            order.order, order.clearance = Order.SWITCH, Clearance(number=1, seconds=600)
            order.to = self.to if said.updater >= 2 else None
        elif state in ("confirmed", "failed", "reverted"):
            self.over.set()
            await asyncio.Event().wait()
        return order

    async def report(self, reports: list[dict[str, Any]]) -> OrderOut:
        self.reports += reports
        return OrderOut(next_checkin_s=60, log=self.log)

    async def logs(self, lines: list[dict[str, Any]]) -> None:
        self.lines += lines

    async def keys(self) -> bytes:
        return self.key_list

    async def manifest(self, digest: str) -> bytes:
        assert digest == self.digest
        return self.envelope

    async def image(self, uri: str, have: int) -> AsyncIterator[bytes]:
        self.ranges.append(have)
        for at in range(have, len(self.data), 5000):
            yield self.data[at : at + 5000]

    def states(self) -> list[str]:
        """The states reported, each once in a row."""
        states = [report["state"] for report in self.reports]
        return [s for s, before in zip(states, [None, *states], strict=False) if s != before]


def chip(layout: Layout = LAYOUT, recovery: bytes = b"") -> Hardware:
    return make_in_memory(layout, dict.fromkeys(layout.parts, make_bytes("2.4.0")), recovery)


class RunningTime(ServiceTime):
    """Service time that needs no service to be told."""

    def __init__(self, scale: float = 2000.0, at: datetime = datetime(2026, 6, 1, 12, tzinfo=UTC)) -> None:
        super().__init__()
        self.scale, self._said, self._heard_at = scale, at, time.monotonic()


def making(**more: Any) -> Making:
    values = {
        "root": raw_public(PUBLISHER.root),
        "key_list": PUBLISHER.key_list_bytes(),
        "vendor_domain": DOMAIN,
        "code": "c",
        "check_in_s": 60.0,
        **more,
    }
    return Making(**values)


async def live(
    uplink: StringedUplink,
    hardware: Hardware | None = None,
    *,
    made: Making | None = None,
    during: Callable[[SimDevice], Awaitable[None]] | None = None,
    time_: ServiceTime | None = None,
    tls_port: int | None = None,
    **spec: Any,
) -> SimDevice:
    """Lets a device live until its attempt is over, or until ``during`` is."""
    values = {"serial": "TA-1", "board": BOARD, "line": LINE, "hw_rev": 1, "images": {"app": "x"}, **spec}
    device = SimDevice(
        DeviceSpec.model_validate(values),
        hardware or chip(),
        uplink,  # type: ignore[arg-type]
        time_ or RunningTime(),
        made or making(),
        tls_port=lambda: tls_port,
    )
    task = asyncio.create_task(device.run())
    try:
        await asyncio.wait_for(during(device) if during else uplink.over.wait(), 10)
    finally:
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)
    return device


async def until(wanted: Callable[[], object]) -> None:
    while not wanted():
        await asyncio.sleep(0.005)


async def test_a_good_release_is_staged_tried_and_confirmed() -> None:
    uplink = StringedUplink(make_image("2.5.0"))
    device = await live(uplink)
    assert uplink.states() == ["downloading", "staged", "installing", "proving", "confirmed"]
    assert device.running is Slot.B
    record = device.hardware.record
    assert record.parts[APP].active is Slot.B and not record.trial
    assert device.hardware.image(APP, Slot.B) == make_bytes("2.5.0")
    assert device.hardware.data["settings"] == {"sample_every_s": 600, "tare_g": 1180}, "settings survive"
    orders = [(report["boots"], report["seq"]) for report in uplink.reports]
    assert orders == sorted(set(orders)), "boots and seq only rise"


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
    assert not device.hardware.record.trial and "installing" not in uplink.states()


async def test_a_key_revoked_after_staging_bars_the_switch() -> None:
    class Revoking(StringedUplink):
        async def report(self, reports: list[dict[str, Any]]) -> OrderOut:
            if reports[-1]["state"] == "staged":
                revoke_key(self)
            return await super().report(reports)

    uplink = Revoking(make_image("2.5.0"))
    device = await live(uplink)
    assert uplink.states()[-2:] == ["staged", "failed"]
    assert (
        uplink.reports[-1]["reason"] == "signature-refused"
        and "after the image was staged" in uplink.reports[-1]["detail"]
    )
    assert device.running is Slot.A and device.hardware.record.note(APP, Slot.B) is None


async def test_what_a_retired_key_signed_stays_good_and_silence_about_keys_bars_nothing() -> None:
    class Mute(StringedUplink):
        async def keys(self) -> bytes:
            if self.states()[-1:] == ["staged"]:
                raise NoAnswerError
            return self.key_list

    uplink = Mute(make_image("2.5.0"), key=PUBLISHER.retired)
    device = await live(uplink)
    assert uplink.states()[-1] == "confirmed" and device.running is Slot.B


async def test_the_image_for_its_own_standby_slot_is_taken() -> None:
    uplink = StringedUplink(for_slot(make_image("2.5.0"), 1))
    assert (await live(uplink)).running is Slot.B


async def test_a_lower_floor_number_is_refused() -> None:
    hardware = chip()
    hardware.record = replace(hardware.record, floor=9)
    uplink = StringedUplink(make_image("2.5.0"))
    await live(uplink, hardware)
    assert uplink.reports[-1]["reason"] == "refused-by-device" and "below 9" in uplink.reports[-1]["detail"]


async def test_a_cut_transfer_goes_on_where_it_broke_off() -> None:
    uplink = StringedUplink(make_image("2.5.0"))
    device = await live(uplink, link=LinkSpec(cut_at=[0.3, 0.6]).model_dump())
    assert uplink.states()[-1] == "confirmed"
    assert len(uplink.ranges) == 3 and 0 == uplink.ranges[0] < uplink.ranges[1] < uplink.ranges[2]
    told = [report["detail"] for report in uplink.reports if "cut" in report.get("detail", "")]
    assert len(told) == 2 and f"from byte {uplink.ranges[1]}" in told[0]
    assert device.hardware.image(APP, Slot.B) == make_bytes("2.5.0")


async def test_an_older_or_foreign_key_list_is_not_taken() -> None:
    uplink = StringedUplink(make_image("2.5.0"))
    stranger = Ed25519PrivateKey.generate()
    uplink.key_list = sign_key_list(stranger, 99, [SigningKey(raw_public(stranger), KeyStatus.ACTIVE)])
    device = await live(uplink)
    assert uplink.states()[-1] == "confirmed", "its own list is still good"
    assert device.hardware.data["key_list"] == PUBLISHER.key_list_bytes()


@pytest.mark.parametrize(("switched", "state"), [(False, "reverted"), (True, "confirmed")])
async def test_power_lost_around_the_switch_is_settled_by_what_runs(switched: bool, state: str) -> None:
    """Before the boot loader was told to switch, or after it confirmed and before that was reported."""
    uplink, hardware = StringedUplink(make_image("2.5.0")), chip()
    new = make_image("2.5.0")
    hardware.flash.write(hardware.slot_at(APP, Slot.B), new.data)
    hardware.note_slot(APP, Slot.B, SlotNote(new.size, new.digest, "2.5.0", 4))
    work = {"attempt": 1, "try": 1, "trial_s": 30, "switching_to": {APP: ["b", new.digest]}}
    kept = {"token": "t", "settings": {}, "key_list": PUBLISHER.key_list_bytes()}
    hardware.data = {**kept, "work": work}
    if switched:
        hardware.record = confirm(arm(hardware.record, [APP]))
    uplink.reports = [{"state": "installing", "boots": 0, "seq": 9}]
    await live(uplink, hardware)
    assert uplink.states() == ["installing", state]
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
    assert uplink.states() == ["downloading", "staged", "installing", "proving", "confirmed"], "all, in order"


async def test_a_refused_report_does_not_stand_in_the_way_of_the_next() -> None:
    uplink = StringedUplink(make_image("2.5.0"))
    report = uplink.report

    async def refuse_progress(reports: list[dict[str, Any]]) -> OrderOut:
        if reports[-1]["state"] == "downloading":
            raise RefusedCallError(422, "bad-values", "no")
        return await report(reports)

    uplink.report = refuse_progress  # type: ignore[method-assign]
    await live(uplink)
    assert uplink.states() == ["staged", "installing", "proving", "confirmed"]


async def test_the_same_seed_lives_the_same_life() -> None:
    lives = []
    for _ in range(2):
        uplink = StringedUplink(make_image("2.5.0"))
        await live(uplink, link=LinkSpec(cut_at=[0.5]).model_dump())
        lives.append([{k: v for k, v in r.items() if k != "at"} for r in uplink.reports])
    assert lives[0] == lives[1]


async def test_several_components_are_staged_in_order_and_switched_together() -> None:
    radio = load_image(b"radio" * 1000, component="radio", version="3.1.0", line=LINE, board=BOARD, floor=4)
    app = make_image("2.5.0")

    class Serving(StringedUplink):
        async def image(self, uri: str, have: int) -> AsyncIterator[bytes]:
            self.data = next(image.data for image in (app, radio) if image.digest in uri)
            async for piece in super().image(uri, have):
                yield piece

    uplink = Serving(app)
    body = encode_manifest(describe([app, radio], DOMAIN, after={"app": ["radio"]}))
    uplink.envelope = join_envelope(sign_manifest(body, PUBLISHER.key), body)
    uplink.digest = manifest_digest(body)
    layout = Layout({APP: PartLayout(SLOT_SIZE), "radio": PartLayout(32768)})
    device = await live(uplink, chip(layout))
    assert uplink.states()[-1] == "confirmed", uplink.reports[-1]
    order = [report["component"] for report in uplink.reports if report.get("step") == "erase"]
    assert order == ["radio", "app"]
    assert device.hardware.image("radio", Slot.B) == radio.data
    refused = Serving(app)
    refused.envelope, refused.digest = uplink.envelope, uplink.digest
    await live(refused)
    last = refused.reports[-1]
    assert (last["reason"], last["component"]) == ("refused-by-device", "radio"), "this device has no radio part"


async def test_an_owner_may_put_it_off_and_an_urgent_order_does_not_wait_for_that() -> None:
    owner = {"kind": "postpones", "times": 2, "for": "20m"}
    uplink = StringedUplink(make_image("2.5.0"))
    await live(uplink, owner=owner)
    asked = [said.condition for said in uplink.checkins if said.condition.owner == "postponed"]
    assert len({one.owner_until for one in asked}) == 2 and uplink.states()[-1] == "confirmed"
    uplink = StringedUplink(make_image("2.5.0"))
    uplink.urgent = True
    await live(uplink, owner=owner)
    assert not [said for said in uplink.checkins if said.condition.owner == "postponed"]


async def test_an_owner_who_must_consent_does_it_by_the_button() -> None:
    uplink = StringedUplink(make_image("2.5.0"))

    async def press(device: SimDevice) -> None:
        await until(lambda: uplink.checkins and uplink.checkins[-1].condition.owner == "must-consent")
        assert not uplink.checkins[-1].ready
        device.press()
        await uplink.over.wait()

    await live(uplink, during=press, owner={"kind": "consents"})
    assert uplink.states()[-1] == "confirmed"


async def test_log_lines_go_to_the_service_only_while_it_asks() -> None:
    silent, asking = StringedUplink(make_image("2.5.0")), StringedUplink(make_image("2.5.0"))
    asking.log = True
    await live(silent)
    await live(asking)
    assert silent.lines == []
    texts = [line["text"] for line in asking.lines]
    assert any("is signed by" in text for text in texts) and "confirmed" in texts
    numbers = [(line["boots"], line["number"]) for line in asking.lines]
    assert numbers == sorted(set(numbers))


async def test_power_cuts_of_the_supply_and_of_the_mains_are_lived_through() -> None:
    uplink = StringedUplink(make_image("2.5.0"))
    hardware = chip()
    hardware.flash.supply = Supply([40, 55, 70])
    outage = Outage(where="board = comb-s1", after=timedelta(seconds=30), length=timedelta(minutes=5))  # type: ignore[call-arg]
    device = await live(uplink, hardware, made=making(outages=(outage,)))
    assert uplink.states()[-1] == "confirmed" and device.running is Slot.B
    assert hardware.record.boots >= 5


async def test_hands_on_the_bench() -> None:
    uplink = StringedUplink(make_image("2.5.0"))
    hardware = chip()

    async def handle(device: SimDevice) -> None:
        await uplink.over.wait()
        uplink.over.clear()
        boots = hardware.record.boots
        device.unplug()
        await asyncio.sleep(0.05)
        assert device.lamp == "dark" and hardware.record.boots == boots
        device.plug()
        await until(lambda: hardware.record.boots == boots + 1)
        device.reset()
        await until(lambda: hardware.record.boots == boots + 2)
        local = make_bytes("2.9.0-mine")
        assert device.flash_by_cable(local).version == "2.9.0-mine"
        await until(lambda: uplink.checkins[-1].running[APP].version == "2.9.0-mine")
        device.cut_link(600)
        assert not device.on_line and not await device.carry(10)

    await live(uplink, hardware, during=handle)
