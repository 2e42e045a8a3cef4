"""Several parts on one device: in order, streamed, at places; what fails takes all of them back, in reverse order."""

from collections.abc import AsyncIterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

from mellow_herald.core.behaviour import Behaviour, Fault, encode_behaviour
from mellow_herald.core.component import Kind
from mellow_herald.core.digest import sha256_hex
from mellow_herald.core.firmware import Image
from mellow_herald.core.manifest import join_envelope, manifest_digest, sign_manifest
from mellow_herald.core.order import Order
from mellow_herald.core.placed import Belongs, placed_bytes
from mellow_herald.core.seal import describe
from mellow_herald.core.settings import canonical
from mellow_herald.core.suit import encode_manifest
from mellow_herald.demo.yard import _certificate
from mellow_herald.sim.bootloader import APP, Slot
from mellow_herald.sim.certificates import serve_tls, why_not
from mellow_herald.sim.device import SimDevice
from mellow_herald.sim.hardware import Hardware, Layout, PartLayout, make_in_memory
from mellow_herald.sim.making import PlaceMaking
from mellow_herald.sim.update import groups_of
from mellow_herald.wire.device import Clearance, OrderOut
from tests.harness.firmware import BOARD, DOMAIN, LINE, load_image, make_bytes, make_image
from tests.sim.test_device import PUBLISHER, RunningTime, StringedUplink, making
from tests.sim.test_device import live as live_as

PUMP, SOUNDS, MAIN = "pump", "file/sounds", "settings/main"
LAYOUT = Layout(
    {
        APP: PartLayout(64 * 1024),
        PUMP: PartLayout(64 * 1024, streamed=True),
        SOUNDS: PartLayout(8192),
        MAIN: PartLayout(8192),
    }
)
BELONGS = Belongs(LINE, BOARD, "2.5.0", 4)
DAY, NIGHT = canonical({"every_s": 600}), canonical({"every_s": 1800})
OLD = {APP: make_bytes("2.4.0"), PUMP: make_bytes("1.0.0", component=PUMP), SOUNDS: b"hum " * 100, MAIN: DAY}


async def live(uplink: StringedUplink, hardware: Hardware, **more: Any) -> SimDevice:
    """Lets a device live whose place for sounds has an action."""
    places = more.pop("places", {})
    return await live_as(uplink, hardware, made=making(actions={SOUNDS: "import"}, places=places), **more)


class Serving(StringedUplink):
    """Serves a release of several parts, once."""

    def __init__(self, *images: Image, **options: Any) -> None:
        lead = next((one for one in images if one.nameplate.component == APP), None)
        super().__init__(lead or make_image("2.5.0"))
        version = {} if lead else {"version": "2.5.0"}
        body = encode_manifest(describe(images, DOMAIN, **version, **options))
        self.envelope, self.digest = join_envelope(sign_manifest(body, PUBLISHER.key), body), manifest_digest(body)
        self.to = {one.nameplate.component: one.digest for one in images}
        self.back: dict[str, str] = {}
        self._bytes = {one.digest: one.data for one in images}

    async def image(self, uri: str, have: int) -> AsyncIterator[bytes]:
        yield self._bytes[uri.rpartition("/")[2]][have:]

    async def checkin(self, said: Any, wait_s: int = 0) -> OrderOut:
        if self.back and self.reports and self.reports[-1]["state"] == "confirmed" and not said.trial:
            self.checkins.append(said)
            order = OrderOut(order=Order.SWITCH_BACK, attempt=2, next_checkin_s=60, trial_s=30)
            order.clearance, order.to, self.back = Clearance(number=2, seconds=600), self.back, {}
            return order
        return await super().checkin(said, wait_s)

    def told(self) -> dict[str, list[tuple[str, str | None]]]:
        """What was told of each part, in order."""
        found: dict[str, list[tuple[str, str | None]]] = {}
        for report in self.reports:
            for name, part in report.get("parts", {}).items():
                found.setdefault(name, []).append((part["state"], part.get("reason")))
        return found

    @property
    def last(self) -> dict[str, Any]:
        return self.reports[-1]


def part(component: str, version: str = "2.5.0", fault: Fault | None = None) -> Image:
    data = make_bytes(version, component=component, size=20_000)
    return load_image(data if fault is None else data + encode_behaviour([Behaviour("has serial", fault)]))


