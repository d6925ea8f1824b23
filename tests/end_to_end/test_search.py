"""The page Search in a real browser: asked, narrowed by a click, opened, counted, drawn, followed."""

from __future__ import annotations

import re
from datetime import UTC, date, datetime, timedelta

import pytest
from playwright.sync_api import Page, expect

from tests.conftest import Running, failure
from tests.end_to_end.browsing import at, axe, context_in, usable
from tests.service.test_records import fill, log, run


def rows(page: Page) -> int:
    return page.locator("tr[data-number]").count()


def ask(page: Page, text: str) -> None:
    field = page.get_by_label(re.compile("^Ask"))
    field.fill(text)
    field.press("Enter")


def test_asked_and_narrowed(page: Page, running: Running) -> None:
    """No question is a good start; a question, a click on a value, and one that leaves another out."""
    fill(running)
    at(page, running, "/search")
    expect(page.get_by_text("31 log records", exact=True)).to_be_visible()
    expect(page.locator("tr[data-number]")).to_have_count(31)
    ask(page, '"no fare" wait_s>=10')
    expect(page.locator("tr[data-number]")).to_have_count(10)
    page.get_by_role("button", name="Only user.id p-101 3").click()
    expect(page.locator("tr[data-number]")).to_have_count(3)
    expect(page.get_by_label(re.compile("^Ask"))).to_have_value('"no fare" wait_s>=10 user.id=p-101')
    ask(page, "")
    page.get_by_role("button", name="Without app gatekeeper").click()
    expect(page.locator("tr[data-number]")).to_have_count(30)
    expect(page).to_have_url(re.compile("question=app%21%3Dgatekeeper"))
    page.reload()
    expect(page.locator("tr[data-number]")).to_have_count(30)


def test_no_question(page: Page, running: Running) -> None:
    """It says where the text stops to be a question, and goes on when it is one."""
    fill(running)
    at(page, running, "/search?question=severity%3ELOUD")
    said = page.get_by_role("alert")
    expect(said).to_contain_text("At character 10: a severity is expected")
    assert axe(page) == []
    ask(page, "severity=WARN")
    expect(said).to_have_count(0)
    expect(page.locator("tr[data-number]")).to_have_count(30)
    ask(page, "fog")
    expect(page.get_by_text("No log record matches.")).to_be_visible()
    ask(page, "user.ids=p-101")
    expect(page.get_by_text("No record has a field user.ids; these come near: user.id.")).to_be_visible()


def test_completion(page: Page, running: Running) -> None:
    """Names and values that exist, with how many have them; chosen with keys or the pointer; what was asked lately."""
    fill(running)
    at(page, running, "/search")
    field = page.get_by_label(re.compile("^Ask"))
    choices = page.get_by_role("listbox", name="Completions").get_by_role("option")
    field.press_sequentially("use")
    expect(choices).to_have_text(["user.id 30 log records"])
    field.press("ArrowDown")
    field.press("Enter")
    expect(field).to_have_value("user.id=")
    expect(choices).to_have_count(4)
    expect(choices.first).to_have_text("p-100 8 log records")
    choices.nth(1).click()
    expect(field).to_have_value("user.id=p-101 ")
    field.press("Enter")
    expect(page.locator("tr[data-number]")).to_have_count(8)
    field.fill("")
    field.press("Escape")
    field.press("Enter")
    expect(page.locator("tr[data-number]")).to_have_count(31)
    field.blur()
    field.click()
    expect(choices).to_have_text(["user.id=p-101 asked before"])


