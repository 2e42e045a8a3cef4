"""Everybody gets in: no page or dialog with a serious fault of accessibility, and everything by keyboard alone."""

import re
from contextlib import suppress
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from mellow_herald.core.presence import Presence
from mellow_herald.service.fleet.lineage import sample
from tests.harness.device import PuppetDevice
from tests.harness.service import PASSWORD, RunningService
from tests.service.rollouts.test_life import begin, fleet
from tests.system.test_console import sign_in

__all__ = ["fleet"]
pytestmark = pytest.mark.system
AXE = Path(__file__).parents[2] / "console" / "node_modules" / "axe-core" / "axe.min.js"
SERIOUS = ("serious", "critical")
ASK = """async (options) => (
  await axe.run(document, { resultTypes: ['violations'], ...options })
).violations.map((one) => ({
  id: one.id, impact: one.impact, nodes: one.nodes.map((node) => node.html.slice(0, 160)),
}))"""
# In the dark only the colours are others.
COLOURS = {"runOnly": ["color-contrast"]}
PAGES = {
    "/": "Now",
    "/fleet": "Fleet",
    "/fleet/TA-0": "TA-0",
    "/lineage": "Lineage",
    "/lineage/2": "2.5.0",
    "/plan": "Plan",
    "/rollouts": "Rollouts",
    "/rollouts/1": "2.5.0 to all",
    "/journal": "Journal",
    "/keys": "Keys and boards",
    "/people": "People",
    "/nowhere": "There is no such page",
}
DIALOGS = (
    ("/fleet/TA-0", "install a release"),
    ("/fleet/TA-0", "to the bench …"),
    ("/fleet/TA-0", "pin …"),
    ("/fleet/TA-0", "Edit"),
    ("/people", "change my password …"),
    ("/plan", "paste serials …"),
    ("/lineage", "What could be cleaned away?"),
    ("/lineage/2", "withdraw"),
    ("/rollouts/1", "hold"),
    ("/rollouts/1", "halt"),
    ("/rollouts/1", "Look at the timeline of TA-0"),
)


def faults(page: Page) -> list[Any]:
    """What axe finds serious on the page as it stands, in light and in dark."""
    page.evaluate(AXE.read_text())
    found = []
    for scheme, options in (("light", {}), ("dark", COLOURS)):
        page.emulate_media(color_scheme=scheme)  # type: ignore[arg-type]
        expect(page.locator(f".v-application.v-theme--{scheme}")).to_be_visible()
        page.wait_for_timeout(800)  # until colours and dialogs have come to rest
        found += [(scheme, one) for one in page.evaluate(ASK, options) if one["impact"] in SERIOUS]
    page.emulate_media(color_scheme="light")
    return found


@pytest.fixture
def moving(page: Page, service: RunningService, fleet: list[PuppetDevice]) -> Page:
    """Signed in, with a rollout on its way in which something failed."""
    begin(service)
    fleet[0].checkin()
    fleet[0].report("failed", reason="no-room")
    service.call(sample(service.context))
    assert faults(_open(page, "/sign-in")) == []
    sign_in(page)
    return page


def _open(page: Page, address: str) -> Page:
    page.goto(address)
    expect(page.get_by_role("heading", level=1)).to_be_visible()
    return page


def open_dialog(page: Page, button: str) -> None:
    """Clicks, and once more if the page was drawn anew between the button's going down and its coming up."""
    wanted = page.get_by_role("button", name=button, exact=True).first
    wanted.click()
    with suppress(AssertionError):
        expect(page.get_by_role("dialog")).to_be_visible(timeout=3000)
        return
    wanted.click()
    expect(page.get_by_role("dialog")).to_be_visible()


def test_no_page_and_no_dialog_has_a_serious_fault_of_accessibility(moving: Page) -> None:
    for address, heading in PAGES.items():
        _open(moving, address)
        expect(moving.get_by_role("heading", level=1)).to_have_text(heading)
        assert faults(moving) == [], address
    for address, button in DIALOGS:
        _open(moving, address)
        open_dialog(moving, button)
        assert faults(moving) == [], (address, button)
    _open(moving, "/fleet")
    moving.get_by_role("button", name="columns …").click()
    expect(moving.get_by_label("Digest")).to_be_visible()
    assert faults(moving) == []


def tab_to(page: Page, wanted: str) -> None:
    """Goes on by the Tab key until the element of this accessible name has the focus."""
    label = "(e.labels && e.labels[0] && e.labels[0].textContent)"
    named = f"e => (e.getAttribute('aria-label') || {label} || e.textContent || '').trim()"
    seen = []
    for _ in range(150):
        page.keyboard.press("Tab")
        seen.append(page.evaluate(f"() => ({named})(document.activeElement)"))
        if re.fullmatch(wanted, seen[-1]):
            return
    raise AssertionError(f"{wanted!r} is not reached: {seen}")


