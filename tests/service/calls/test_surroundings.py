"""What stands in a device's way: windows, restarts of its own, its gateway and the devices behind it."""

from datetime import timedelta

from tests.harness.device import PuppetDevice
from tests.harness.firmware import BOARD, LINE
from tests.harness.service import RunningService
from tests.service.calls.test_parts import fleet_digest
from tests.service.rollouts.test_rings import go_through_staged, plan


def test_windows_are_waited_for_in_each_devices_own_zone(service: RunningService) -> None:
    service.publish("2.4.0").raise_for_status()
    service.publish("2.5.0").raise_for_status()
    now, code, devices = service.context.clock.now(), service.code(), []
    for name, zone in (("TA-here", "UTC"), ("TA-far", "Pacific/Kiritimati")):
        device = PuppetDevice(service.url, name)
        device.enrol(code, labels={"tz": zone}).raise_for_status()
        device.checkin()
        devices.append(device)
    begin, end = now - timedelta(hours=1), now + timedelta(hours=1)
    window = {"begin": f"{begin:%H:%M}", "end": f"{end:%H:%M}", "use": "fetch"}
    calendar = {"zone_of": "device", "windows": [window]}
    rollout_id = service.herald.rollouts.start(plan([{"name": "all"}], calendar=calendar)).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    here, far = devices
    assert here.checkin().json()["order"] == "fetch"
    assert far.checkin().status_code == 204, "where it stands, it is another hour of the day"
    (attempt,) = service.herald.rollouts.attempts(rollout_id, waiting_for="window").items
    assert attempt.serial == "TA-far" and attempt.waiting_until is not None
    assert timedelta(hours=8) < attempt.waiting_until - now < timedelta(hours=12)


def test_what_is_loaded_first_is_switched_to_when_the_device_restarts_by_itself(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = service.herald.rollouts.start(plan([{"name": "all"}], switch="at-restart")).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    device = fleet[0]
    device.checkin()
    device.stage()
    assert device.checkin().json()["order"] == "stay"
    (attempt,) = service.herald.rollouts.attempts(rollout_id, state="staged").items
    assert "restart of its own" in str(attempt.waiting)
    device.boots += 1
    device.seq = 0
    assert device.checkin(after_restart=True).json()["order"] == "switch"


def test_a_gateway_goes_after_its_children_and_never_with_them(service: RunningService) -> None:
    service.publish("2.4.0").raise_for_status()
    service.publish("2.5.0").raise_for_status()
    code = service.code()
    gateway = PuppetDevice(service.url, "TA-G")
    children = [PuppetDevice(service.url, f"TA-C{n}") for n in range(2)]
    gateway.enrol(code).raise_for_status()
    for child in children:
        child.enrol(code, gateway="TA-G").raise_for_status()
    for device in (gateway, *children):
        device.checkin()
    rollout_id = service.herald.rollouts.start(plan([{"name": "all"}])).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    for device in (gateway, *children):
        device.checkin()
        device.stage()
    assert gateway.checkin().json()["order"] == "stay"
    (attempt,) = service.herald.rollouts.attempts(rollout_id, waiting_for="children").items
    assert attempt.serial == "TA-G"
    for child in children:
        go_through_staged(child)
    cleared = gateway.checkin().json()
    assert cleared["order"] == "switch"
    gateway.report("installing")
    older = f"{BOARD}/{LINE}/2.4.0"
    back = plan([{"name": "back"}], name="back", release=older, target="serial = TA-C0", allow=["older"])
    again = service.herald.rollouts.start(back).id
    service.wait_for(again, lambda r: r.rings[0].state == "open")
    child = children[0]
    child.checkin()
    child.report("downloading", percent=1)
    child.standby = {"app": {"version": "2.4.0", "digest": fleet_digest(service, "2.4.0"), "slot": "b", "floor": 4}}
    child.report("staged")
    assert child.checkin().json()["order"] == "stay", "its gateway is at risk"
    (attempt,) = service.herald.rollouts.attempts(again).items
    assert attempt.waiting_for == "gateway"
    child.report("failed", reason="download-broken", detail="no answer")
    timeline = service.herald.rollouts.timeline(attempt.id)
    assert timeline[0].detail == "while its gateway TA-G was being updated: no answer"
