"""The console in headless Chromium against the running service."""

import re
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from mellow_herald.service.fleet.lineage import sample
from tests.harness.device import PuppetDevice
from tests.harness.firmware import make_bytes
from tests.harness.service import PASSWORD, RunningService
from tests.service.fleet.test_admission import asking
from tests.service.rollouts.test_life import begin, fleet, go_through

__all__ = ["fleet"]
pytestmark = pytest.mark.system
UNLABELLED = """() => [...document.querySelectorAll('button, a, input, img, svg[role=img]')].filter((e) => {
  if (e.type === 'hidden') return false  // nobody sees, hears or reaches it
  if (e.getAttribute('aria-hidden') === 'true' || e.closest('[aria-hidden=true]')) return false
  const label = e.getAttribute('aria-label') ?? e.getAttribute('alt') ?? e.textContent.trim()
  return !label && !(e.labels && e.labels.length)
}).map((e) => e.outerHTML.slice(0, 120))"""


def sign_in(page: Page) -> None:
    page.goto("/")
    expect(page).to_have_url("/sign-in?to=/")
    page.get_by_label("Name").fill("admin")
    page.get_by_label("Password").fill(PASSWORD)
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Now")).to_be_visible()


def test_signing_in_and_watching_a_rollout_finish(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    page.goto("/")
    page.get_by_label("Name").fill("admin")
    page.get_by_label("Password").fill("wrong")
    page.keyboard.press("Enter")
    expect(page.get_by_text("Name or password is wrong")).to_be_visible()
    sign_in(page)
    expect(page.get_by_text("No rollout is under way")).to_be_visible()

    begin(service)
    page.get_by_role("link", name="2.5.0 to all").click()
    expect(page).to_have_url("/rollouts/1")
    state = page.get_by_test_id("rollout-state")
    expect(state).to_have_text("running")
    expect(page.get_by_role("img", name="ring everyone, open, 0 of 4 confirmed")).to_be_visible()
    for device in fleet[:3]:
        go_through(device)
    # Nobody reloads the page: the numbers come by the event stream.
    expect(page.get_by_role("img", name="ring everyone, open, 3 of 4 confirmed")).to_be_visible()
    go_through(fleet[3])
    expect(state).to_have_text("finished, carried-out")
    expect(page.get_by_role("img", name="ring everyone, done, 4 of 4 confirmed")).to_be_visible()
    page.get_by_role("button", name="Look at the timeline of TA-0").click()
    expect(page.get_by_role("dialog")).to_contain_text("1 self-tests passed")


def test_every_page_shows_what_there_is_in_light_and_dark(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    sign_in(page)
    begin(service)
    fleet[0].checkin()
    fleet[0].report("failed", reason="no-room", detail="<b>not markup</b>")
    for scheme in ("light", "dark"):
        page.emulate_media(color_scheme=scheme)  # type: ignore[arg-type]
        for address, heading, text in (
            ("/", "Now", "service time"),
            ("/fleet", "Fleet", "TA-3"),
            ("/fleet/TA-0", "TA-0", "<b>not markup</b>"),
            ("/lineage", "Lineage", "2.5.0"),
            ("/lineage/2", "2.5.0", "read from the image"),
            ("/keys", "Keys and boards", "signs new releases"),
            ("/rollouts", "Rollouts", "2.5.0 to all"),
            ("/rollouts/1", "2.5.0 to all", "no-room"),
            ("/journal", "Journal", "ring 1 opened"),
        ):
            page.goto(address)
            expect(page.get_by_role("heading", level=1)).to_have_text(heading)
            expect(page.get_by_text(text).first).to_be_visible()
            assert page.evaluate(UNLABELLED) == [], address
            assert page.evaluate("document.documentElement.scrollWidth") <= 1280, address
            dark = page.evaluate("getComputedStyle(document.querySelector('.v-application')).backgroundColor")
            assert (sum(map(int, dark.strip("rgb()").split(", "))) < 200) == (scheme == "dark")
    page.goto("/fleet")
    page.get_by_role("combobox", name="Selector, then Enter").fill("hw_rev = 2")
    page.keyboard.press("Enter")
    expect(page.get_by_text("1 of 1 devices")).to_be_visible()
    page.get_by_role("combobox", name="Selector, then Enter").fill("hw_rev == 2")
    page.keyboard.press("Enter")
    expect(page.get_by_text("goes wrong at character")).to_be_visible()


def test_halting_asks_for_a_reason_and_shows_what_it_does(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    sign_in(page)
    begin(service)
    page.goto("/rollouts/1")
    page.get_by_role("button", name="halt").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("4 attempts are called off. 0 devices have clearance already")
    expect(dialog.get_by_role("button", name="halt")).to_be_disabled()
    dialog.get_by_label("Reason").fill("calls from the field")
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("rollout-state")).to_have_text("halted")
    expect(page.get_by_text("Halted: calls from the field.")).to_be_visible()
    expect(page.get_by_role("button", name="called-off 4")).to_be_visible()


def test_the_river_shows_who_runs_what_and_the_rollout_across(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    begin(service)
    service.call(sample(service.context))
    for device in fleet:
        go_through(device)
    service.wait_for(1, lambda r: r.state == "finished")
    service.call(sample(service.context))
    sign_in(page)
    page.goto("/lineage")
    expect(page.get_by_role("group", name="now 4 run 2.5.0")).to_be_visible()
    page.get_by_role("textbox", name="Filter").fill("version < 2.5.0")
    page.keyboard.press("Enter")
    expect(page.get_by_text("1 of 2")).to_be_visible()
    page.get_by_role("textbox", name="Filter").fill("version ==")
    page.keyboard.press("Enter")
    expect(page.get_by_text("goes wrong at character")).to_be_visible()
    page.get_by_role("link", name="1 → 2.5.0, rollout 1, finished").click()
    expect(page).to_have_url("/rollouts/1")


def test_a_release_file_is_dropped_and_firmware_is_told_the_line_that_seals_it(
    page: Page, service: RunningService, tmp_path: Path
) -> None:
    sign_in(page)
    page.goto("/lineage")
    expect(page.get_by_text("Nothing is published yet")).to_be_visible()
    picker = page.locator("input[type=file]")
    firmware = tmp_path / "my scale.bin"
    firmware.write_bytes(make_bytes("2.5.0"))
    picker.set_input_files(firmware)
    expect(page.get_by_text("herald release publish 'my scale.bin' --key KEY.pem")).to_be_visible()

    spoiled, sealed = tmp_path / "spoiled.suit", tmp_path / "scale.suit"
    sealed.write_bytes(service.publisher.release_file("2.5.0"))
    spoiled.write_bytes(service.publisher.release_file("2.4.0", size=70_000))
    picker.set_input_files(spoiled)
    page.get_by_role("button", name="Publish").click()
    alert = page.get_by_role("alert").first
    expect(alert).to_contain_text("70000 bytes, a slot of comb-s1 has 65536")
    expect(alert.get_by_role("listitem").filter(has_text="refuse")).to_have_count(1)
    picker.set_input_files(sealed)
    page.get_by_label("Keep as a draft").check()
    page.get_by_role("button", name="Publish").click()
    expect(page).to_have_url("/lineage/1")
    expect(page.get_by_role("heading", level=1)).to_have_text("2.5.0")
    expect(page.get_by_text("draft", exact=True)).to_be_visible()
    page.get_by_role("button", name="publish").click()
    page.get_by_role("dialog").get_by_role("button", name="publish").click()
    expect(page.get_by_text("published", exact=True).first).to_be_visible()
    page.get_by_role("button", name="CBOR diagnostic").click()
    expect(page.get_by_text("/ sequence number: the floor number / 2: 4")).to_be_visible()
    page.get_by_role("button", name="Edit").click()
    page.get_by_label("Notes (Markdown)").fill("# Finer\n\n<b>weighing</b> [x](javascript:alert(1))")
    page.get_by_label("Labels").fill("ticket=HS-311")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("heading", name="Finer")).to_be_visible()
    expect(page.get_by_text("<b>weighing</b>")).to_be_visible()
    expect(page.get_by_role("link", name="x", exact=True)).to_have_count(0)
    expect(page.get_by_text("ticket = HS-311")).to_be_visible()


def test_what_nobody_needs_is_shown_before_it_is_cleaned_away(page: Page, service: RunningService) -> None:
    for version in ("2.3.0", "2.5.0"):
        service.publish(version).raise_for_status()
    sign_in(page)
    page.goto("/lineage")
    page.get_by_role("button", name="What could be cleaned away?").click()
    expect(page.get_by_role("dialog")).to_contain_text("comb-s1/hive-scale/2.3.0")
    expect(page.get_by_role("dialog")).to_contain_text("This frees 19.5 KiB")
    page.get_by_role("button", name="Clean away").click()
    expect(page.get_by_text("images cleaned away")).to_be_visible()
    page.get_by_role("button", name="What could be cleaned away?").click()
    expect(page.get_by_role("dialog")).to_contain_text("every release is needed")


def test_withdrawing_shows_what_it_stops_and_asks_why(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    begin(service)
    sign_in(page)
    page.goto("/lineage/2")
    page.get_by_role("button", name="withdraw").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("1: 2.5.0 to all")
    expect(dialog.get_by_role("button", name="withdraw")).to_be_disabled()
    dialog.get_by_label("Reason").fill("weighs 3 kg too much")
    page.keyboard.press("Enter")
    expect(page.get_by_text("by admin: weighs 3 kg too much")).to_be_visible()
    service.wait_for(1, lambda r: r.state == "halted")


def test_devices_that_ask_are_admitted_and_labelled(page: Page, service: RunningService) -> None:
    (device,) = asking(service, "TA-1")
    sign_in(page)
    page.get_by_role("link", name="1 device asking to be admitted").click()
    expect(page.get_by_text("1 devices ask for admission.")).to_be_visible()
    page.get_by_role("link", name="TA-1").click()
    # The page before has such a button, too.
    expect(page.get_by_role("heading", level=1)).to_have_text("TA-1")
    page.get_by_role("button", name="admit").click()
    page.get_by_role("dialog").get_by_label("Reason").fill("ours")
    page.keyboard.press("Enter")
    expect(page.get_by_role("button", name="retire")).to_be_visible()
    assert device.checkin().status_code == 204
    page.get_by_role("button", name="Edit").click()
    page.get_by_role("dialog").get_by_label("Labels").fill("site=fernhollow")
    page.get_by_role("dialog").get_by_label("Note").fill("behind the shed")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("site = fernhollow")).to_be_visible()
    expect(page.get_by_text("behind the shed")).to_be_visible()


def test_a_lost_line_is_said(page: Page, service: RunningService) -> None:
    sign_in(page)
    expect(page.get_by_role("status")).to_have_count(0)
    service.stop()
    expect(page.get_by_role("status")).to_contain_text("The line to the service is lost", timeout=15_000)
    service.stop = lambda: None  # type: ignore[method-assign]


def test_the_console_comes_with_strict_headers_and_caching(service: RunningService) -> None:
    with service.http() as http:
        page = http.get("/rollouts/7")
        policy = page.headers["content-security-policy"]
        assert "default-src 'none'" in policy and "script-src 'self';" in policy and "unsafe-eval" not in policy
        assert page.headers["x-content-type-options"] == "nosniff"
        assert page.headers["cache-control"] == "no-cache"
        script = page.text.partition('src="')[2].partition('"')[0]
        assert "immutable" in http.get(script).headers["cache-control"]
        assert http.get("/assets/none.js").status_code == 404
        for sly in ("/../settings.py", "/%2e%2e/settings.py", "/assets/..%2f..%2f..%2fsettings.py"):
            answer = http.get(sly)
            assert "HERALD_" not in answer.text


def test_a_selector_is_completed_counted_and_its_mistakes_are_pointed_at(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    service.herald.devices.edit("TA-1", {"site": "fernhollow"})
    sign_in(page)
    page.goto("/fleet")
    field = page.get_by_role("combobox", name="Selector, then Enter")
    expect(page.get_by_text("4 devices", exact=True)).to_be_visible()
    field.press_sequentially("si")
    page.get_by_role("option", name="site").click()
    field.press_sequentially("= fe")
    page.get_by_role("option", name="fernhollow").wait_for()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    expect(field).to_have_value("site = fernhollow")
    expect(page.get_by_text("1 device", exact=True)).to_be_visible()
    page.keyboard.press("Escape")
    page.keyboard.press("Enter")
    expect(page).to_have_url("/fleet?where=site+=+fernhollow")
    expect(page.locator("tbody")).to_have_text(re.compile("TA-1"))
    expect(page.get_by_text("TA-2")).to_have_count(0)
    field.fill("board == x")
    page.keyboard.press("Escape")
    expect(page.get_by_role("alert")).to_contain_text("goes wrong at character 8")
    expect(page.locator("pre")).to_have_text("board == x\n       ▲")


def test_one_device_is_brought_a_release_from_its_page_with_both_ends_in_view(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    device = fleet[0]
    sign_in(page)
    page.goto("/fleet/TA-0")
    expect(page.get_by_text("can be updated; no way back without a download")).to_be_visible()
    page.get_by_role("button", name="install a release").click()
    page.get_by_label("Reason, for the journal").fill("a first look")
    page.get_by_role("button", name="install", exact=True).click()
    expect(page.get_by_text("its next check-in, expected")).to_be_visible()
    rollout = service.herald.rollouts.list().items[0]
    service.wait_for(rollout.id, lambda r: r.rings[0].state == "open")
    device.checkin()
    device._http.post("/logs", json={"lines": [{"boots": 1, "number": 1, "text": "erasing"}]}, headers=device.headers)
    said = page.get_by_label("What the service says")
    expect(said).to_contain_text("offered")
    expect(page.get_by_label("What the device says")).to_contain_text("erasing")
    device.stage()
    expect(said).to_contain_text("staged")


def test_devices_are_imported_from_the_fleet_page_after_a_look(page: Page, service: RunningService) -> None:
    sign_in(page)
    page.goto("/fleet")
    text = "serial,board,line,hw_rev\nTA-7,comb-s1,hive-scale,1\nTA-8,comb-s9,hive-scale,1\n"
    page.get_by_label("Devices to import").set_input_files(
        {"name": "fleet.csv", "mimeType": "text/csv", "buffer": text.encode()}
    )
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("1 new, 0 to change")
    expect(dialog).to_contain_text("there is no board comb-s9")
    dialog.get_by_role("button", name="import").click()
    expect(page.get_by_role("link", name="TA-7")).to_be_visible()


def test_what_needs_a_person_is_a_link_to_the_devices(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    service.call(sample(service.context))
    fleet[2].digest = "e" * 64
    fleet[2].checkin()
    sign_in(page)
    expect(page.get_by_role("img", name=re.compile("Presence over time; now 4 online"))).to_be_visible()
    page.get_by_role("link", name="1 device running a build that no release has: TA-2").click()
    expect(page.get_by_role("link", name="TA-2")).to_be_visible()
    expect(page.get_by_role("link", name="TA-1")).to_have_count(0)


def test_a_baseline_says_what_it_would_do_before_it_brings_devices(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    newest = next(r for r in service.herald.releases.list().items if r.version == "2.5.0")
    service.herald.releases.make_baseline(newest.id, "what new devices run")
    sign_in(page)
    page.goto("/lineage")
    page.get_by_role("button", name="bring devices that arrive …").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("Now it would bring 4 devices that arrived: TA-0, TA-1, TA-2, TA-3")
    dialog.get_by_label("Reason, for the journal").fill("they come with 2.4.0")
    dialog.get_by_role("button", name="bring devices").click()
    expect(page.get_by_text("devices that arrive are brought to it.")).to_be_visible()
    assert service.herald.baselines.list()[0].brings


def test_a_plan_is_made_in_a_form_seen_in_toml_previewed_and_started(
    page: Page, service: RunningService, fleet: list[PuppetDevice]
) -> None:
    sign_in(page)
    page.goto("/plan?release=comb-s1/hive-scale/2.5.0")
    expect(page.get_by_test_id("ring-0")).to_contain_text("4 devices")
    page.get_by_role("spinbutton", name="Devices", exact=True).fill("1")
    expect(page.get_by_test_id("ring-0")).to_contain_text("1 devices")
    expect(page.get_by_test_id("ring-1")).to_contain_text("3 devices")
    page.get_by_role("spinbutton", name="At risk at once").fill("2")
    page.get_by_role("button", name="TOML").click()
    written = page.get_by_label("The plan as TOML")
    expect(written).to_have_value(re.compile(r"at_risk_at_once = 2"))
    assert page.evaluate(UNLABELLED) == []
    written.fill(written.input_value().replace("count = 1", "count = 2").replace('"pilot"', '"first two"'))
    expect(page.get_by_test_id("ring-0")).to_contain_text("first two")
    expect(page.get_by_test_id("ring-0")).to_contain_text("2 devices")
    written.fill(written.input_value().replace('"1d"', '"a day"'))
    expect(page.get_by_text("is not a duration")).to_be_visible()
    expect(page.get_by_role("button", name="Start")).to_be_disabled()
    written.fill(
        written.input_value().replace('"a day"', '"1d"\nopens = "by-hand"').replace('soak = "1h"', 'soak = "0s"')
    )
    expect(page.get_by_test_id("ring-1")).to_contain_text("by hand")
    page.get_by_role("button", name="Form", exact=True).click()
    expect(page.get_by_label("Name", exact=True).first).to_have_value("first two")
    page.get_by_role("button", name="Start").click()
    expect(page.get_by_text("goes to 4 devices in 2 rings (2, 2)")).to_be_visible()
    page.get_by_role("button", name="start", exact=True).click()
    expect(page.get_by_test_id("rollout-state")).to_have_text("running")
    rollout = service.herald.rollouts.list().items[0]
    assert [ring.name for ring in rollout.plan.rings] == ["first two", "all"] and rollout.plan.pace.at_risk_at_once == 2


def test_a_rollout_is_steered_from_its_page(page: Page, service: RunningService, fleet: list[PuppetDevice]) -> None:
    document = service.plan()
    rings = [{"name": "first", "count": 2, "soak": "0s"}, {"name": "rest", "opens": "by-hand", "soak": "0s"}]
    document = type(document).model_validate({**document.model_dump(mode="json"), "rings": rings})
    rollout_id = service.herald.rollouts.start(document).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open" and r.rings[0].targeted == 2)
    chosen = {attempt.serial for attempt in service.herald.rollouts.attempts(rollout_id).items}
    first, second = (device for device in fleet if device.serial in chosen)
    go_through(first)
    second.checkin()
    second.report("failed", reason="flash-error", detail="page 7 does not take", log="erase 7\nread back ff 0a")
    sign_in(page)
    page.goto(f"/rollouts/{rollout_id}")
    expect(page.get_by_test_id("ring-1")).to_contain_text("2 planned")
    page.get_by_role("button", name="1 flash-error").click()
    expect(page.get_by_role("row").filter(has_text=first.serial)).to_have_count(0)
    page.get_by_role("button", name=f"Timeline of {second.serial}").click()
    expect(page.get_by_text("read back ff 0a").first).to_be_visible()
    page.get_by_role("button", name="retry", exact=True).click()
    page.get_by_label("Reason, for the journal").fill("the page is mended")
    page.get_by_role("button", name="retry").last.click()
    service.wait_for(rollout_id, lambda r: r.states.get("queued") == 1)
    page.goto(f"/rollouts/{rollout_id}")
    go_through(second)
    expect(page.get_by_test_id("ring-1")).to_contain_text("awaiting-go")
    page.get_by_role("button", name="change plan").click()
    page.get_by_role("spinbutton", name="At risk at once").fill("1")
    page.get_by_label("Reason, for the journal").fill("one after the other")
    page.get_by_role("button", name="change", exact=True).click()
    expect(page.get_by_text("at risk of 1")).to_be_visible()
    page.goto("/")
    page.get_by_role("link", name="asks for go: ring rest, 2 devices").click()
    page.get_by_role("button", name="go", exact=True).click()
    expect(page.get_by_text("Ring rest opens: 2 devices are served next.")).to_be_visible()
    page.get_by_label("Reason, for the journal").fill("all is quiet")
    page.get_by_role("button", name="go", exact=True).last.click()
    expect(page.get_by_test_id("ring-1")).to_contain_text("open")
    assert page.evaluate(UNLABELLED) == []
    with page.expect_popup() as popup:
        page.get_by_role("link", name="report").click()
    expect(popup.value.get_by_role("heading", name="Where the time went")).to_be_visible()