def sounds(fault: Fault | None = None) -> Image:
    data = b"whistle " * 100
    data = data if fault is None else data + encode_behaviour([Behaviour("has serial", fault)])
    return placed_bytes(Kind.FILE, "sounds", BELONGS, data)


def chip() -> Hardware:
    return make_in_memory(LAYOUT, OLD)


def in_use(hardware: Hardware) -> dict[str, str]:
    """What counts, read from the flash: by controller for what is streamed."""
    found = {}
    for name, part in hardware.record.parts.items():
        note = hardware.record.note(name, part.active)
        if note is not None:
            streamed = hardware.layout.parts[name].streamed
            found[name] = (
                hardware.controller_digest(name, note.size)
                if streamed
                else hardware.digest_of(name, part.active, note.size)
            )
    return found


AS_BEFORE = {name: sha256_hex(data) for name, data in OLD.items()}


async def test_parts_are_proved_in_their_order_and_confirmed_together() -> None:
    app, pump, file = part(APP), part(PUMP), sounds()
    uplink = Serving(app, pump, file, after={PUMP: [APP], SOUNDS: [PUMP]})
    device = await live(uplink, chip())
    assert uplink.last["state"] == "confirmed"
    told = uplink.told()
    assert [state for state, _ in told[PUMP] if state != "downloading"] == ["installing", "proving", "confirmed"]
    order = [
        name for report in uplink.reports for name, p in report.get("parts", {}).items() if p["state"] == "proving"
    ]
    assert order == [APP, PUMP, SOUNDS]
    new = {APP: app.digest, PUMP: pump.digest, SOUNDS: file.digest, MAIN: AS_BEFORE[MAIN]}
    assert in_use(device.hardware) == new and device.hardware.record.boots == 2, "one restart for the app alone"
    assert device.hardware.image(SOUNDS, Slot.A) == OLD[SOUNDS], "the former one is kept"


async def test_what_has_a_place_alone_needs_no_restart() -> None:
    device = await live(uplink := Serving(sounds()), chip())
    assert uplink.states() == ["downloading", "staged", "installing", "proving", "confirmed"]
    assert device.hardware.record.boots == 1 and in_use(device.hardware)[SOUNDS] == sounds().digest
    device = await live(uplink := Serving(sounds(), restart=True), chip())
    assert uplink.last["state"] == "confirmed" and device.hardware.record.boots == 2, "unless the release says so"


@pytest.mark.parametrize(
    ("fault", "said"), [(Fault.FAIL_ACTION, "ended with status 1"), (Fault.HANG_ACTION, "did not end within 60 s")]
)
async def test_an_action_that_fails_brings_the_former_file_back(fault: Fault, said: str) -> None:
    device = await live(uplink := Serving(sounds(fault)), chip())
    assert (uplink.last["state"], uplink.last["reason"]) == ("reverted", "action-failed")
    told = uplink.last["parts"][SOUNDS]
    assert said in told["detail"] and "running import for file/sounds" in told["log"]
    assert in_use(device.hardware) == AS_BEFORE
    assert "running import for file/sounds as it was" in uplink.last["log"], "the action is repeated for the former one"


async def test_a_broken_bus_takes_all_parts_back_in_reverse_order() -> None:
    uplink = Serving(part(APP), part(PUMP), sounds(), after={PUMP: [APP], SOUNDS: [APP]})
    bus = {PUMP: {"breaks_at": 3, "times": 3}}
    device = await live(uplink, chip(), bus=bus)
    assert (uplink.last["state"], uplink.last["reason"]) == ("reverted", "stream-broken")
    assert "last at block 3 of" in uplink.last["detail"]
    assert uplink.last["parts"][PUMP]["log"].count("no acknowledgement") == 3
    assert in_use(device.hardware) == AS_BEFORE
    back = [line for line in uplink.last["log"].splitlines() if "is back at" in line]
    named = [next(name for name in (SOUNDS, PUMP, APP) if f" {name} is back" in line) for line in back]
    assert named.index(PUMP) < named.index(APP), "what came last goes first"


async def test_a_bus_that_breaks_twice_is_tried_a_third_time() -> None:
    device = await live(uplink := Serving(part(PUMP)), chip(), bus={PUMP: {"breaks_at": 3, "times": 2}})
    assert uplink.last["state"] == "confirmed" and device.hardware.controller_has(PUMP, Slot.B)
    assert device.hardware.record.boots == 1, "the controller restarts, the device does not"


