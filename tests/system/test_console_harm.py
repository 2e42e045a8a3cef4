"""What went wrong, and what stands still, in the console."""

import re

import pytest
from playwright.sync_api import Page, expect

from tests.harness.device import PuppetDevice
from tests.harness.service import RunningService
from tests.service.rollouts.test_life import begin, fleet, go_through
from tests.system.test_console import UNLABELLED, sign_in

__all__ = ["fleet"]
pytestmark = pytest.mark.system


def test_a_rollout_that_stands_still_is_brought_on_by_a_button(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    document = service.plan()
    rings = [{"name": "first", "count": 3, "soak": "0s"}, {"name": "rest", "opens": "by-hand", "soak": "0s"}]
    rollout_id = service.herald.rollouts.start(
        type(document).model_validate(
            {**document.model_dump(mode="json"), "rings": rings, "brake": {"firmware_limit": 0.9}}
        )
    ).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open" and r.rings[0].targeted == 3)
    chosen = {attempt.serial for attempt in service.herald.rollouts.attempts(rollout_id).items}
    bad, *good = [device for device in fleet if device.serial in chosen]
    bad.checkin()
    bad.stage()
    bad.checkin()
    bad.report("installing")
    bad.report("reverted", reason="self-test-failed", log="scale: no answer", detail="the scale does not answer")
    for device in good:
        go_through(device)
    service.wait_for(rollout_id, lambda r: r.stands_still is not None)
    sign_in(page)
    page.get_by_role("link", name=re.compile("does not move by itself: ring first stands still")).click()
    told = page.get_by_test_id("stands-still")
    expect(told).to_contain_text("2 of 3 devices are good, and the plan wants 90 %")
    expect(told).to_contain_text("go on without the devices of ring first that are not good · 1 device")
    expect(page.get_by_test_id("ring-1")).to_contain_text("ring first stands still; somebody says go")
    expect(page.get_by_role("row").nth(1)).to_contain_text(bad.serial)
    assert page.evaluate(UNLABELLED) == []
    page.get_by_role("button", name="change plan").click()
    page.get_by_role("spinbutton", name="Enough of ring first, %").fill("60")
    expect(page.get_by_test_id("effects")).to_contain_text("ring first is through with it: 2 of 3 devices are good")
    page.get_by_role("button", name="Leave it").click()
    page.get_by_test_id("choice-leave-out").click()
    expect(page.get_by_text("1 devices of ring first that are not good are left out")).to_be_visible()
    page.get_by_label("Reason, for the journal").fill("its scale is broken")
    page.get_by_role("dialog").get_by_role("button", name="leave out", exact=True).click()
    expect(told).to_have_count(0)
    expect(page.get_by_test_id("ring-1")).to_contain_text("awaiting-go")
    page.get_by_role("button", name="ever bad 1").click()
    expect(page.get_by_role("row").filter(has_text="left out")).to_have_count(1)
    page.reload()
    expect(page.get_by_text("devices left out: its scale is broken")).to_be_visible()


def test_a_bad_release_is_seen_understood_and_taken_back(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = begin(service)
    sign_in(page)
    page.goto(f"/rollouts/{rollout_id}")
    expect(page.get_by_text("Nobody has been told yet")).to_be_visible()
    go_through(fleet[0])
    fleet[0].checkin(after_restart=True)
    expect(page.get_by_test_id("brake-firmware")).to_contain_text("0 bad of 1 exposed")
    for device in fleet[1:]:
        device.checkin()
        device.stage()
        device.checkin()
    for device in fleet[1:]:
        device.report("reverted", reason="crashed")
    expect(page.get_by_test_id("rollout-state")).to_have_text("halted")
    expect(page.get_by_role("alert")).to_contain_text("firmware brake: evidence")
    expect(page.get_by_role("alert")).to_contain_text("bring its devices back")
    gauge = page.get_by_role("meter", name="Evidence of the firmware brake")
    expect(gauge).to_have_attribute("aria-valuenow", "40")
    expect(page.get_by_role("img", name="Evidence over time")).to_be_visible()
    expect(page.get_by_text("3 of 4 decided devices are bad")).to_be_visible()
    assert page.evaluate(UNLABELLED) == []

    page.get_by_role("button", name="resume", exact=True).click()
    expect(page.get_by_text("A new round begins")).to_be_visible()
    page.get_by_role("button", name="Leave it").click()
    page.get_by_role("button", name="roll back", exact=True).click()
    ways = page.get_by_role("dialog").get_by_test_id("way")
    expect(ways.filter(has_text="switch-back")).to_contain_text("1")
    expect(ways.filter(has_text="already-back")).to_contain_text("3")
    page.get_by_label("Reason, for the journal").fill("it crashes")
    page.get_by_role("dialog").get_by_role("button", name="roll back", exact=True).click()
    expect(page.get_by_role("heading", name=f"back from 2.5.0 (rollout {rollout_id})")).to_be_visible()
    order = fleet[0].checkin().json()
    assert order["order"] == "switch-back"
    fleet[0].report("installing")
    fleet[0].switch()
    fleet[0].checkin(after_restart=True)
    fleet[0].order = order
    fleet[0].report("confirmed")
    expect(page.get_by_test_id("rollout-state")).to_have_text("finished, carried-out")
    page.get_by_role("link", name=f"rollout {rollout_id}").click()
    expect(page.get_by_text("Rolled back by")).to_be_visible()

    page.goto(f"/fleet/{fleet[0].serial}")
    page.get_by_role("button", name="swap slots").click()
    page.get_by_label("Reason, for the journal").fill("try it here")
    page.get_by_role("button", name="swap", exact=True).click()
    expect(page.get_by_label("Reason, for the journal")).to_have_count(0)
    assert service.herald.rollouts.list().items[0].kind == "swap"