def test_a_record_opens(page: Page, running: Running) -> None:
    """With the keyboard, to all it holds: values to ask for, its place, its template apart from its values, and what belongs to it."""
    fill(running)
    at(page, running, '/search?question="for+2+cars"')
    expect(page.locator("tr[data-number]")).to_have_count(1)
    page.keyboard.press("j")
    page.keyboard.press("Enter")
    expect(page.get_by_text("logged at /srv/fares.py")).to_be_visible()
    expect(page.locator("span.border-b-2", has_text=re.compile("^2$"))).to_be_visible()
    expect(page.get_by_role("link", name=re.compile("TideUnavailable in sailings.tides.depth_at"))).to_be_visible()
    assert axe(page) == []
    page.get_by_role("button", name="Column wait_s").click()
    expect(page.get_by_role("columnheader", name=re.compile("^wait_s"))).to_be_visible()
    page.get_by_role("link", name="Everything of this trace").click()
    expect(page.get_by_role("heading", name="Everything of one trace")).to_be_visible()
    story = page.get_by_role("list", name="Timeline").get_by_role("listitem")
    expect(story.filter(has_text="no fare for")).to_have_count(3)
    expect(page.get_by_text("gate 2 opens")).to_be_visible()
    assert axe(page) == []
    at(page, running, "/issues/1")
    page.get_by_role("link", name="Everything of this run").click()
    expect(page.get_by_role("heading", name="Everything of one run")).to_be_visible()
    expect(story.filter(has_text="no fare for")).to_have_count(3)
    expect(story.filter(has_text="TideUnavailable")).to_have_count(1)
    at(page, running, '/search?question="for+2+cars"')
    page.get_by_role("button", name=re.compile("^Open the record")).click()
    page.get_by_role("button", name="Without severity WARN").last.click()
    expect(page.get_by_text("No log record matches.")).to_be_visible()


def test_summaries(page: Page, running: Running) -> None:
    """As a table whose rows lead to the records, and as a picture, one click apart."""
    fill(running)
    at(page, running, "/search?kind=runs")
    expect(page.locator("tr[data-number]")).to_have_count(5)
    page.get_by_role("button", name="p95 duration by entry_point", exact=True).click()
    expect(page.get_by_role("cell", name=re.compile(r"^49\d|50\d ms"))).to_be_visible()
    page.get_by_label("Summary").fill("count by status over time")
    page.get_by_label("Summary").press("Enter")
    expect(page.get_by_role("row")).to_have_count(3)
    page.get_by_role("button", name="As a picture").click()
    expect(page.locator("canvas")).to_be_visible()
    assert axe(page) == []
    page.get_by_role("button", name="As a table").click()
    page.get_by_role("button", name="The records with 200").click()
    expect(page.locator("tr[data-number]")).to_have_count(5)
    expect(page).to_have_url(re.compile("question=status%3D200"))
    at(page, running, "/search?summary=cuont")
    expect(page.get_by_role("alert")).to_contain_text("`count` or one of")


def test_a_picture_is_taken_away(page: Page, running: Running) -> None:
    """As a PNG file, with its title and its lines."""
    fill(running)
    at(page, running, "/search?summary=count+by+severity+over+time&as=picture")
    with page.expect_download() as waiting:
        page.get_by_role("button", name="PNG").click()
    assert waiting.value.suggested_filename == "count-by-severity-over-time.png"
    body = waiting.value.path().read_bytes()
    assert body.startswith(b"\x89PNG") and len(body) > 4000


def test_by_template_and_by_logger(page: Page, running: Running) -> None:
    """What records came of and which part of an app logged them, each one click from the records."""
    key = fill(running)
    lines = [log(f"berth {number} is free", logger="sailings.berths.watch") for number in range(5)]
    running.send(key, *lines, log("fog", logger="sailings"))
    at(page, running, "/search")
    page.get_by_role("button", name="By template", exact=True).click()
    rows = page.get_by_role("table", name="Templates").get_by_role("row")
    expect(rows.nth(1)).to_contain_text("30! WARNno fare for %d cars")
    expect(page.get_by_role("button", name="The records of berth … is free")).to_be_visible()
    assert axe(page) == []
    page.get_by_role("button", name="The records of berth … is free").click()
    expect(page.locator("tr[data-number]")).to_have_count(5)
    at(page, running, "/search")
    page.get_by_role("button", name="By logger", exact=True).click()
    tree = page.get_by_role("table", name="Loggers")
    expect(tree.get_by_role("row").nth(1)).to_contain_text("sailings37change! 30")
    page.get_by_role("button", name="Fold sailings").click()
    expect(tree.get_by_role("row")).to_have_count(2)
    page.get_by_role("button", name="Unfold sailings").click()
    page.get_by_role("button", name="The records of sailings.berths.watch").click()
    expect(page.locator("tr[data-number]")).to_have_count(5)


