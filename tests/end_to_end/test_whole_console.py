"""The console as a whole, with the ferry line's two weeks in it: every page, on three widths, by day and by night, slow, and with the service away."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, Route, expect

from tests.conftest import Running, failure, start
from tests.demo.ferry import loaded, shown
from tests.end_to_end.browsing import axe
from tests.end_to_end.conftest import signed_in

__all__ = ["loaded", "shown"]

ROUTES = Path(__file__).parents[2] / "console/src/lib/pages.ts"
WIDTHS = (390, 1280, 1920)
SHARES = 3
"""Pages are looked at in so many tests, which may run beside each other."""
# A cell of which hardly a word fits into a line, and how far the page goes to the right.
LAID_OUT = """() => ({
  reach: document.documentElement.scrollWidth - document.documentElement.clientWidth,
  over: [...document.querySelectorAll('body *')]
    .filter((one) => one.getBoundingClientRect().right > document.documentElement.clientWidth + 1 && !one.closest('.overflow-auto, .overflow-x-auto'))
    .slice(0, 3).map((one) => one.outerHTML.slice(0, 120)),
  narrow: [...document.querySelectorAll('td, th, p, li')]
    .filter((one) => one.checkVisibility() && one.innerText.trim().length > 20 && one.getBoundingClientRect().width < 60)
    .map((one) => one.outerHTML.slice(0, 120)),
  unfinished: [...document.querySelectorAll('main [role=status]')].some((one) => one.innerText.startsWith('Loading')),
})"""
LINE = re.compile(r"^\s*- (?:'|\")?(\w+)(?: \"(.*?)\")?(?:.*\[level=(\d)\])?")


@pytest.fixture(scope="module")
def ferry(loaded: Path) -> Iterator[Running]:
    """A service with the demo's records, and a clock that stands where these end."""
    thread, running = start(loaded)
    yield running
    running.http.clear()
    thread.stop()


def pages_of(running: Running) -> dict[str, str]:
    """Return an address for each route of the console, with records behind it."""

    def asked(path: str) -> Any:
        return running.get(f"/api/{path}")

    issue = asked("issues?window=14d")["issues"][0]["number"]
    failure = asked(f"issues/{issue}/failures?window=14d")["failures"][0]["id"]
    (run, *_) = asked("records/runs?window=14d&question=outcome%3Drefused+browser.viewport~x")["records"]
    firing = asked("alerts?window=14d")["firings"][0]["number"]
    board = asked("boards")["boards"][0]["id"]
    order = {"file": "fares.py", "line": 24, "minutes": 60.0}
    answer = running.ask("POST", "/api/apps/ticketdesk/tracepoints", order)
    assert answer.status == 201, answer.data
    point = answer.json()["tracepoint"]
    values = run["values"]
    return {
        "/": "/",
        "/issues": "/issues?window=14d",
        "/issues/:number": f"/issues/{issue}?window=14d",
        "/shift": "/shift?window=14d",
        "/alerts": "/alerts?window=14d",
        "/alerts/firings/:number": f"/alerts/firings/{firing}",
        "/alerts/link": "/alerts/link",
        "/now": "/now?window=14d",
        "/now/calls": "/now/calls?window=14d",
        "/now/tracepoints": "/now/tracepoints",
        "/now/tracepoints/:number": f"/now/tracepoints/{point['id']}",
        "/now/boards": "/now/boards",
        "/now/boards/:number": f"/now/boards/{board}?window=14d",
        "/search": "/search?window=14d&question=logger%3Dsailings.tides",
        "/run/:id": f"/run/{values['run']}",
        "/trace/:id": f"/trace/{values['trace_id']}",
        "/failure/:id": f"/failure/{failure}",
        "/person": "/person?who=p-102&around=6h&window=14d",
        "/user/:id": "/user/p-102?window=14d",
        "/host/:id": f"/host/{values.get('host', 'pier-1')}?window=14d",
        "/releases": "/releases?app=sailings",
        "/releases/:app/:release": "/releases/sailings/3.1.0",
        "/compare/:app": "/compare/sailings?before=3.0.1&now=3.1.0",
        "/set-up": "/set-up",
        "/set-up/rules": "/set-up/rules",
        "/set-up/hand-over": "/set-up/hand-over",
        "/set-up/channels": "/set-up/channels",
        "nowhere": "/harbour/master",
    }


