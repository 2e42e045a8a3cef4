"""A plan rehearsed, a call filed and looked at, a ring approved by somebody else: in the console."""

import re

import pytest
from playwright.sync_api import Page, expect

from mellow_herald.wire.person import Role
from tests.harness.device import PuppetDevice
from tests.harness.service import PASSWORD, RunningService
from tests.harness.team import join
from tests.service.rollouts.test_life import fleet, go_through
from tests.service.rollouts.test_rings import plan
from tests.system.test_console import UNLABELLED, sign_in

__all__ = ["fleet"]
pytestmark = pytest.mark.system
RINGS = [{"name": "bench", "count": 2, "soak": "0s", "enough": 0.1}, {"name": "rest", "soak": "0s", "enough": 0.1}]


def test_a_call_is_looked_at_and_a_ring_approved_on_one_page_by_a_colleague(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    join(service, "brook", [Role.OPERATOR]).close()
    more = {"brake": {"firmware_limit": 0.9}, "approval": {"rings": ["rest"]}, "harm": {"at_most": 3}}
    rollout_id = service.herald.rollouts.start(plan(RINGS, **more)).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    for device in [one for one in fleet if one.checkin().status_code == 200]:
        device.order = {}
        go_through(device)
    service.wait_for(rollout_id, lambda r: r.rings[1].asks == "approval")
    page.goto(f"/rollouts/{rollout_id}")
    page.get_by_label("Name").fill("brook")
    page.get_by_label("Password").fill(PASSWORD)
    page.keyboard.press("Enter")
    expect(page.get_by_text("awaits another person's approval")).to_be_visible()
    expect(page.get_by_test_id("harm-budget")).to_contain_text("0 of at most 3 hurt")
    outside = page.get_by_test_id("outside")
    outside.get_by_role("button", name="file a call or alarm").click()
    page.get_by_label("What was said").fill("somebody's scale is slow")
    page.get_by_role("button", name="file", exact=True).click()
    expect(outside).to_contain_text("the next ring waits until somebody has looked")
    outside.get_by_role("button", name="acknowledge").click()
    page.get_by_label("it has nothing to do with the release").check()
    page.get_by_label("Reason, for the journal").fill("an old scale of another make")
    page.get_by_role("dialog").get_by_role("button", name="acknowledge").click()
    expect(outside).to_contain_text("acknowledged by brook, unrelated")
    assert page.evaluate(UNLABELLED) == []
    page.get_by_test_id("choice-approve").click()
    seen = page.get_by_test_id("to-approve")
    expect(seen).to_contain_text("firmware brake")
    expect(seen).to_contain_text("somebody's scale is slow (acknowledged by brook, unrelated)")
    page.get_by_label("Reason, for the journal").fill("the bench is well")
    page.get_by_role("dialog").get_by_role("button", name="approve").click()
    expect(page.get_by_test_id("ring-1")).to_contain_text("open, soak")
    (given,) = service.herald.approvals.show(rollout_id).approvals
    assert given.by == "brook" and given.shown["evidence"]["items"][0]["unrelated"]


def test_a_plan_is_rehearsed_beside_its_preview_and_started(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    sign_in(page)
    page.goto("/plan?release=comb-s1/hive-scale/2.5.0")
    expect(page.get_by_test_id("ring-0")).to_be_visible()
    page.get_by_role("button", name="Rehearsal").click()
    faults = page.get_by_label("Faults, one a line")
    faults.fill("none\n0.5 exploded")
    page.get_by_role("button", name="Rehearse", exact=True).click()
    expect(page.get_by_text("no reason by which devices go bad")).to_be_visible()
    faults.fill("none\n0.5 crashed")
    page.get_by_role("button", name="Rehearse", exact=True).click()
    expect(page.get_by_test_id("fault-none")).to_contain_text("100 % of all runs", timeout=120_000)
    expect(page.get_by_test_id("fault-0.5 crashed")).to_contain_text(re.compile(r"Hurt \d"))
    assert page.evaluate(UNLABELLED) == []
    assert page.evaluate("document.documentElement.scrollWidth") <= 1280
    page.get_by_role("button", name="Start", exact=True).click()
    page.get_by_role("dialog").get_by_role("button", name="start").click()
    expect(page.get_by_test_id("was-rehearsed")).to_contain_text("Rehearsal 1 by admin")
