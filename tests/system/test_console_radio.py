"""Devices on narrow radio, and those that speak CoAP, in headless Chromium against the running service."""

from datetime import timedelta

import pytest
from playwright.sync_api import Page, expect

from mellow_herald.store import coap, radio
from tests.harness.device import PuppetDevice
from tests.harness.service import RunningService
from tests.service.fleet.test_radio import KEY, RADIO, enrolled
from tests.service.rollouts.test_rings import plan
from tests.system.test_console import UNLABELLED, sign_in

pytestmark = pytest.mark.system


def session_of(service: RunningService, rollout_id: int) -> int:
    """A session in which two devices are being sent to, a third was not ready."""
    attempts = service.herald.rollouts.attempts(rollout_id).items
    now = service.context.clock.now()
    values = {
        "rollout_id": rollout_id,
        "repair_of": None,
        "state": "sending",
        "manifest": "ab" * 32,
        "region": "EU868",
        "data_rate": 4,
        "frequency": 869_525_000,
        "fragment": 40,
        "redundancy": 15,
        "fragments": 1525,
        "coded": 229,
        "first_number": 1,
        "ask_after": 1525,
        "on_air_s": 0.185,
        "apart_s": 1.85,
        "time_out": 13,
        "spread": 3,
        "address": 0x01000001,
        "group_key": bytes(16),
        "next_counter": 0,
        "sent": 900,
        "expected_s": 3500.0,
        "expected_share": 0.97,
        "planned_at": now - timedelta(hours=1),
        "begins_at": now - timedelta(minutes=28),
        "began_at": now - timedelta(minutes=28),
    }
    told = {"session_count": 1, "in_group": True, "has_session": True, "clock_at": now}
    whole = {"received": 900, "missing": 0, "complete": True, "recovered": 41, "lost": 44}
    states = [
        {"received": 870, "missing": 30, "has_fragments": True, "ready": True},
        {**whole, "has_fragments": True, "ready": True},
        {"received": 0, "missing": None, "has_fragments": False, "ready": False},
    ]
    usual = {"try_number": 1, "complete": False, "recovered": None, "lost": None, **told}
    members = [
        {"device_id": one.device_id, "attempt_id": one.id, **usual, **state}
        for one, state in zip(sorted(attempts, key=lambda one: one.serial), states, strict=True)
    ]

    async def add() -> int:
        async with service.context.engine.begin() as connection:
            return await radio.add_session(connection, values, members)

    return int(service.call(add()))


def test_a_session_is_shown_device_by_device_and_on_its_rollout(page: Page, service: RunningService) -> None:
    for version in ("2.4.0", "2.5.0"):
        service.publish(version).raise_for_status()
    for number in (1, 2, 3):
        enrolled(service, f"TA-{number}", {**RADIO, "eui": f"70b3d57ed000010{number}", "root_key": KEY})
    rollout_id = service.herald.rollouts.start(plan([{"name": "all"}])).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    session_id = session_of(service, rollout_id)
    sign_in(page)
    page.goto(f"/rollouts/{rollout_id}")
    panel = page.get_by_test_id("radio-sessions")
    expect(panel).to_contain_text("sends: 900 of 1754 fragments")
    expect(panel).to_contain_text("1 not ready at its start")
    panel.get_by_role("link", name=f"session {session_id}").click()
    expect(page.get_by_test_id("session-headline")).to_have_text("sends: 900 of 1754 fragments, 1 of 3 complete")
    expect(page.get_by_test_id("late")).to_contain_text("TA-3")
    expect(page.get_by_test_id("member-TA-1")).to_contain_text("87030")
    expect(page.get_by_test_id("member-TA-2")).to_contain_text("complete")
    expect(page.get_by_test_id("member-TA-3")).to_contain_text("fragments to be set up")
    assert page.evaluate(UNLABELLED) == []
    assert page.evaluate("document.documentElement.scrollWidth") <= 1280
    page.goto("/sessions/999")
    expect(page.get_by_role("alert")).to_contain_text("There is no session 999")


def test_a_device_page_shows_by_what_it_is_reached_and_corrects_it(page: Page, service: RunningService) -> None:
    enrolled(service, "TA-1", RADIO)
    code = service.code()
    meter = PuppetDevice(service.url, "TA-W1")
    secret = meter.enrol(code, coap=True).json()["oscore"]["secret"]
    meter.checkin()
    numbers = {"state": 0, "result": 8, "told_at": service.context.clock.now(), "method": "push", "block": 512}
    trouble = {"trouble": "it did not answer", "trouble_at": service.context.clock.now()}

    async def tell() -> None:
        async with service.context.engine.begin() as connection:
            await coap.change_coap(connection, meter_id, **numbers, **trouble)

    meter_id = service.herald.devices.show("TA-W1").id
    service.call(tell())
    sign_in(page)
    page.goto("/fleet/TA-W1")
    card = page.get_by_test_id("coap")
    expect(card).to_contain_text("state 0 (idle), result 8 (update-failed)")
    expect(card).to_contain_text("it did not answer")
    card.get_by_role("button", name="renew its secret").click()
    page.get_by_label("Reason, for the journal").fill("the board was replaced")
    page.get_by_role("button", name="renew", exact=True).click()
    expect(card.get_by_role("status")).to_contain_text("shown this once")
    assert secret not in page.content()
    page.reload()
    expect(page.get_by_test_id("coap")).not_to_contain_text("shown this once")

    page.goto("/fleet/TA-1")
    facts = page.get_by_test_id("radio-facts")
    expect(facts).to_contain_text("its root key is not on record")
    facts.get_by_role("button", name="correct").click()
    page.get_by_label("Root key").fill("not a key")
    page.get_by_label("Reason, for the journal").fill("from the maker's list")
    page.get_by_role("button", name="record", exact=True).click()
    expect(page.get_by_role("alert").filter(has_text="root_key")).to_be_visible()
    page.get_by_label("Root key").fill(KEY.upper())
    page.get_by_role("button", name="record", exact=True).click()
    expect(facts).to_contain_text("it can take part in a session")
    assert page.evaluate(UNLABELLED) == [] and KEY not in page.content()
    assert page.evaluate("document.documentElement.scrollWidth") <= 1280
