"""A real browser, signed in."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, ConsoleMessage, Page, expect, sync_playwright

from tests.conftest import Running

CHROMIUM = "/usr/bin/chromium"


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        launched = playwright.chromium.launch(
            executable_path=CHROMIUM,
            args=["--no-sandbox", "--disable-background-networking", "--disable-component-update", "--disable-sync"],
        )
        yield launched
        launched.close()


@pytest.fixture
def page(browser: Browser, running: Running) -> Iterator[Page]:
    """A signed-in page that fails the test when the browser complains: errors, or a breach of the content policy."""
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    opened = context.new_page()
    complaints: list[str] = []
    opened.on("pageerror", lambda error: complaints.append(str(error)))
    opened.on("console", lambda said: complaints.append(said.text) if _is_complaint(said) else None)
    opened.goto(running.service.passes.new_sign_in_link())
    expect(opened.get_by_role("heading", name="Desk")).to_be_visible()
    complaints.clear()
    yield opened
    opened.wait_for_timeout(50)
    context.close()
    assert complaints == []


def _is_complaint(said: ConsoleMessage) -> bool:
    """An answer of 4xx is the page's to show; anything else that the browser calls an error is ours to mend."""
    return said.type == "error" and not said.text.startswith("Failed to load resource")
