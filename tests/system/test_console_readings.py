"""Readings in headless Chromium: plots are drawn, dragged and read back, and what an update did is seen."""

import gzip
import re
from collections.abc import Callable
from datetime import timedelta

import pytest
from playwright.sync_api import Page, expect

from mellow_herald.wire.readings import ListeningIn
from tests.harness.device import PuppetDevice
from tests.harness.service import RunningService
from tests.service.readings.test_change import DRAIN, fleet, send_hours, switch_three, watch
from tests.service.readings.test_readings import now_of
from tests.service.readings.test_recordings import announce, file_of, put, told
from tests.system.test_console import UNLABELLED, sign_in

__all__ = ["fleet"]
pytestmark = pytest.mark.system


def drag(page: Page, signal: str, begin: float, end: float, meanwhile: Callable[[], None] = lambda: None) -> None:
    """Over a share of a plot's width."""
    plot = page.get_by_test_id(f"plot-{signal}").locator(".u-over")
    plot.hover()  # comes into view, and waits until it stands still
    box = plot.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + begin * box["width"], box["y"] + 50)
    page.mouse.down()
    page.mouse.move(box["x"] + end * box["width"], box["y"] + 60, steps=8)
    meanwhile()
    page.mouse.up()


def test_readings_are_drawn_dragged_and_read_back(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    now = now_of(service)
    for number, device in enumerate(fleet):
        send_hours(device, now - 3600, 0.95, 60 + 5 * number, -1.0)
    asked = ListeningIn.model_validate({"where": "site = pilot", "signals": ["battery"], "every": "1m", "lasts": "1d"})
    service.herald.signals.listen(asked)
    sign_in(page)
    page.get_by_role("link", name="Readings").click()
    plot = page.get_by_test_id("plot-battery")
    expect(plot).to_contain_text("6 of 6 lines")
    expect(plot).to_contain_text("each value, in steps of")
    expect(page.get_by_test_id("listenings")).to_contain_text("site = pilot")
    row = page.get_by_test_id("signals").get_by_role("row", name="battery")
    expect(row).to_contain_text("comb-s1")

    # The cursor says what was sent at that moment.
    box = plot.locator(".u-over").bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + 80)
    legend = plot.locator(".u-legend")
    expect(legend).to_contain_text("TA-0")
    expect(legend.locator("tr", has_text="TA-3").locator("td")).to_have_text(re.compile(r"^7[45]\.\d* ?%?|^7[45] %"))

    # The page follows what comes in: whoever points at a moment, or drags, is not disturbed by it.
    def something_comes() -> None:
        with page.expect_response(re.compile(r"/api/v1/readings\?")) as answer:
            pass
        answer.value.finished()
        page.wait_for_timeout(300)

    shown = plot.locator(".u-legend tr", has_text="TA-3").locator("td")
    something_comes()
    expect(shown).not_to_have_text("–")
    # A stretch that is dragged over is asked for anew, finer, and a double click goes back.
    before = plot.locator(".head").inner_text()
    drag(page, "battery", 0.4, 0.5, meanwhile=something_comes)
    expect(page.get_by_test_id("stretch")).to_be_visible()
    expect(plot.locator(".head")).not_to_have_text(before)
    expect(plot).to_contain_text("in steps of 1 s")
    page.get_by_role("button", name="back").click()
    expect(page.get_by_test_id("stretch")).to_have_count(0)

    page.goto("/readings?where=serial%20%3D%20TA-1&signals=battery")
    expect(page.get_by_test_id("plot-battery")).to_contain_text("1 of 1 lines")
    page.goto("/fleet/TA-1")
    here = page.get_by_test_id("readings")
    expect(here.get_by_role("row", name="battery")).to_contain_text("%")
    expect(here.get_by_test_id("plot-battery").locator("canvas")).to_be_visible()
    assert page.evaluate(UNLABELLED) == []


def test_what_an_update_did_is_seen_on_its_rollout(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    begin = now_of(service)
    for device in fleet:
        send_hours(device, begin - 6 * 3600, 6, 80, -1.0)
    rollout_id = switch_three(service, fleet, readings=[DRAIN])
    service.pass_time(timedelta(hours=6))
    for number, device in enumerate(fleet):
        send_hours(device, begin + 60, 5.9, 79.7, -3.1 if number < 3 else -1.0)
        device.checkin()
    service.pass_time(timedelta(minutes=2))
    assert watch(service) == 3
    service.wait_for(rollout_id, lambda one: one.state == "halted")
    sign_in(page)
    page.goto(f"/rollouts/{rollout_id}")
    panel = page.get_by_test_id("before-and-after")
    expect(panel).to_contain_text("3 updated, 3 not updated")
    expect(panel.get_by_role("row", name="% a day")).to_contain_text("−3.1")
    expect(panel.get_by_role("row", name="% a day")).to_contain_text("−2.1 (−2.1")
    expect(panel.locator("canvas")).to_be_visible()


def test_a_recording_is_asked_for_followed_and_fetched_on_the_device_page(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    device = fleet[0]
    send_hours(device, now_of(service) - 3600, 0.95, 60, -1.0)
    sign_in(page)
    page.goto(f"/fleet/{device.serial}")
    panel = page.get_by_test_id("recordings")
    panel.get_by_role("button", name="Ask for this stretch at full rate").click()
    row = panel.get_by_role("row").last
    expect(row).to_contain_text("it learns of it when it next calls")
    record = told(device)
    body = file_of(record["begins"], 100)
    announce(device, record["number"], body).raise_for_status()
    put(device, record["number"], body, 0, 200).raise_for_status()
    expect(row).to_contain_text("200 B of")
    put(device, record["number"], body, 200, len(body)).raise_for_status()
    expect(row).to_contain_text("300 values")
    with page.expect_download() as kept:
        row.get_by_role("link", name="CSV").click()
    rows = gzip.decompress(kept.value.path().read_bytes()).decode().splitlines()
    assert rows[0].startswith("at,activity,weight") and len(rows) == 201
    panel.get_by_role("button", name="Ask for this stretch at full rate").click()
    panel.get_by_role("button", name="cancel").click()
    expect(panel).to_contain_text("cancelled: cancelled on the page")
    assert page.evaluate(UNLABELLED) == []
