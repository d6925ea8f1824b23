"""Boards, saved questions and what loggers send, in a real browser."""

from __future__ import annotations

import re

from playwright.sync_api import Page, Route, expect

from obitus.service.jobs import first_board
from tests.conftest import Running, until
from tests.end_to_end.browsing import at, axe, usable, walk
from tests.end_to_end.test_now import fill as fill_now
from tests.service.test_calls import called, whole
from tests.service.test_records import fill, log


def test_changes_in_a_hurry(page: Page, running: Running) -> None:
    """Who arranges faster than the service answers sees each change at once, and all of them are kept."""
    fill_now(running)
    panes = [{"part": "failures", "title": "First"}, {"part": "runs", "title": "Second"}]
    made = running.ask("POST", "/api/boards", {"name": "Office wall", "panes": panes})
    number = made.json()["id"]
    held: list[Route] = []
    slow = [True]

    def answer(route: Route) -> None:
        if slow and route.request.method == "PUT":
            held.append(route)
        else:
            route.continue_()

    page.route("**/api/boards/*", answer)
    at(page, running, f"/now/boards/{number}?window=1h")
    expect(page.get_by_role("heading", name="Office wall")).to_be_visible()
    page.keyboard.press("e")
    page.get_by_role("group", name="Arrange Second").get_by_role("button", name="Earlier").click()
    arranged = page.get_by_role("group", name=re.compile("^Arrange"))
    expect(arranged.first).to_have_accessible_name("Arrange Second")
    arranged.first.get_by_label("wide").select_option("4/4")
    page.get_by_label("Name", exact=True).fill("The wall")
    page.get_by_label("Name", exact=True).press("Enter")
    slow.clear()
    for route in held:
        route.continue_()

    def kept() -> tuple[str, list[tuple[str, int]]]:
        board = running.get(f"/api/boards/{number}")
        return board["name"], [(pane["title"], pane["width"]) for pane in board["panes"]]

    def all_are_kept() -> bool:
        # What the page asks goes on only while the browser is waited for.
        page.wait_for_timeout(20)
        return kept() == ("The wall", [("Second", 4), ("First", 2)])

    until(all_are_kept)
    assert page.get_by_role("alert").count() == 0
    page.get_by_role("button", name="Done").click()
    expect(page.get_by_role("heading", name="The wall")).to_be_visible()


def test_from_pictures_to_a_board(page: Page, running: Running) -> None:
    """From Search and from Now onto a new board; arranged; there when one comes back; shown alone; removed."""
    key = fill_now(running)
    at(page, running, "/search?kind=runs&summary=count+by+status+over+time&as=picture")
    page.get_by_role("button", name=re.compile("^Put on a board")).click()
    page.get_by_label("Called").fill("Answers")
    # The board that comes by itself may be there already.
    onto = page.get_by_role("combobox", name=re.compile("^On"))
    onto.select_option("a new board")
    page.get_by_label("Name of the new board").fill("Office wall")
    page.get_by_role("button", name="Put it there").click()
    expect(page.get_by_role("heading", name="Office wall")).to_be_visible()
    expect(page.locator("canvas")).to_be_visible()
    at(page, running, "/now?window=1h")
    page.get_by_role("heading", name="Answer codes").hover()
    page.get_by_role("button", name="Put on a board: Answer codes").click()
    onto.select_option("Office wall")
    page.get_by_role("button", name="Put it there").click()
    expect(page.get_by_text("It is on the board “Office wall”.")).to_be_visible()
    at(page, running, "/now/boards")
    expect(page.get_by_text("2 pictures, changed by owner")).to_be_visible()
    page.get_by_role("link", name="Office wall").click()
    headings = page.get_by_role("heading", level=2)
    expect(headings).to_have_text(["Answers", "Answer codes"])
    assert axe(page) == []
    page.keyboard.press("e")
    codes = page.get_by_role("group", name="Arrange Answer codes")
    codes.get_by_role("button", name="Earlier").click()
    expect(page.get_by_role("group", name=re.compile("^Arrange"))).to_have_count(2)
    expect(page.get_by_role("group", name=re.compile("^Arrange")).first).to_have_accessible_name("Arrange Answer codes")
    codes.get_by_label("wide").select_option("4/4")
    expect(page.get_by_role("region", name="Answer codes").first).to_have_class(re.compile("col-span-4"))
    page.get_by_label("Name", exact=True).fill("The wall")
    page.get_by_label("Name", exact=True).press("Enter")
    page.get_by_role("button", name="Done").click()
    page.reload()
    expect(page.get_by_role("heading", name="The wall")).to_be_visible()
    expect(headings).to_have_text(["Answer codes", "Answers"])
    page.keyboard.press("w")
    expect(page).to_have_url(re.compile("alone=1"))
    expect(page.get_by_role("navigation")).to_have_count(0)
    # It is refreshed while nobody touches it.
    running.send(key, log("x", 1))
    page.keyboard.press("w")
    page.get_by_role("button", name="Arrange").click()
    page.get_by_role("button", name="Take Answers off the board").click()
    expect(page.get_by_role("group", name=re.compile("^Arrange"))).to_have_count(1)
    page.get_by_role("button", name="Remove the board").click()
    page.get_by_role("button", name="Remove it").click()
    expect(page.get_by_role("heading", name="Boards")).to_be_visible()
    expect(page.get_by_role("link", name="The wall")).to_have_count(0)