def test_in_the_order_of_a_column(page: Page, running: Running) -> None:
    """A click on its name puts the greatest first, one more the smallest; then time decides again."""
    fill(running)
    at(page, running, "/search?kind=runs")
    rows = page.locator("tr[data-number]")
    expect(rows).to_have_count(5)
    page.get_by_role("button", name="duration", exact=True).click()
    expect(rows.first).to_contain_text("500 ms")
    expect(page.get_by_text("by duration, greatest first")).to_be_visible()
    page.get_by_role("button", name="duration", exact=True).click()
    expect(rows.first).to_contain_text("100 ms")
    page.get_by_role("button", name="duration", exact=True).click()
    expect(page.get_by_role("button", name="Follow", exact=True)).to_be_visible()


def followed(page: Page, running: Running) -> str:
    """Fill the records, follow warnings and errors, and return the key of those who report."""
    key = fill(running)
    at(page, running, "/search?question=severity%3E%3DWARN")
    expect(page.locator("tr[data-number]")).to_have_count(30)
    page.keyboard.press("f")
    expect(page.get_by_text("● following")).to_be_visible()
    return key


def test_follow(page: Page, running: Running) -> None:
    """What comes is on top and marked; while one reads it holds still and counts; then all is there."""
    key = followed(page, running)
    running.send(key, log("quiet", 0), log("loud 1", 0, severity="ERROR"))
    expect(page.locator("tr[data-number]").first).to_contain_text("loud 1")
    expect(page.locator("tr[data-number]").first).to_contain_text("new")
    page.locator("tr[data-number]").nth(3).click()
    running.send(key, log("loud 2", 0, severity="ERROR"), log("loud 3", 0, severity="ERROR"))
    expect(page.get_by_role("button", name="Show 2 more records that arrived")).to_be_visible()
    expect(page.locator("tr[data-number]").first).to_contain_text("loud 1")
    page.get_by_role("button", name="Show 2 more records that arrived").click()
    expect(page.locator("tr[data-number]")).to_have_count(33)
    expect(page.locator("tr[data-number]").nth(2)).to_contain_text("loud 1")


def test_following_goes_on_after_a_proxy_has_answered(page: Page, running: Running) -> None:
    """While a service starts again its proxy answers 502, after which browsers give up: nothing is missed all the same."""
    key = followed(page, running)
    expect(page.get_by_text("● live")).to_be_visible()
    streams = re.compile(r"/tail\?|/api/live")
    page.route(streams, lambda route: route.fulfill(status=502))
    with page.expect_response(lambda answer: "/tail?" in answer.url), page.expect_response("**/api/live"):
        running.service.live.end(None)
    expect(page.get_by_text("○ the stream was interrupted")).to_be_visible()
    expect(page.get_by_text("○ not connected")).to_be_visible()
    running.send(key, log("while nobody listened", 0, severity="ERROR"))
    page.unroute(streams)
    expect(page.get_by_text("● following")).to_be_visible()
    expect(page.get_by_text("● live")).to_be_visible()
    expect(page.locator("tr[data-number]").first).to_contain_text("while nobody listened")


