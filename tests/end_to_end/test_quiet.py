"""When nothing was raised, in a real browser: quiet failures on the desk, and what happened to one person."""

from __future__ import annotations

import re
from urllib.parse import quote

from playwright.sync_api import Page, expect

from obitus.service.jobs import quiet
from tests.conftest import Running
from tests.end_to_end.browsing import at, usable
from tests.service.test_quiet import POINT, TRACE, refused, rise


def test_from_the_desk_to_an_issue(page: Page, running: Running) -> None:
    """Its reason, the way to its runs; made an issue of it is one like any other, and can collect no more."""
    key = running.add_app()
    rise(running, key)
    running.send(key, *(refused(n, trace_id=TRACE) for n in range(2, 9)))
    quiet.look(running.service.records, running.clock())
    at(page, running, "/")
    row = page.get_by_role("listitem").filter(has_text=POINT)
    expect(row).to_contain_text("20 of 100 runs were refused (20.0%) in release 3.1.0")
    usable(page)
    row.get_by_role("link", name="The records").click()
    expect(page.locator("tr[data-number]")).to_have_count(7)
    page.go_back()
    page.get_by_role("button", name=f"Make an issue of it: {POINT}").click()
    expect(page.get_by_role("heading", name=f"Refused in {POINT}")).to_be_visible()
    expect(page.get_by_text("422 POST /sailings/SK-4012/boardings: Height is missing").first).to_be_visible()
    expect(page.get_by_text(f"It collects the refused runs of {POINT}.")).to_be_visible()
    page.get_by_role("button", name="Stop collecting").click()
    expect(page.get_by_text("Issue 1 collects no more.")).to_be_visible()
    expect(page.get_by_role("button", name="Stop collecting")).to_have_count(0)


def test_nothing_to_act_on(page: Page, running: Running) -> None:
    """Left, it is gone from the desk; where nothing is kept whole, that is said."""
    rise(running, running.add_app())
    quiet.look(running.service.records, running.clock())
    at(page, running, "/")
    page.get_by_role("button", name="Make an issue of it").click()
    expect(page.get_by_role("alert")).to_contain_text("No record of it is kept whole")
    page.get_by_role("button", name="Nothing to act on").click()
    expect(page.get_by_role("heading", name="Quiet failures")).to_have_count(0)


def test_somebody_says_that_it_did_not_work(page: Page, running: Running) -> None:
    """From the desk by a name and a time to what they met, and to its whole story; a wrong time says so; nothing is markup."""
    key = running.add_app()
    evil = '<img src=x onerror="document.title=1">'
    running.send(key, refused(1, trace_id=TRACE), refused(2, attributes={"user.id": evil}))
    at(page, running, "/")
    form = page.get_by_role("form", name="What happened to one person")
    form.get_by_label("Who").fill("p-102")
    form.get_by_label("About when").fill("teatime")
    form.get_by_label("About when").press("Enter")
    expect(form.get_by_role("alert")).to_contain_text("“teatime” is no time")
    form.get_by_label("About when").fill("now")
    form.get_by_role("button", name="Show what happened to them").click()
    table = page.get_by_role("table", name="What happened to them")
    expect(table.get_by_role("row").nth(1)).to_contain_text("▽ refused")
    page.reload()
    expect(page.get_by_text("found by user.id")).to_be_visible()
    usable(page)
    table.get_by_role("link", name="Timeline").click()
    expect(page).to_have_url(re.compile(f"/trace/{TRACE}"))
    expect(page.get_by_role("listitem").filter(has_text=f"{POINT} → 422").first).to_be_visible()
    at(page, running, f"/person?who={quote(evil)}&around=5m")
    expect(table.get_by_role("row").nth(1)).to_contain_text("refused")
    assert page.locator("img").count() == 0
    at(page, running, "/person?who=nobody")
    expect(page.get_by_text("Nothing is kept of them then.")).to_be_visible()
