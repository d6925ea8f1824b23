"""What tests of pages do alike: open one, look at it as axe-core does, walk through it with the keyboard."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from playwright.sync_api import Browser, BrowserContext, Page

from tests.conftest import Running

PATIENCE_MS = 90_000
"""How long a busy machine may take for one step."""
AXE = Path(__file__).parents[2] / "console/node_modules/axe-core/axe.min.js"
RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]
COLOURS = ["color-contrast", "link-in-text-block"]
# What it would say of all that is right, and of where each element is, takes several times as long as looking.
RUN = "(given) => axe.run({ runOnly: given, resultTypes: ['violations'], selectors: false })"
# Marks what the keyboard should come to, and says how many that are. What scrolls is reached too.
MARK = """() => {
  const wanted = [...document.querySelectorAll('a[href], button, input, select, textarea, summary, [tabindex="0"]')]
    .filter((one) => one.checkVisibility() && !one.disabled && one.tabIndex >= 0);
  wanted.forEach((one, place) => one.dataset.walk = place);
  return wanted.length;
}"""
HERE = """() => {
  const here = document.activeElement, style = getComputedStyle(here), box = here.getBoundingClientRect();
  return { walk: here.dataset.walk ?? null, seen: style.outlineStyle !== 'none' && box.width > 0, said: here.outerHTML.slice(0, 120) };
}"""


def context_in(browser: Browser, **given: Any) -> BrowserContext:
    """Return a context of its own in a browser, with the patience that a busy machine needs."""
    context = browser.new_context(**{"viewport": {"width": 1280, "height": 800}} | given)
    context.set_default_timeout(PATIENCE_MS)
    return context


def axe(page: Page, *, colours_alone: bool = False) -> list[str]:
    """Return what axe-core finds wrong by WCAG 2.2, levels A and AA; of a page that was looked at whole, colours alone may be looked at again."""
    if not page.evaluate("'axe' in window"):
        page.evaluate(AXE.read_text("utf-8"))
    found: dict[str, Any] = page.evaluate(RUN, COLOURS if colours_alone else RULES)
    return [f"{v['id']}: {v['nodes'][0]['html'][:120]}" for v in found["violations"]]


def usable(page: Page, *, walks: bool = True) -> None:
    """Axe finds nothing wrong, by day and by night; Tab comes to everything; no narrow screen scrolls sideways."""
    found = axe(page)
    assert found == [], found
    page.keyboard.press("n")
    assert axe(page, colours_alone=True) == [], "by night"
    page.keyboard.press("n")
    if walks:
        walk(page)
    page.set_viewport_size({"width": 390, "height": 800})
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    page.set_viewport_size({"width": 1280, "height": 800})


def at(page: Page, running: Running, path: str) -> None:
    page.goto(running.url + path)


def walk(page: Page) -> None:
    """Come by Tab alone to everything that can be done, in order; each is seen, and the last leads out again."""
    count = page.evaluate(MARK)
    assert count > 10
    reached: list[int] = []
    for _ in range(count * 2):
        if reached[-1:] == [count - 1]:
            break
        page.keyboard.press("Tab")
        here = page.evaluate(HERE)
        assert here["walk"] is not None, f"after {len(reached)} of {count}: {here['said']}"
        if reached[-1:] == [int(here["walk"])]:
            # Of a field for a date Tab comes to each part, which the browser marks itself.
            continue
        assert here["seen"], f"nobody sees that the keyboard is at {here['said']}"
        reached.append(int(here["walk"]))
    assert reached == list(range(count))
    page.keyboard.press("Tab")
    assert page.evaluate(HERE)["walk"] in (None, "0"), "out of the page, or at its beginning again"