def test_from_sign_in_to_a_started_rollout_by_keyboard_alone(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    keyboard = page.keyboard
    page.goto("/")
    expect(page).to_have_url("/sign-in?to=/")
    tab_to(page, "Name")
    keyboard.type("admin")
    tab_to(page, "Password")
    keyboard.type(PASSWORD)
    keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Now")).to_be_visible()
    tab_to(page, "Rollouts")
    keyboard.press("Enter")
    expect(page).to_have_url("/rollouts")
    tab_to(page, "Plan a rollout")
    keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Plan", exact=True)).to_be_visible()
    tab_to(page, "Release")
    keyboard.press("Control+A")
    keyboard.type("comb-s1/hive-scale/2.5.0")
    keyboard.press("Enter")
    keyboard.press("Escape")
    tab_to(page, "Name of the rollout")
    keyboard.press("Control+A")
    keyboard.type("by keyboard")
    tab_to(page, "Selector, then Enter")
    keyboard.press("Control+A")
    keyboard.type("board = comb-s1")
    keyboard.press("Escape")
    expect(page.get_by_text(re.compile("4 targeted|4 devices")).first).to_be_visible()
    tab_to(page, "Start|start")
    keyboard.press("Enter")
    expect(page.get_by_role("dialog")).to_be_visible()
    tab_to(page, "Start|start")
    keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/rollouts/1$"))
    assert service.herald.rollouts.show(1).name == "by keyboard"


def test_charts_answer_to_pointer_and_keyboard(page: Page, service: RunningService, fleet: list[PuppetDevice]) -> None:
    for _ in range(3):
        service.call(sample(service.context))
        service.pass_time(timedelta(minutes=4))
        fleet[0].checkin()
    service.call(sample(service.context))
    sign_in(page)
    reading = page.get_by_role("slider", name="Presence at a moment")
    expect(reading).to_contain_text(Presence.ONLINE.value)
    last = int(str(reading.get_attribute("aria-valuemax")))
    assert last >= 1
    reading.focus()
    page.keyboard.press("ArrowLeft")
    expect(reading).to_have_attribute("aria-valuenow", str(last - 1))
    page.keyboard.press("Home")
    expect(reading).to_have_attribute("aria-valuenow", "0")
    first = str(reading.get_attribute("aria-valuetext"))
    assert re.match(r"\d\d-\d\d \d\d:\d\d: \d+ online, \d+ late, \d+ offline", first), first
    page.keyboard.press("End")
    assert reading.get_attribute("aria-valuetext") != first
    box = page.locator(".plot").first.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + 2, box["y"] + box["height"] / 2)
    expect(reading).to_have_attribute("aria-valuetext", first)


def test_columns_of_the_fleet_are_chosen_sorted_and_remembered(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    service.herald.devices.label(["TA-1"], {"site": "quillmere"})
    service.herald.devices.label(["TA-2"], {"site": "fernhollow"})
    sign_in(page)
    _open(page, "/fleet")
    page.get_by_role("button", name="columns …").click()
    page.get_by_label("Floor").check()
    page.keyboard.press("Escape")
    expect(page.get_by_role("columnheader", name="Floor")).to_be_visible()
    page.get_by_role("button", name="site", exact=True).click()
    expect(page).to_have_url("/fleet?by=label.site")
    expect(page.locator("tbody tr").first).to_contain_text("TA-2")
    expect(page.get_by_role("columnheader", name="site")).to_have_attribute("aria-sort", "ascending")
    page.get_by_role("button", name="Serial").click()
    expect(page.locator("tbody tr").first).to_contain_text("TA-3")
    page.reload()
    expect(page.get_by_role("columnheader", name="Floor")).to_be_visible()
    expect(page.locator("tbody tr").first).to_contain_text("TA-3")


def test_the_journal_is_filtered(page: Page, service: RunningService, fleet: list[PuppetDevice]) -> None:
    service.herald.devices.label(["TA-1"], {"site": "quillmere"}, reason="moved to the orchard")
    sign_in(page)
    _open(page, "/journal")
    expect(page.get_by_text("moved to the orchard")).to_be_visible()
    expect(page.get_by_role("cell", name="enrolled", exact=True)).to_have_count(0)
    page.get_by_label("with devices that enrolled").check()
    expect(page.get_by_role("cell", name="enrolled", exact=True)).to_have_count(4)
    page.get_by_role("textbox", name="Words anywhere").fill("orchard")
    expect(page.locator("tbody tr")).to_have_count(1)
    page.get_by_role("textbox", name="Who", exact=True).fill("nobody")
    expect(page.get_by_text("Nothing in the journal fits")).to_be_visible()


def test_a_build_is_brought_to_a_device_from_its_page(
    page: Page, service: RunningService, fleet: list[PuppetDevice], tmp_path: Path
) -> None:
    file = tmp_path / "build.suit"
    file.write_bytes(service.publisher.release_file("2.9.0-dev"))
    (tmp_path / "build.bin").write_bytes(b"\x7fELF and more of it")
    sign_in(page)
    _open(page, "/fleet/TA-1")
    expect(page.get_by_text("could take it")).to_be_visible()
    page.get_by_role("button", name="to the bench …").click()
    page.get_by_role("dialog").get_by_label("Reason").fill("on my desk")
    page.keyboard.press("Enter")
    expect(page.get_by_text("bench device", exact=True)).to_be_visible()
    picker = page.get_by_label("A sealed build for this device")
    picker.set_input_files(tmp_path / "build.bin")
    expect(page.get_by_text("herald device install TA-1 build.bin --key KEY")).to_be_visible()
    picker.set_input_files(file)
    expect(page.get_by_text("2.9.0-dev").first).to_be_visible()
    assert service.herald.rollouts.list().items[0].release == "comb-s1/hive-scale/2.9.0-dev"
    assert service.herald.devices.releases("TA-1").history[0].scratch


def test_a_pasted_list_becomes_the_target(page: Page, service: RunningService, fleet: list[PuppetDevice]) -> None:
    sign_in(page)
    _open(page, "/plan")
    page.get_by_role("button", name="paste serials …").click()
    page.get_by_label("One serial a line").fill("TA-0\nTA-1\nTA-9\nTA-0\n")
    page.get_by_role("button", name="Take as target").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("names 3 devices")
    expect(dialog.get_by_role("row", name=re.compile("3 TA-9 unknown"))).to_be_visible()
    expect(dialog.get_by_role("row", name=re.compile("4 TA-0 doubled"))).to_be_visible()
    dialog.get_by_role("button", name="Close").click()
    expect(page.get_by_role("combobox", name="Selector, then Enter")).to_have_value("in_list = 1")
