"""Chart pages in headless Chromium: laid out, kept, read back, exchanged as files."""

import json
import re
from pathlib import Path

import pytest
from playwright.sync_api import Locator, Page, expect

from mellow_herald.wire.charts import ChartPageChange
from mellow_herald.wire.person import Role
from tests.harness.device import PuppetDevice
from tests.harness.service import PASSWORD, RunningService
from tests.harness.team import add_person
from tests.service.readings.test_readings import board, now_of
from tests.system.test_console import UNLABELLED, sign_in
from tests.system.test_console_readings import drag

pytestmark = pytest.mark.system


@pytest.fixture
def scales(service: RunningService) -> None:
    """Two scales, whose weight falls as it grows warm, with words for what they do; half an hour of it."""
    service.herald.boards.add(board())
    begin = now_of(service) - 1800
    for number in range(2):
        device = PuppetDevice(service.url, f"TA-{number}")
        device.enrol(service.code(), labels={"site": "fernhollow"}).raise_for_status()
        device.checkin()
        steps = range(0, 1800, 10)
        values = {
            "temperature": [10 + at / 100 for at in steps],
            "weight": [40 + 10 * number - at / 200 for at in steps],
            "activity": ["resting" if at < 900 else "weighing" for at in steps],
        }
        sent = {"blocks": [{"at": begin, "after_ms": [1000 * at for at in steps], "values": values}]}
        device.post("/readings", json.dumps(sent).encode()).raise_for_status()


def choose(page: Page, label: str, *names: str) -> None:
    page.get_by_role("combobox", name=label).click(force=True)
    for name in names:
        page.get_by_role("option", name=name, exact=True).click()
    page.keyboard.press("Escape")
    expect(page.get_by_role("option")).to_have_count(0)


def over(plot: Locator) -> dict[str, float]:
    plot.locator(".u-over").hover()  # comes into view, and waits until it stands still
    box = plot.locator(".u-over").bounding_box()
    assert box is not None
    return dict(box)  # type: ignore[arg-type]


def test_a_page_is_laid_out_kept_and_read_back(page: Page, service: RunningService, scales: None) -> None:
    sign_in(page)
    page.goto("/readings?where=site%20%3D%20fernhollow&signals=weight")
    page.get_by_role("link", name="Lay one out").click()
    page.get_by_label("Name", exact=True).fill("Weighing at night")
    choose(page, "Signals of row 1", "activity")
    page.get_by_role("button", name="Another row").click()
    choose(page, "Signals of row 2", "weight", "temperature")
    page.get_by_role("button", name="Another row").click()
    choose(page, "Signals of row 3", "weight")
    choose(page, "Row 3 against", "temperature")
    first, both, dots = (
        page.get_by_test_id(f"plot-{name}")
        for name in ("weight+activity", "weight+temperature", "weight-against-temperature")
    )
    expect(first).to_contain_text("kg · 4 of 4 lines")
    expect(first.get_by_title(re.compile("^weighing from"))).to_have_count(2)
    expect(both).to_contain_text("kg, Cel · 4 of 4 lines")
    expect(dots).to_contain_text("2 of 2 lines")

    # The cursor stands at the same moment in all rows that have a time axis.
    box = over(first)
    page.mouse.move(box["x"] + box["width"] * 0.75, box["y"] + 60)
    values = [one.locator(".u-legend tr").first.locator("td") for one in (first, both)]
    expect(values[0]).to_have_text(re.compile(r"\d\d:\d\d:\d\d$"))
    assert values[0].inner_text() == values[1].inner_text()
    # Against the other signal, a dot says both.
    box = over(dots)
    page.mouse.move(box["x"] + box["width"] * 0.5, box["y"] + 60)
    expect(dots.locator(".u-legend")).to_contain_text("temperature")
    expect(dots.locator(".u-legend tr").first.locator("td")).to_have_text(re.compile(r"^\d+(\.\d+)? Cel$"))

    # A stretch dragged over in one row is shown by all.
    before = both.locator(".head").inner_text()
    drag(page, "weight+activity", 0.6, 0.7)
    expect(page.get_by_test_id("stretch")).to_be_visible()
    expect(both.locator(".head")).not_to_have_text(before)
    page.get_by_role("button", name="back").click()

    # Rows are moved, made higher, and taken away.
    page.get_by_role("button", name="Row 2 up").click()
    expect(page.get_by_test_id("chart-row").first.get_by_test_id("plot-weight+temperature")).to_be_visible()
    expect(both).to_contain_text("4 of 4 lines")
    edge = page.get_by_role("separator", name="Height of weight, temperature").first
    edge.hover()  # waits until it stands still
    place = edge.bounding_box()
    assert place is not None
    page.mouse.move(place["x"] + 40, place["y"] + 2)
    page.mouse.down()
    page.mouse.move(place["x"] + 40, place["y"] + 92, steps=6)
    page.mouse.up()
    expect(edge).to_have_attribute("aria-valuenow", "300")
    edge.press("ArrowUp")
    expect(edge).to_have_attribute("aria-valuenow", "280")
    page.get_by_label("for everybody").check()
    page.get_by_role("button", name="Keep", exact=True).click()
    expect(page).to_have_url(re.compile(r"/readings/pages/1$"))
    (kept,) = service.herald.charts.list()
    assert (kept.name, kept.shared, kept.where) == ("Weighing at night", True, "site = fernhollow")
    assert [(row.signals, row.against, row.height) for row in kept.rows] == [
        (["weight", "temperature"], None, 280),
        (["weight", "activity"], None, 210),
        (["weight"], "temperature", 210),
    ]
    # Somebody else changes it meanwhile: that is said, and what was laid out can be kept as a copy.
    changed = ChartPageChange(**kept.document().model_dump(), shared=True, edition=1)
    service.herald.charts.change(kept.id, changed)
    page.get_by_role("button", name="Lay out").click()
    page.get_by_label("Name", exact=True).fill("Weighing by day")
    page.get_by_role("button", name="Keep the change").click()
    expect(page.get_by_test_id("wrong")).to_contain_text("was changed at")
    page.get_by_role("button", name="Keep a copy").click()
    expect(page).to_have_url(re.compile(r"/readings/pages/2$"))
    assert [one.name for one in service.herald.charts.list()] == ["Weighing at night", "Weighing by day"]
    page.goto("/readings/pages/1")
    expect(page.get_by_role("heading", name="Weighing at night")).to_be_visible()
    expect(page.get_by_role("separator", name="Height of weight, temperature")).to_have_attribute(
        "aria-valuenow", "280"
    )
    assert page.evaluate(UNLABELLED) == []


