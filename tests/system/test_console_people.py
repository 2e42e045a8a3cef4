"""The team on its page, and somebody's first day."""

import re

import pytest
from playwright.sync_api import Page, expect

from mellow_herald.wire.person import Role
from tests.harness.service import RunningService
from tests.harness.team import add_person
from tests.system.test_console import sign_in

pytestmark = pytest.mark.system
OWN = "my-own-choice"


def enter(page: Page, name: str, password: str) -> None:
    """Types both at the door."""
    expect(page.get_by_role("heading", name="Mellow Herald")).to_be_visible()
    page.get_by_label("Name").fill(name)
    page.get_by_label("Password").fill(password)
    page.keyboard.press("Enter")


def sign_out(page: Page) -> None:
    page.get_by_role("button", name="Sign out").click()
    expect(page).to_have_url(re.compile("/sign-in"))  # before that, another page would still be theirs


def test_somebody_is_added_signs_in_chooses_a_password_and_is_closed(page: Page, service: RunningService) -> None:
    sign_in(page)
    page.get_by_role("link", name="People").click()
    page.get_by_label("Name", exact=True).fill("rowan")
    page.get_by_role("button", name="Add to the team").click()
    once = page.get_by_role("status").filter(has_text="The first password of rowan")
    first = once.locator("strong").inner_text()
    row = page.get_by_role("row").filter(has_text="rowan")
    expect(row).to_contain_text("first password")
    row.get_by_label("rowan is operator").check()
    expect(row.get_by_label("rowan is operator")).to_be_checked()
    sign_out(page)
    enter(page, "rowan", first)
    expect(page.get_by_text("This is a first password")).to_be_visible()
    page.goto(f"{service.url}/fleet")
    page.get_by_label("Present password").fill(first)
    change = page.get_by_role("button", name="Change it")
    page.get_by_label("New password", exact=True).fill(OWN)
    expect(change).to_be_disabled()
    page.get_by_label("New password, once more").fill(OWN)
    change.click()
    page.get_by_role("link", name="People").click()
    expect(page.get_by_text("Signed in as rowan (operator, viewer)")).to_be_visible()
    expect(page.get_by_role("heading", name="Team")).to_have_count(0)
    sign_out(page)

    sign_in(page)
    page.get_by_role("link", name="People").click()
    row = page.get_by_role("row").filter(has_text="rowan")
    row.get_by_role("button", name="close …").click()
    expect(page.get_by_role("dialog")).to_contain_text("What they did stays in the journal")
    page.get_by_role("button", name="close", exact=True).click()
    expect(row).to_contain_text("closed")


def test_the_last_admin_stays_and_it_is_said_why(page: Page, service: RunningService) -> None:
    add_person(service, "rowan", Role.VIEWER).close()
    sign_in(page)
    page.get_by_role("link", name="People").click()
    page.get_by_label("admin is admin").uncheck()
    expect(page.get_by_role("alert")).to_contain_text("needs one role at the least")
    row = page.get_by_role("row").filter(has_text="admin").first
    row.get_by_role("button", name="close …").click()
    page.get_by_role("button", name="close", exact=True).click()
    expect(page.get_by_role("dialog")).to_contain_text("last admin")
