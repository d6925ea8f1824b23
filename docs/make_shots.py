"""Takes the pictures in docs/screenshots from the demo's data: ``make shots``."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
from pathlib import Path

from playwright.sync_api import Browser, Page, sync_playwright
from rich.console import Console
from rich.text import Text

FOLDER = Path(__file__).parent / "screenshots"
CHROMIUM = "/usr/bin/chromium"
COMMANDS = {
    "cli-issue": ["issue", "{regressed}", "--window", "14d"],
}


def main() -> None:
    """Start the demo, take every picture, stop the demo."""
    only = set(sys.argv[1:])
    with sync_playwright() as playwright:
        # A name that never changes: it shows in the paths of frames.
        data = Path(tempfile.gettempdir()) / "skerry-line"
        demo = subprocess.Popen(
            [sys.executable, "-m", "obitus", "demo", "--data", str(data), "--port", "0"],
            stdout=subprocess.PIPE,
            text=True,
            env={**os.environ, "PYTHONUNBUFFERED": "1", "COLUMNS": "200"},
        )
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=["--no-sandbox"])
        try:
            link = _link(demo)
            environment = {
                **os.environ,
                "OBITUS_LOGIN": str(data / "login.json"),
                "COLUMNS": "80",
                "FORCE_COLOR": "1",
                "COLORTERM": "truecolor",
            }
            environment.pop("OBITUS_URL", None)
            _terminals(browser, environment, _pages(browser, link, only), only)
        finally:
            browser.close()
            demo.terminate()
            demo.wait(20)


def _link(demo: subprocess.Popen[str]) -> str:
    assert demo.stdout is not None
    for line in demo.stdout:
        found = re.search(r"http://\S+/sign-in#\S+", line)
        if found:
            return found[0]
    raise SystemExit("the demo ended before it printed its link")


def _pages(browser: Browser, link: str, only: set[str]) -> str:
    """Take the console's pages; return the number of the regressed issue."""
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    base = link.split("/sign-in")[0]
    page.goto(base + "/sign-in")
    page.get_by_role("heading", name="Obitus").wait_for()
    page.goto(link)
    page.get_by_role("heading", name="Regressed").wait_for()
    # The service looks for quiet failures twice a minute; the first look came before the story.
    for _ in range(60):
        if page.get_by_role("heading", name="Quiet failures").count():
            break
        page.wait_for_timeout(2000)
        page.reload()
        page.get_by_role("heading", name="Regressed").wait_for()
    page.wait_for_timeout(300)
    _take(page, "desk", only)
    number = page.get_by_role("list", name="Regressed").get_by_role("link").first.get_attribute("href") or ""
    number = re.sub(r"\D", "", number.split("?")[0])
    page.goto(f"{base}/person?who=p-102&around=6h")
    page.get_by_role("table", name="What happened to them").wait_for()
    _take(page, "person", only)
    page.goto(base + "/issues?window=14d")
    page.get_by_role("list", name="Issues").wait_for()
    page.get_by_role("navigation", name="Lists").get_by_role("link").first.wait_for()
    for key in "jjxjjx":
        page.keyboard.press(key)
    page.wait_for_timeout(300)
    _take(page, "issues", only)
    page.goto(base + "/shift?window=24h")
    page.get_by_role("heading", name="What was decided, and by whom").wait_for()
    page.wait_for_timeout(300)
    _take(page, "shift", only)
    page.goto(f"{base}/issues/{number}?window=14d")
    page.get_by_role("heading", name="Where", exact=True).wait_for()
    page.wait_for_timeout(300)
    _take(page, "issue", only)
    asked = "/api/records/runs?window=14d&question=outcome%3Drefused+browser.viewport~x"
    trace = page.evaluate(
        "asked => fetch(asked).then((answer) => answer.json()).then((found) => found.records[0].values.trace_id)", asked
    )
    page.goto(f"{base}/trace/{trace}")
    page.get_by_role("group", name="What the person saw").wait_for()
    page.wait_for_timeout(300)
    _take(page, "seen", only)
    page.goto(f"{base}/issues?window=14d")
    page.get_by_role("link", name=re.compile("FareUnknown")).first.click()
    page.get_by_role("button", name="The call, as a test that fails until it is fixed").click()
    page.get_by_label(re.compile(r"test_issue_\d+\.py")).wait_for()
    _to(page, "Do it again")
    _take(page, "reproduce", only)
    _releases(page, base, only)
    _now(page, base, only)
    page.goto(f"{base}/alerts?window=14d")
    page.get_by_role("table", name="What fired").wait_for()
    page.wait_for_timeout(300)
    _take(page, "alerts", only)
    page.goto(base + "/set-up")
    page.get_by_label("Name: lower case").fill("tide-watch")
    page.get_by_role("button", name="Add and make a key").click()
    page.get_by_text("Waiting for the first report").wait_for()
    page.wait_for_timeout(300)
    _take(page, "set-up", only)
    page.close()
    return number