@pytest.mark.parametrize("share", range(SHARES))
def test_every_page_on_three_widths(browser: Browser, ferry: Running, share: int) -> None:
    """Nothing scrolls sideways or is squeezed; axe finds nothing, by day on the widest and by night on the narrowest; a screen reader finds its way."""
    pages = pages_of(ferry)
    assert set(re.findall(r"(?:at|across)\(\s*'([^']+)'", ROUTES.read_text("utf-8"))) | {"nowhere"} == set(pages)
    wrong: list[str] = []
    with signed_in(browser, ferry) as page:
        for path in list(pages.values())[share::SHARES]:
            page.set_viewport_size({"width": WIDTHS[0], "height": 800})
            page.emulate_media(color_scheme="dark")
            page.goto(ferry.url + path)
            expect(page.get_by_role("heading", level=1)).to_have_count(1)
            page.wait_for_function(f"() => !({LAID_OUT})().unfinished")
            wrong += [f"{path} by night: {one}" for one in axe(page)]
            for width in WIDTHS:
                page.set_viewport_size({"width": width, "height": 800})
                laid_out = page.evaluate(LAID_OUT)
                if laid_out["reach"] > 0 or laid_out["narrow"]:
                    wrong.append(f"{path} at {width}: {laid_out}")
            page.emulate_media(color_scheme="light")
            wrong += [f"{path} by day: {one}" for one in axe(page)]
            wrong += [f"{path}: {one}" for one in unclear(page)]
    assert not wrong, "\n".join(wrong)


def unclear(page: Page) -> list[str]:
    """Return what a screen reader would stumble over: what the tree of the page lacks, and controls without a name."""
    found: list[str] = []
    roles: list[str] = []
    level = 0
    for line in page.locator("body").aria_snapshot().splitlines():
        read = LINE.match(line)
        if read is None:
            continue
        role, name, deep = read.groups()
        roles.append(role)
        if role == "heading":
            if int(deep) > level + 1:
                found.append(f"a heading of level {deep} follows one of level {level}: {name}")
            level = int(deep)
        if role in ("button", "link", "textbox", "combobox", "checkbox", "radio", "img", "dialog") and not name:
            found.append(f"a {role} without a name: {line.strip()}")
    if roles.count("main") != 1:
        found.append(f"{roles.count('main')} main parts")
    return found


def test_a_slow_network(browser: Browser, ferry: Running) -> None:
    """A page says that it loads and can be left; what comes late for a page that was left is not shown in the next one."""
    with signed_in(browser, ferry) as page:
        waiting: list[Route] = []
        held = [False]
        page.route(re.compile(r"/api/(?!live)"), lambda route: waiting.append(route) if held[0] else route.continue_())
        page.goto(ferry.url + "/issues?window=14d")
        expect(page.get_by_role("list", name="Issues")).to_be_visible()
        held[0] = True
        page.get_by_role("link", name="Now", exact=True).click()
        expect(page.get_by_role("main").get_by_text("Loading …").first).to_be_visible()
        assert page.evaluate("document.activeElement.id") == "content", (
            "the keyboard is at the beginning of the new page"
        )
        page.get_by_role("link", name="Releases", exact=True).click()
        expect(page.get_by_role("heading", name="Releases", exact=True)).to_be_visible()
        here = page.url
        held[0] = False
        for one in waiting:
            one.continue_()
        expect(page.get_by_role("table", name="Releases of sailings")).to_be_visible()
        expect(page.get_by_text("Loading …")).to_have_count(0)
        assert page.url == here


def test_the_service_away(browser: Browser, tmp_path: Path) -> None:
    """What was shown stays and says that it is not live; what is asked for says that nobody answers; when the service is back, all goes on by itself."""
    thread, running = start(tmp_path / "data")
    running.send(running.add_app(), failure())
    port = int(running.url.rpartition(":")[2])
    with signed_in(browser, running) as page:
        page.goto(running.url + "/issues")
        rows = page.get_by_role("list", name="Issues").get_by_role("listitem")
        expect(rows).to_have_count(1)
        running.http.clear()
        thread.stop()
        try:
            expect(page.get_by_text("○ not connected")).to_be_visible()
            expect(rows).to_have_count(1)
            page.get_by_role("link", name="Now", exact=True).click()
            expect(page.get_by_role("alert").first).to_contain_text("could not be loaded")
            expect(page.get_by_role("alert").first).to_contain_text("service")
        finally:
            thread, running = start(tmp_path / "data", port=port)
        try:
            expect(page.get_by_text("● live")).to_be_visible()
            expect(page.get_by_role("figure").first).to_contain_text(re.compile(r"Failures\s*1"))
            expect(page.get_by_role("alert")).to_have_count(0)
        finally:
            running.http.clear()
            thread.stop()