def test_columns_and_files(page: Page, running: Running) -> None:
    """Columns are added, moved and left out, and are in the link and in the file."""
    fill(running)
    at(page, running, "/search?columns=time,message&question=severity%3DWARN")
    page.get_by_label("Add column").fill("user.id")
    page.get_by_label("Add column").press("Enter")
    expect(page).to_have_url(re.compile("columns=time%2Cmessage%2Cuser.id"))
    page.get_by_role("button", name="Move user.id to the left").focus()
    page.keyboard.press("Enter")
    page.get_by_role("button", name="Leave time out").focus()
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("columns=user.id%2Cmessage"))
    with page.expect_download() as waiting:
        page.get_by_role("link", name="CSV", exact=True).click()
    lines = waiting.value.path().read_text().splitlines()
    assert lines[0] == "user.id,message" and len(lines) == 31


@pytest.mark.parametrize(
    "path", ["/search", "/search?kind=failures", "/search?kind=runs&summary=count+by+status&as=picture"]
)
def test_everybody_can_use_it(page: Page, running: Running, path: str) -> None:
    """Whatever is shown, the light and the width."""
    key = running.add_app()
    running.send(key, *(run(duration_ms=number, request={"method": "GET", "url": "/", "status": 200 + number}) for number in range(4)), log("<b>bold</b>"), failure())  # fmt: skip
    at(page, running, path)
    expect(page.get_by_role("heading", name="What occurs")).to_be_visible()
    expect(page.get_by_text("Loading …")).to_have_count(0)
    expect(page.get_by_text("● live")).to_be_visible()
    usable(page)


def test_reports_are_never_markup(page: Page, running: Running) -> None:
    """Not in a row, not in what occurs, not in a completion, not opened."""
    key = running.add_app()
    evil = '<img src=x onerror="document.title=1">'
    for _ in range(2):
        running.send(key, log(evil, 0, logger=evil, attributes={evil: evil, "user.id": evil}))
    at(page, running, "/search")
    expect(page.locator("tr[data-number]")).to_have_count(2)
    page.locator("tr[data-number]").first.click()
    page.get_by_label(re.compile("^Ask")).press_sequentially("user.id=")
    expect(page.get_by_role("listbox", name="Completions").get_by_role("option")).to_have_count(1)
    assert page.locator("img").count() == 0 and page.title() == "Search · Obitus"


@pytest.mark.parametrize(
    ("zone", "shown"),
    [
        # In Oslo the hour from 02:00 came twice that night.
        ("Europe/Oslo", ["Sun 25 Oct 02:30:00.000", "Sun 25 Oct 02:30:00.000"]),
        ("Asia/Kathmandu", ["Sun 25 Oct 07:15:00.000", "Sun 25 Oct 06:15:00.000"]),
        ("America/St_Johns", ["Sat 24 Oct 23:00:00.000", "Sat 24 Oct 22:00:00.000"]),
    ],
)
def test_times_in_three_zones(page: Page, running: Running, zone: str, shown: list[str]) -> None:
    """Times are those of who looks, across a change of the clock; in UTC they are kept apart, one key away."""
    year = datetime.now(UTC).year - (datetime.now(UTC) < datetime(datetime.now(UTC).year, 10, 26, tzinfo=UTC))
    night = date(year, 10, 31) - timedelta(days=(date(year, 10, 31).weekday() + 1) % 7)
    shown = [re.sub(r"^\w+ \d+", lambda found: (night - timedelta(days=found[0].startswith("Sat"))).strftime("%a %-d"), one) for one in shown]  # fmt: skip
    running.send(running.add_app(), *(log(hour, time=f"{night}T{hour}:30:00.000Z") for hour in ("00", "01")))
    assert page.context.browser is not None
    context = context_in(
        page.context.browser, timezone_id=zone, locale="en-GB", storage_state=page.context.storage_state()
    )
    there = context.new_page()
    at(there, running, "/search?window=360d")
    cells = there.locator("tr[data-number] td:nth-child(2)")
    expect(cells).to_have_text(shown)
    there.keyboard.press("z")
    expect(cells.first).to_have_text(re.compile("01:30:00.000"))
    expect(cells.last).to_have_text(re.compile("00:30:00.000"))
    context.close()
