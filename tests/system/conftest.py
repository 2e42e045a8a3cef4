"""The browser that tests of the console look with."""

import shutil
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from tests.harness.service import RunningService

FLAGS = (
    "--no-sandbox --disable-gpu --disable-background-networking --disable-component-update"
    " --disable-sync --no-first-run"
)

# A page is waited for, not timed: a slow machine with other tests beside this one is no fault of the console.
expect.set_options(timeout=60_000)


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        chromium = shutil.which("chromium")
        assert chromium, "Debian's chromium is missing: run `make setup`"
        launched = playwright.chromium.launch(executable_path=chromium, args=FLAGS.split())
        yield launched
        launched.close()


@pytest.fixture
def page(browser: Browser, service: RunningService) -> Iterator[Page]:
    """A page on the console; script errors fail the test."""
    context = browser.new_context(base_url=service.url, viewport={"width": 1280, "height": 800})
    page = context.new_page()
    errors: list[str] = []
    page.on("pageerror", lambda error: errors.append(str(error)))
    page.on("console", lambda m: errors.append(m.text) if "Content Security Policy" in m.text else None)
    yield page
    context.close()
    assert errors == []