def test_somebody_else_was_faster(page: Page, running: Running) -> None:
    """What they did in the meantime is said and shown, and not written over."""
    fill_now(running)
    made = running.ask("POST", "/api/boards", {"name": "Wall", "panes": [{"part": "runs"}, {"part": "types"}]}).json()
    path = f"/api/boards/{made['id']}"

    def first(route: Route) -> None:
        if route.request.method == "PUT":
            running.ask("PUT", path, {"name": "Theirs", "panes": [{"part": "types"}], "seen": 1})
        route.continue_()

    page.route(f"**{path}", first)
    at(page, running, f"/now/boards/{made['id']}?window=1h")
    page.get_by_role("button", name="Arrange").click()
    page.get_by_role("button", name="Take Types of exceptions off the board").click()
    expect(page.get_by_role("alert")).to_contain_text("has changed this board meanwhile")
    expect(page.get_by_label("Name", exact=True)).to_have_value("Theirs")
    expect(page.get_by_role("group", name=re.compile("^Arrange"))).to_have_count(1)
    assert running.get(path)["panes"][0]["part"] == "types"


def test_the_board_that_comes_by_itself(page: Page, running: Running) -> None:
    """It shows what fits what was reported, and everybody can use it."""
    key = fill_now(running)
    running.send(key, whole("GET /fares", called("https://tides.example/depth")))
    first_board.make(running.service.records, running.clock())
    at(page, running, "/now/boards/1?window=1h")
    expect(page.get_by_role("heading", name="Overview")).to_be_visible()
    expect(page.locator("canvas")).to_have_count(2)
    expect(page.get_by_text("tides.example")).to_be_visible()
    usable(page)
    at(page, running, "/now/calls?window=1h")
    expect(page.get_by_role("table", name="Calls")).to_be_visible()
    walk(page)


def test_saved_questions(page: Page, running: Running) -> None:
    """With a name, for all; there for the next time; replaced by the same name; removed."""
    fill(running)
    at(page, running, "/search?question=severity%3DWARN&columns=time,message&window=14d")
    page.get_by_text("Saved", exact=True).click()
    expect(page.get_by_text("No question is saved yet.")).to_be_visible()
    page.get_by_role("button", name="Save what is shown").click()
    page.get_by_label("Name").fill("Warnings")
    page.get_by_label("for all of the team").check()
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("“Warnings” is saved for all.")).to_be_visible()
    assert axe(page) == []
    at(page, running, "/search?window=1h")
    page.get_by_text("Saved (1)").click()
    page.get_by_role("link", name="Warnings").click()
    expect(page).to_have_url(re.compile(r"window=1h.*question=severity%3DWARN.*columns=time%2Cmessage"))
    expect(page.locator("tr[data-number]")).to_have_count(30)
    page.get_by_text("Saved (1)").click()
    page.get_by_role("button", name="Remove Warnings").click()
    expect(page.get_by_text("Saved", exact=True)).to_be_visible()


def test_what_a_logger_sends(page: Page, running: Running) -> None:
    """From the tree of loggers: its app is known, what holds is listed, and it can be ended."""
    fill(running)
    at(page, running, "/search?by=logger")
    page.get_by_role("button", name="Change what sailings.fares sends").click()
    expect(page.get_by_role("dialog").get_by_role("combobox", name=re.compile("^App"))).to_have_value(
        re.compile("sailings|gatekeeper")
    )
    page.get_by_role("dialog").get_by_role("combobox", name=re.compile("^App")).select_option("sailings")
    page.get_by_role("button", name="Order it").click()
    expect(page.get_by_text("Active for sailings")).to_be_visible()
    expect(page.get_by_role("listitem").filter(has_text="from DEBUG")).to_contain_text("owner")
    assert axe(page) == []
    (order,) = running.get("/api/apps/sailings/log-orders")["orders"]
    assert (order["logger"], order["severity"]) == ("sailings.fares", "DEBUG")
    page.get_by_role("button", name="End it").click()
    expect(page.get_by_text("Active for sailings")).to_have_count(0)
    assert running.get("/api/apps/sailings/log-orders")["orders"] == []
