"""Two releases compared by lot: planned, seen side by side and one of them chosen, in the console."""

import pytest
from playwright.sync_api import Page, expect

from tests.harness.device import PuppetDevice
from tests.harness.service import RunningService
from tests.service.rollouts.test_comparing import arms, fleet, go, told
from tests.system.test_console import UNLABELLED, sign_in

__all__ = ["fleet"]
pytestmark = pytest.mark.system


def test_two_releases_are_planned_compared_and_one_is_chosen(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    by_serial = {device.serial: device for device in fleet}
    sign_in(page)
    page.goto("/plan?release=comb-s1/hive-scale/2.5.0")
    expect(page.get_by_test_id("ring-0")).to_be_visible()
    page.get_by_label("compare two releases by lot").check()
    page.get_by_label("Other release").fill("comb-s1/hive-scale/2.5.1")
    page.get_by_label("The other, called").fill("new filter")
    expect(page.get_by_test_id("by-lot-new filter")).to_contain_text("5 devices get")
    page.get_by_role("button", name="Start", exact=True).click()
    page.get_by_role("dialog").get_by_role("button", name="start").click()
    expect(page.get_by_test_id("arms")).to_contain_text("nothing to compare yet")
    rollout_id = int(page.url.rsplit("/", 1)[1])
    lots = arms(service, rollout_id)
    for device in (by_serial[serials[0]] for _, serials in sorted(lots.items())):
        go(device, told(device), good=False)
    panel = page.get_by_test_id("arms")
    expect(panel).to_contain_text("new filter 1 bad of 1", timeout=30_000)
    assert page.evaluate(UNLABELLED) == []
    assert page.evaluate("document.documentElement.scrollWidth") <= 1280
    panel.get_by_role("button", name="Choose new filter for the rest").click()
    page.get_by_label("Reason, for the journal").fill("it has to come anyway")
    page.get_by_role("dialog").get_by_role("button", name="choose").click()
    expect(page.get_by_test_id("arm-new filter")).to_contain_text("chosen")
    assert service.herald.comparison.show(rollout_id).chosen == "new filter"