def test_names_and_colours_are_ones_own_and_pages_go_from_hand_to_hand(
    page: Page, service: RunningService, scales: None, tmp_path: Path
) -> None:
    file = tmp_path / "night.toml"
    file.write_text('name = "Night"\nwhere = "site = fernhollow"\nlast = "45m"\n\n[[rows]]\nsignals = ["weight"]\n')
    sign_in(page)
    page.goto("/readings/pages/new")
    page.get_by_label("Read TOML").set_input_files(file)
    plot = page.get_by_test_id("plot-weight")
    expect(plot).to_contain_text("2 of 2 lines")
    expect(page.get_by_role("button", name="45m")).to_be_visible()
    plot.get_by_role("button", name="names and colours").click()
    page.get_by_label("Name of TA-0").fill("by the oak")
    page.get_by_label("Colour of TA-0").fill("#aa3355")
    page.get_by_test_id("line-styles").get_by_role("button", name="Keep", exact=True).click()
    expect(plot.locator(".u-legend")).to_contain_text("by the oak")
    assert [(one.series, one.signal, one.name, one.colour) for one in service.herald.charts.styles()] == [
        ("TA-0", "weight", "by the oak", "#aa3355")
    ]
    mark = plot.locator(".u-legend tr", has_text="by the oak").locator(".u-marker")
    assert "rgb(170, 51, 85)" in mark.evaluate("one => getComputedStyle(one).border")

    page.get_by_label("for everybody").check()
    page.get_by_role("button", name="Keep", exact=True).click()
    expect(page).to_have_url(re.compile(r"/readings/pages/1$"))
    with page.expect_download() as begun:
        page.get_by_role("button", name="Write TOML").click()
    written = Path(begun.value.path()).read_text()
    assert 'name = "Night"' in written and "shared" not in written

    # Somebody else sees the page, names of their own, and changes a copy.
    add_person(service, "rowan", Role.VIEWER).close()
    page.get_by_role("button", name="Sign out").click()
    page.get_by_label("Name").fill("rowan")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("link", name="Readings").click()
    page.get_by_test_id("chart-pages").get_by_role("link", name="Night").click()
    expect(page.get_by_text("admin's, for everybody")).to_be_visible()
    expect(plot.locator(".u-legend")).to_contain_text("TA-0")
    expect(plot.locator(".u-legend")).not_to_contain_text("by the oak")
    page.get_by_role("button", name="Lay out").click()
    choose(page, "Signals of row 1", "temperature")
    page.get_by_role("button", name="Keep a copy").click()
    expect(page).to_have_url(re.compile(r"/readings/pages/2$"))
    assert [one.rows[0].signals for one in service.herald.charts.list()] == [["weight"], ["weight", "temperature"]]

    # A file that is none says so, and what was laid out stays.
    page.get_by_role("button", name="Lay out").click()
    file.write_text('name = "Night"\nlasts = "1h"')
    page.get_by_label("Read TOML").set_input_files(file)
    expect(page.get_by_test_id("wrong")).to_contain_text("night.toml: lasts: a chart page has")
    page.get_by_role("button", name="Drop …").click()
    page.get_by_role("dialog").get_by_role("button", name="Drop", exact=True).click()
    expect(page).to_have_url(re.compile(r"/readings$|/readings\?"))
    assert [one.made_by for one in service.herald.charts.list()] == ["admin"]