def _releases(page: Page, base: str, only: set[str]) -> None:
    """Take what was released when, what one release did, two of them, and since when an issue is there."""
    page.goto(f"{base}/releases?app=sailings")
    page.get_by_role("table", name="Releases of sailings").wait_for()
    page.wait_for_timeout(300)
    _take(page, "releases", only)
    page.goto(f"{base}/compare/sailings?before=3.0.1&now=3.1.0")
    page.get_by_role("heading", name="Entry points").wait_for()
    page.wait_for_timeout(300)
    _take(page, "compare", only)
    page.goto(f"{base}/issues?window=14d")
    page.get_by_role("link", name=re.compile("TideUnavailable")).first.click()
    page.get_by_text("Did the fix hold?").wait_for()
    page.wait_for_timeout(300)
    _to(page, "Since when")
    _take(page, "since", only)
    page.get_by_role("list", name="Notes and checks").wait_for()
    _to(page, "What we know")
    _take(page, "known", only)


def _to(page: Page, heading: str) -> None:
    """Bring a heading of the page to its top."""
    page.evaluate(
        "text => [...document.querySelectorAll('h2')].find((h) => h.textContent === text).scrollIntoView()", heading
    )
    page.wait_for_timeout(300)


def _now(page: Page, base: str, only: set[str]) -> None:
    """Take what is happening, who calls whom, what a line sees, a search, and a story across three apps."""
    page.goto(f"{base}/issues?window=14d")
    page.get_by_role("link", name=re.compile("OutOfPaper")).first.click()
    page.get_by_role("link", name="On a page of its own").click()
    page.get_by_role("listitem").filter(has_text="job print-pass").first.wait_for()
    page.wait_for_timeout(500)
    _take(page, "timeline", only)
    page.goto(f"{base}/now?window=24h")
    page.get_by_role("heading", name="Entry points").wait_for()
    page.wait_for_timeout(300)
    _take(page, "now", only)
    page.goto(f"{base}/now/calls?window=14d")
    page.locator("svg text", has_text="tides.skerry.example").wait_for()
    page.wait_for_timeout(300)
    _take(page, "calls", only)
    page.goto(f"{base}/now/tracepoints?of=ticketdesk&file=ticketdesk/fares.py&line=24")
    page.get_by_label("Only when").fill("paid != GROUP_PENCE")
    page.get_by_label("Say").fill("{passengers} passengers: {GROUP_PENCE - paid} p short")
    page.get_by_role("button", name="Set the tracepoint").click()
    page.get_by_text("p short").nth(3).wait_for(timeout=60_000)
    page.wait_for_timeout(500)
    _take(page, "tracepoint", only)
    page.goto(f"{base}/search?window=14d&question=logger%3Dsailings.tides+severity%3E%3DWARN")
    page.get_by_role("table", name="log records").wait_for()
    page.locator("tr[data-number] button").nth(1).click()
    page.get_by_role("link", name="Everything of this run").wait_for()
    page.wait_for_timeout(500)
    _take(page, "search", only)


def _terminals(browser: Browser, environment: dict[str, str], regressed: str, only: set[str]) -> None:
    page = browser.new_page(viewport={"width": 900, "height": 400})
    for name, command in COMMANDS.items():
        if only and name not in only:
            continue
        arguments = [part.format(regressed=regressed) for part in command]
        shown = subprocess.run(
            [sys.executable, "-m", "obitus", *arguments],
            env=environment,
            capture_output=True,
            text=True,
            check=False,
        )
        console = Console(record=True, width=80, file=open(os.devnull, "w"), color_system="truecolor")
        console.print(Text.from_ansi(f"$ obitus {' '.join(arguments)}\n{shown.stdout}{shown.stderr}"))
        html = console.export_html(inline_styles=True)
        html = html.replace("<body>", '<body style="background:#fffdf8;margin:16px;font-size:15px;width:max-content">')
        page.set_content(html)
        _take(page, name, only, whole=True)
    page.close()


def _take(page: Page, name: str, only: set[str], *, whole: bool = False) -> None:
    if not only or name in only:
        page.screenshot(path=FOLDER / f"{name}.png", full_page=whole, animations="disabled")


if __name__ == "__main__":
    main()