async def test_a_part_that_can_neither_go_on_nor_back_says_that_it_needs_a_cable() -> None:
    uplink = Serving(part(APP), part(PUMP), after={PUMP: [APP]})
    device = await live(uplink, chip(), bus={PUMP: {"breaks_at": 3}})
    assert (uplink.last["state"], uplink.last["reason"]) == ("reverted", "needs-cable")
    told = uplink.last["parts"][PUMP]
    assert (told["reason"], "cable" in told["detail"]) == ("needs-cable", True)
    assert in_use(device.hardware)[APP] == AS_BEFORE[APP], "the main controller runs, and is reached"
    shown = uplink.checkins[-1].running[PUMP]
    assert shown.slot == "broken" and shown.digest not in (AS_BEFORE[PUMP], part(PUMP).digest)
    assert device.lamp in ("needs help", "gone back")


async def test_an_independent_part_goes_back_alone_with_what_comes_after_it() -> None:
    app, pump, file = part(APP), part(PUMP, fault=Fault.FAIL_SELF_TEST), sounds()
    uplink = Serving(app, pump, file, after={PUMP: [APP], SOUNDS: [PUMP]}, independent=True)
    device = await live(uplink, chip())
    assert uplink.last["state"] == "confirmed" and uplink.told()[PUMP][-1] == ("reverted", "self-test-failed")
    assert in_use(device.hardware) == {**AS_BEFORE, APP: app.digest}, "what comes after it did not go on"
    assert uplink.last["digests"][PUMP] == AS_BEFORE[PUMP]


async def test_what_was_switched_goes_back_without_a_download_whichever_way_each_part_needs() -> None:
    app, pump, file = part(APP), part(PUMP), sounds()
    uplink = Serving(app, pump, file)
    uplink.back = {name: AS_BEFORE[name] for name in (APP, PUMP, SOUNDS)}
    device = await live(uplink, chip())
    assert [r["state"] for r in uplink.reports if r["attempt"] == 2][-1] == "confirmed"
    assert in_use(device.hardware) == AS_BEFORE


def settings(document: bytes, base: bytes | None) -> dict[str, Any]:
    image = placed_bytes(Kind.SETTINGS, "main", BELONGS, document)
    return {"image": image, "bases": {MAIN: sha256_hex(base)} if base else {}}


async def test_settings_replace_those_that_they_are_based_on_and_no_others() -> None:
    made = settings(NIGHT, DAY)
    device = await live(uplink := Serving(made["image"], bases=made["bases"]), chip())
    assert uplink.last["state"] == "confirmed" and in_use(device.hardware)[MAIN] == sha256_hex(NIGHT)
    assert uplink.checkins[-1].settings_digest == sha256_hex(NIGHT)
    changed = make_in_memory(LAYOUT, {**OLD, MAIN: canonical({"every_s": 300, "tare": 7})})
    device = await live(uplink := Serving(made["image"], bases=made["bases"]), changed)
    assert (uplink.last["state"], uplink.last["reason"]) == ("failed", "settings-changed")
    assert "every_s: 300 → 1800; tare: 7 → (not there)" in uplink.last["detail"]
    assert in_use(device.hardware)[MAIN] == sha256_hex(canonical({"every_s": 300, "tare": 7}))
    whatever = settings(NIGHT, None)
    device = await live(uplink := Serving(whatever["image"]), changed)
    assert uplink.last["state"] == "confirmed"


async def test_settings_that_somebody_changes_between_staging_and_switching_are_kept() -> None:
    made, hardware = settings(NIGHT, DAY), chip()
    by_hand = canonical({"every_s": 42})

    class Changing(Serving):
        async def checkin(self, said: Any, wait_s: int = 0) -> OrderOut:
            order = await super().checkin(said, wait_s)
            if order.order is Order.SWITCH:
                hardware.flash_by_cable(by_hand, MAIN, keep_trial=True)
            return order

    uplink = Changing(made["image"], bases=made["bases"])
    await live(uplink, hardware)
    assert (uplink.last["state"], uplink.last["reason"]) == ("failed", "settings-changed")
    assert in_use(hardware)[MAIN] == sha256_hex(by_hand)


