"""Gateways, components and alarms in headless Chromium against the running service."""

from datetime import timedelta

import pytest
from playwright.sync_api import Page, expect

from tests.harness.device import PuppetDevice
from tests.harness.firmware import make_image
from tests.harness.service import RunningService
from tests.service.fleet.test_topology import YARD
from tests.service.rollouts.test_rings import plan
from tests.service.rollouts.test_switch_order import enrolled
from tests.system.test_console import UNLABELLED, sign_in

pytestmark = pytest.mark.system


def test_the_tree_shows_who_a_restart_cuts_off_without_a_reload(page: Page, service: RunningService) -> None:
    devices = enrolled(service, YARD)
    sign_in(page)
    page.goto("/fleet")
    page.get_by_role("link", name="Gateways").click()
    sensor = page.get_by_test_id("node-TA-1")
    expect(sensor).to_contain_text("online, heard")
    expect(page.get_by_test_id("node-TA-missing")).to_contain_text("never enrolled")
    expect(page.get_by_test_id("node-TA-G")).to_contain_text("3 behind it")
    gateway = devices["TA-G"]
    rollout_id = service.herald.rollouts.start(plan([{"name": "gateway"}], target="serial = TA-G")).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    gateway.checkin()
    gateway.stage()
    assert gateway.checkin().json()["order"] == "switch"
    gateway.report("installing")
    expect(sensor).to_contain_text("cut off by TA-G, when it is back is not known")
    expect(page.get_by_text("3 cut off by a restart")).to_be_visible()
    assert page.evaluate(UNLABELLED) == []
    assert page.evaluate("document.documentElement.scrollWidth") <= 1280
    gateway.switch()
    service.pass_time(timedelta(seconds=40))
    gateway.report("proving")
    gateway.report("confirmed")
    expect(sensor).to_contain_text("heard")
    noticed = (service.context.clock.now() - timedelta(seconds=20)).isoformat()
    devices["TA-1"].checkin(alarms=[{"kind": "upstream-lost", "about": "TA-Y", "at": noticed, "text": "no answer"}])
    page.reload()
    expect(page.get_by_role("link", name=f"the update of rollout {rollout_id}")).to_be_visible()
    page.get_by_role("link", name="TA-G", exact=True).first.click()
    expect(page.get_by_role("heading", level=1)).to_have_text("TA-G")


def test_the_part_that_failed_is_named_on_the_device_and_counted_on_the_rollout(
    page: Page, service: RunningService
) -> None:
    service.publish("2.4.0").raise_for_status()
    assets = make_image("1.0.0", component="assets", fill=b"\x11\x22")
    service.post_release(service.publisher.sealed([make_image("2.5.0"), assets])).raise_for_status()
    device = PuppetDevice(service.url, "TA-0")
    device.enrol(service.code()).raise_for_status()
    device.checkin()
    rollout_id = service.herald.rollouts.start(plan([{"name": "all"}])).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    device.checkin()
    sign_in(page)
    page.goto("/fleet/TA-0")
    part = page.get_by_test_id("part-assets")
    device.report("downloading", component="assets", percent=40, step="fetch")
    expect(part).to_contain_text("1.0.0")
    expect(part).to_contain_text("40 %")
    device.report("failed", reason="no-room", component="assets", detail="<i>4 kB</i> free")
    expect(part).to_contain_text("no-room: <i>4 kB</i> free")
    expect(page.get_by_test_id("part-app")).not_to_contain_text("no-room")
    page.goto(f"/rollouts/{rollout_id}")
    expect(page.get_by_role("heading", name="Parts that failed")).to_be_visible()
    page.get_by_test_id("failed-assets").click()
    expect(page.get_by_role("dialog")).to_contain_text("no-room")
