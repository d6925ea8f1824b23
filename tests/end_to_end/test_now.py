"""The page Now in a real browser: each figure is there, leads to its records, and can be read by all."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from tests.conftest import Running
from tests.end_to_end.browsing import at, axe, usable
from tests.service.test_calls import called, statement, whole
from tests.service.test_now import failed, tally
from tests.service.test_records import log, run


def fill(running: Running) -> str:
    key = running.add_app()
    points = [tally(10 * number, 9, f"GET /berths/{number}", duration_ms_below=50 * number) for number in range(1, 4)]
    running.send(
        key, *points, tally(4, 8, outcome="failed", status=500), *(failed(number) for number in (5, 6, 70)), failed(6, "OSError"),
        log("no confirmation", 60, severity="WARN", logger="sailings.mail"), run("GET /berths/3", 140, 60, request={"method": "GET", "url": "/berths/3", "status": 200}),
    )  # fmt: skip
    running.ask("POST", "/api/deploys", {"app": "sailings", "release": "3.2.0", "environment": "production"})
    return key


def test_figures_and_where_they_lead(page: Page, running: Running) -> None:
    """The window beside the time before; what is new; entry points by another measure, as a picture; each leads to its records."""
    key = fill(running)
    at(page, running, "/now?window=1h")
    charts = page.get_by_role("figure")
    expect(charts.nth(0)).to_contain_text(re.compile(r"Failures\s*3\s*1 in the time before: 3.0 times as many"))
    expect(charts.nth(2)).to_contain_text(re.compile(r"Runs\s*64\s*None in the time before"))
    expect(page.get_by_text("◆ sailings 3.2.0 arrived")).to_be_visible()
    expect(page.get_by_role("link", name="OSError in sailings.fares.oserror")).to_be_visible()
    expect(page.get_by_text("No settled issue regressed")).to_be_visible()
    points = page.get_by_role("table", name=re.compile("^Entry points"))
    expect(points.get_by_role("row").nth(1)).to_contain_text("GET /fares")
    page.get_by_role("combobox", name=re.compile("^by")).select_option("time that 95% stay below")
    expect(points.get_by_role("row").nth(1)).to_contain_text("GET /berths/3")
    page.get_by_role("button", name="As a picture").click()
    expect(
        page.get_by_role("list", name=re.compile("Entry points by time")).get_by_role("listitem").first
    ).to_contain_text("< 150 ms")
    assert axe(page) == []
    page.get_by_role("link", name="GET /berths/3").click()
    expect(page).to_have_url(re.compile("/search.*kind=runs.*berths"))
    expect(page.locator("tr[data-number]")).to_have_count(1)
    page.go_back()
    page.get_by_role("link", name="KeyError", exact=True).click()
    expect(page.locator("tr[data-number]")).to_have_count(2)
    page.go_back()
    page.get_by_role("link", name="sailings.mail").click()
    expect(page.locator("tr[data-number]")).to_contain_text("no confirmation")
    page.go_back()
    expect(charts.nth(0)).to_contain_text("Failures")
    running.send(key, failed(1))
    expect(charts.nth(0)).to_contain_text(re.compile(r"Failures\s*4"))


def test_times_in_utc_are_one_key_away(page: Page, running: Running) -> None:
    fill(running)
    at(page, running, "/now?window=1h")
    said = page.get_by_text("the time before is drawn faintly")
    expect(said).not_to_contain_text("UTC")
    page.keyboard.press("z")
    expect(said).to_contain_text("UTC")
    page.reload()
    expect(said).to_contain_text("UTC")
    page.keyboard.press("z")
    expect(said).not_to_contain_text("UTC")


def test_nothing_yet(page: Page, running: Running) -> None:
    at(page, running, "/now")
    expect(page.get_by_text("Nothing was reported in this window")).to_be_visible()


def test_everybody_can_use_it(page: Page, running: Running) -> None:
    """Whatever the light and the width."""
    fill(running)
    at(page, running, "/now?window=1h")
    expect(page.get_by_role("heading", name="Entry points")).to_be_visible()
    expect(page.get_by_text("● live")).to_be_visible()
    usable(page)


def test_who_calls_whom(page: Page, running: Running) -> None:
    """From Now to the picture and its table; a box shows its lines alone; a line leads to its runs."""
    key = fill(running)
    running.add_app("pierboard")
    tides = "https://tides.example/depth"
    calls = [
        whole("GET /fares", called(tides, 2600, "ERROR"), outcome="failed"),
        whole("GET /fares", called(tides), statement()),
    ]
    running.send(key, *calls)
    at(page, running, "/now?window=1h")
    table = page.get_by_role("table", name=re.compile("^Hosts, databases and queues"))
    expect(table.get_by_role("row").nth(1)).to_contain_text("tides.example")
    page.get_by_role("link", name="Who calls whom").click()
    expect(page.get_by_role("heading", name="Who calls whom")).to_be_visible()
    expect(page.locator("svg text", has_text="tides.example")).to_be_visible()
    page.locator("svg text", has_text="sqlite").click()
    expect(page.locator("svg g[opacity='0.15']")).to_have_count(1)
    assert axe(page) == []
    row = page.get_by_role("table", name="Calls").get_by_role("row", name=re.compile("tides.example"))
    expect(row).to_contain_text("80%")
    row.get_by_role("link").click()
    expect(page.locator("tr[data-number]")).to_have_count(2)
    at(page, running, "/now/calls?window=1h&app=pierboard")
    expect(page.get_by_text("No calls are known in this window.")).to_be_visible()
