"""A real browser, signed in."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

import pytest
from playwright.sync_api import Browser, ConsoleMessage, Page, expect, sync_playwright

from tests.conftest import Running
from tests.end_to_end.browsing import PATIENCE_MS, context_in

CHROMIUM = "/usr/bin/chromium"
# Each window would load two more pages for suggestions under the address, which nobody sees here: a quarter of its cost.
_UNSEEN = ("WebUIOmniboxPopup", "WebUIOmniboxFullPopup", "WebUIOmniboxAimPopup")
# The browser follows only the last of several such lists, so Playwright's own is repeated.
_PLAYWRIGHTS = (
    "AvoidUnnecessaryBeforeUnloadCheckSync", "DestroyProfileOnBrowserClose", "HttpsUpgrades", "HttpsFirstBalancedModeAutoEnable",
    "LensOverlay", "MediaRouter", "PaintHolding", "ThirdPartyStoragePartitioning", "AvoidCorsURLLoaderRestartOnRedirect",
    "OptimizationHints", "NetworkTimeServiceQuerying", "AimEnabled", "PreconnectToSearch",
)  # fmt: skip
# A condition is waited for until it holds: on a busy machine that may take long.
expect.set_options(timeout=PATIENCE_MS)


# Not for the whole session: while it is open an event loop runs in this thread, where other tests are to run theirs.
@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        launched = playwright.chromium.launch(
            executable_path=CHROMIUM,
            args=[
                "--no-sandbox",
                "--disable-background-networking",
                "--disable-component-update",
                "--disable-sync",
                f"--disable-features={','.join((*_PLAYWRIGHTS, *_UNSEEN))}",
            ],
        )
        yield launched
        launched.close()


def session_of(running: Running) -> tuple[str, str]:
    """Sign in by a link; return name and value of the session's cookie."""
    secret = running.service.passes.new_sign_in_link().partition("#")[2]
    answer = running.http.request("POST", running.url + "/api/sign-in", json={"link": secret})
    name, _, rest = answer.headers["Set-Cookie"].partition("=")
    return name, rest.partition(";")[0]


@contextmanager
def signed_in(browser: Browser, running: Running) -> Iterator[Page]:
    """Open a page of somebody who is signed in, with nothing on it yet."""
    context = context_in(browser)
    name, value = session_of(running)
    context.add_cookies([{"name": name, "value": value, "url": running.url}])
    try:
        yield context.new_page()
    finally:
        context.close()


@pytest.fixture
def page(browser: Browser, running: Running) -> Iterator[Page]:
    """A page of somebody who is signed in, with nothing on it yet.

    It fails the test when the browser complains: errors, or a breach of the content policy.
    """
    complaints: list[str] = []
    with signed_in(browser, running) as opened:
        opened.on("pageerror", lambda error: complaints.append(str(error)))
        opened.on("console", lambda said: complaints.append(said.text) if _is_complaint(said) else None)
        yield opened
        opened.wait_for_timeout(50)
    assert complaints == []


def _is_complaint(said: ConsoleMessage) -> bool:
    """An answer of 4xx is the page's to show; anything else that the browser calls an error is ours to mend."""
    return said.type == "error" and not said.text.startswith("Failed to load resource")
