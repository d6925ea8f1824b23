"""The timeline in a real browser: on the issue, on a page of its own, narrowed, folded, opened, from the keyboard, and with ten thousand steps."""

from __future__ import annotations

import re
import uuid
from urllib.parse import quote

from playwright.sync_api import Page, expect

from tests.conftest import Running
from tests.end_to_end.browsing import at, axe, usable
from tests.service.test_against import fill as fill_against
from tests.service.test_timeline import START, TRACE, step, story
from tests.service.test_timeline import at as moment


def test_the_story_of_a_failure(page: Page, running: Running) -> None:
    """On the issue's page and alone: three lanes, the correction with its reason, the failure as its end, the last good step."""
    id, _ = story(running)
    at(page, running, "/issues/1")
    lines = page.get_by_role("list", name="Timeline").get_by_role("listitem")
    expect(lines).to_have_count(10)
    expect(lines.last).to_contain_text("OutOfPaper: 40 mm of paper left")
    expect(page.get_by_text("The clock of gate-1 is 39.9")).to_be_visible()
    assert axe(page) == []
    page.get_by_role("link", name="On a page of its own").click()
    expect(page.get_by_role("heading", name="Timeline of one failure")).to_be_visible()
    expect(lines).to_have_count(10)
    expect(lines.nth(8)).to_contain_text("last that worked")
    page.keyboard.press("w")
    page.keyboard.press("Enter")
    expect(page.get_by_text("The last step of this run that is known to have worked")).to_be_visible()
    page.keyboard.press("x")
    expect(lines).to_have_count(6)
    page.keyboard.press("x")
    page.get_by_label("text", exact=True).fill("pass for")
    expect(lines).to_have_count(1)
    page.get_by_label("text", exact=True).fill("")
    page.get_by_role("checkbox", name=re.compile("mark")).uncheck()
    expect(lines).to_have_count(7)
    page.get_by_role("combobox", name=re.compile("^app")).select_option("gatekeeper")
    expect(lines).to_have_count(2)
    page.get_by_role("combobox", name=re.compile("^app")).select_option("all")
    lines.filter(has_text="POST /passes").first.get_by_role("button").click()
    page.get_by_role("link", name="All like it").click()
    expect(page.locator("tr[data-number]")).to_have_count(1)
    at(page, running, f"/failure/{id}")
    page.get_by_role("button", name="± 30m").click()
    expect(page.get_by_text("Issue 1 began")).to_be_visible()
    expect(page).to_have_url(re.compile("around=30m"))
    assert axe(page) == []


def test_of_a_person_and_of_a_trace(page: Page, running: Running) -> None:
    """The pages of their own; what is not there says so."""
    _, runs = story(running)
    at(page, running, f"/trace/{TRACE}")
    expect(page.get_by_role("listitem").filter(has_text="job print-pass").first).to_be_visible()
    usable(page)
    at(page, running, f"/run/{runs['sailings']}")
    expect(page.get_by_role("heading", name="Everything of one run")).to_be_visible()
    at(page, running, f"/user/p-118?at={quote(START.isoformat())}")
    expect(page.get_by_role("listitem").filter(has_text="page /pass").first).to_be_visible()


def test_ten_thousand_steps(page: Page, running: Running) -> None:
    """Few of them are on the page at once; the failure at the end is one key away; what is alike is folded to one line."""
    key = running.add_app()
    for part in range(50):
        trail = [step("http", f"GET berths/{part}-{number} → 200", part * 200 + number, attributes={"url.full": f"http://h{number % 7}.example/"}) for number in range(190)]  # fmt: skip
        run = {
            "id": str(uuid.uuid4()),
            "entry_point": f"GET /berths/{part}",
            "started": moment(part * 200),
            "duration_ms": 199,
        }
        report = {
            "kind": "run",
            "id": str(uuid.uuid4()),
            "time": moment(part * 200 + 199),
            "run": run,
            "trail": trail,
            "trace_id": TRACE,
        }
        assert running.send(key, report).json()["refused"] == 0
    at(page, running, f"/trace/{TRACE}")
    lines = page.get_by_role("list", name="Timeline").get_by_role("listitem")
    expect(lines.first).to_be_visible()
    assert lines.count() < 120
    expect(page.get_by_text("9,550 entries")).to_be_visible()
    expect(lines.nth(1)).to_contain_text("190 calls in a row that say the same but for their values")
    lines.nth(1).get_by_role("button").click()
    expect(lines.nth(1)).to_contain_text("GET berths/0-0")
    page.keyboard.press("j")
    for _ in range(3):
        page.keyboard.press("j")
    assert lines.count() < 120


def test_against_healthy_runs(page: Page, running: Running) -> None:
    """The turning point with both runs side by side, and what failing runs have in common, on the issue's page."""
    fill_against(running)
    at(page, running, "/issues/1?window=24h")
    expect(page.get_by_text("Turning point:")).to_be_visible()
    expect(page.get_by_text("gave 1 row; here it gave 0 rows.")).to_be_visible()
    page.get_by_role("button", name="Side by side with the nearest healthy run").click()
    rows = page.get_by_role("table", name="This run and the nearest healthy one").get_by_role("row")
    expect(rows).to_have_count(4)
    expect(rows.nth(3)).to_contain_text("–")
    expect(page.get_by_text("All 12 failing runs have")).to_be_visible()
    expect(
        page.get_by_role("table", name="What failing runs have in common").get_by_role("row").nth(1)
    ).to_contain_text("100%")
    assert axe(page) == []