async def test_settings_that_break_the_devices_schema_are_refused() -> None:
    places = {MAIN: PlaceMaking(schema={"properties": {"every_s": {"maximum": 900}}})}
    await live(uplink := Serving(settings(NIGHT, DAY)["image"]), chip(), places=places)
    assert uplink.last["reason"] == "refused-by-device" and "schema" in uplink.last["detail"]


def test_groups_follow_each_other_also_where_one_in_the_middle_is_left_out() -> None:
    after = {"b": ["a"], "c": ["b"], "d": []}
    assert groups_of(["a", "b", "c", "d"], after) == [["a", "d"], ["b"], ["c"]]
    assert groups_of(["a", "c"], after) == [["a"], ["c"]], "what comes after what comes after it"


@pytest.fixture(scope="module")
def authority(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A root, a port's and two certificates for one key, and one for another."""
    folder, now = tmp_path_factory.mktemp("authority"), datetime.now(UTC)
    keys = [ec.generate_private_key(ec.SECP256R1()) for _ in range(4)]
    root = _certificate("root", keys[0], None, None, now - timedelta(days=900), 3650, ca=True)
    issued = {"root": root, "port": _certificate("127.0.0.1", keys[1], root, keys[0], now - timedelta(days=9), 900)}
    for name, days in (("old", 800), ("new", 2)):
        issued[name] = _certificate("scales", keys[2], root, keys[0], now - timedelta(days=days), 900)
    issued["other"] = _certificate("scales", keys[3], root, keys[0], now - timedelta(days=2), 900)
    issued["stranger"] = _certificate("scales", keys[2], None, None, now - timedelta(days=2), 900)
    for name, one in issued.items():
        (folder / f"{name}.pem").write_bytes(one.public_bytes(Encoding.PEM))
    for name, key in (("port", keys[1]), ("scales", keys[2])):
        pem = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
        (folder / f"{name}.key").write_bytes(pem)
    assert x509.load_pem_x509_certificates((folder / "root.pem").read_bytes())
    return folder


async def test_a_chain_connects_or_is_told_why_not(authority: Path) -> None:
    def read(name: str) -> bytes:
        return (authority / name).read_bytes()

    files = (authority / "port.pem", authority / "port.key", authority / "root.pem")
    async with serve_tls(*files) as port:
        assert await why_not(port, read("new.pem"), read("scales.key"), read("root.pem"), None) is None
        refused = await why_not(port, read("stranger.pem"), read("scales.key"), read("root.pem"), None)
        assert refused is not None and ("refused" in refused or "closed" in refused)
    assert "refused" in str(await why_not(port, read("new.pem"), read("scales.key"), read("root.pem"), None))


@pytest.mark.parametrize(
    ("name", "clock_behind", "state", "reason"),
    [
        ("new", "0s", "confirmed", None),
        ("new", "400d", "reverted", "no-contact"),
        ("other", "0s", "failed", "refused-by-device"),
        ("stranger", "0s", "failed", "refused-by-device"),
    ],
)
async def test_a_certificate_counts_once_the_device_connected_with_it(
    authority: Path, name: str, clock_behind: str, state: str, reason: str | None
) -> None:
    uplink_name = "certificate/uplink"
    old = (authority / "old.pem").read_bytes()
    hardware = make_in_memory(
        Layout({APP: PartLayout(64 * 1024), uplink_name: PartLayout(8192)}), {APP: OLD[APP], uplink_name: old}
    )
    image = placed_bytes(Kind.CERTIFICATE, "uplink", BELONGS, (authority / f"{name}.pem").read_bytes())
    place = PlaceMaking(key=(authority / "scales.key").read_bytes(), trusted=(authority / "root.pem").read_bytes())
    files = (authority / "port.pem", authority / "port.key", authority / "root.pem")
    uplink = Serving(image)
    async with serve_tls(*files) as port:
        now = RunningTime(at=datetime.now(UTC))
        more = {"clock_behind": clock_behind, "tls_port": port, "time_": now}
        await live(uplink, hardware, places={uplink_name: place}, **more)
    assert (uplink.last["state"], uplink.last.get("reason")) == (state, reason)
    due = image.digest if state == "confirmed" else sha256_hex(old)
    assert in_use(hardware)[uplink_name] == due and hardware.record.boots == 1
    if reason == "no-contact":
        assert "by this device's clock" in uplink.last["parts"][uplink_name]["detail"]
