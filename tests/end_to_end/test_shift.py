"""Two people work through the ferry line's list at once, each in a browser of their own, without a mouse."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Locator, Page, expect

from tests.conftest import Running, start
from tests.demo.ferry import loaded, shown
from tests.end_to_end.browsing import axe, context_in
from tests.end_to_end.conftest import session_of

__all__ = ["loaded", "shown"]
pytestmark = pytest.mark.timeout(600)


@pytest.fixture
def line(loaded: Path) -> Iterator[Running]:
    """The service with the ferry line's records."""
    thread, running = start(loaded)
    yield running
    running.http.clear()
    thread.stop()


class Keyboard:
    """Somebody at the list, whose hands never leave the keyboard."""

    def __init__(self, browser: Browser, running: Running, cookie: tuple[str, str]) -> None:
        self._context = context_in(browser)
        self._context.add_cookies([{"name": cookie[0], "value": cookie[1], "url": running.url}])
        self.page: Page = self._context.new_page()
        self.page.goto(running.url + "/issues?window=14d")
        expect(self.page.get_by_text("● live")).to_be_visible()
        expect(self.page.get_by_role("list", name="Issues").get_by_role("listitem").first).to_be_visible()

    def press(self, *keys: str) -> None:
        for key in keys:
            self.page.keyboard.press(key)

    def row(self, number: int) -> Locator:
        rows = self.page.get_by_role("list", name="Issues").get_by_role("listitem")
        return rows.filter(has=self.page.locator(f"a[href^='/issues/{number}?'], a[href='/issues/{number}']"))

    def stand_on(self, number: int) -> None:
        """Move up and down until the keyboard stands on an issue."""
        self.press(*["k"] * 30)
        for _ in range(30):
            if self.row(number).get_attribute("aria-current") == "true":
                return
            self.press("j")
        raise AssertionError(f"issue {number} is not in the list")

    def mark(self, *numbers: int) -> None:
        for number in numbers:
            self.stand_on(number)
            self.press("x")
            expect(self.row(number).get_by_role("checkbox")).to_be_checked()

    def tab_to(self, wanted: Locator) -> None:
        """Come to something by Tab alone."""
        for _ in range(40):
            if wanted.evaluate("one => one === document.activeElement"):
                return
            self.press("Tab")
        raise AssertionError("Tab does not come there")

    def close(self) -> None:
        self._context.close()


def test_two_people_work_through_the_list(browser: Browser, line: Running) -> None:
    """They mark, accept, settle, park, hand over and take back; each sees the other there, and what the other does; nobody overwrites."""
    reader = line.service.records.reader
    ida_id = reader.one("SELECT id FROM people WHERE name = 'Ida Moss'")["id"]
    cookie = session_of(line)
    owner = Keyboard(browser, line, cookie)
    ida = Keyboard(browser, line, (cookie[0], line.service.passes.add("session", ida_id, "", None)))
    open_ones = sorted(issue["number"] for issue in line.issues() if issue["state"] == "untriaged")
    first, second, third, fourth, fifth = open_ones[:5]

    # The owner parks three at once, Ida takes two at the same time; each sees what the other did.
    owner.mark(first, second, third)
    ida.mark(fourth, fifth)
    owner.press("p")
    dialog = owner.page.get_by_role("dialog")
    expect(dialog.get_by_text("3 marked issues")).to_be_visible()
    ida.press("t")
    expect(ida.row(fourth)).to_contain_text("with Ida Moss")
    owner.tab_to(dialog.get_by_label("more failures"))
    owner.page.keyboard.type("500")
    owner.press("Enter")
    for keyboard in (owner, ida):
        for number in (first, second, third):
            expect(keyboard.row(number)).to_contain_text("parked")
            expect(keyboard.row(number)).to_contain_text("until 500 more failures")
        for number in (fourth, fifth):
            expect(keyboard.row(number)).to_contain_text("with Ida Moss")
    assert axe(owner.page) == []

    # One undo for the three.
    owner.press("r")
    for keyboard in (owner, ida):
        for number in (first, second, third):
            expect(keyboard.row(number)).to_contain_text("untriaged")

    # Ida decides while the owner is being asked: the owner is told, and nothing is overwritten.
    owner.press("X", "X")
    expect(owner.page.get_by_role("group", name="Marked issues")).to_have_count(0)
    owner.stand_on(first)
    owner.press("s")
    expect(dialog.get_by_text("Fixed from")).to_be_visible()
    ida.press("X", "X")
    ida.stand_on(first)
    ida.press("a")
    expect(ida.row(first)).to_contain_text("accepted")
    owner.tab_to(dialog.get_by_role("button", name="Settle"))
    owner.press("Enter")
    expect(owner.page.get_by_role("alert")).to_contain_text("Ida Moss accepted it.")
    expect(owner.row(first)).to_contain_text("accepted")
    assert line.get(f"/api/issues/{first}")["state"] == "accepted"

    # Both look at it: each is told that the other does. Ida hands it over.
    for keyboard in (owner, ida):
        keyboard.stand_on(first)
        keyboard.press("Enter")
        expect(keyboard.page.get_by_role("heading", name="What we know")).to_be_visible()
    expect(owner.page.get_by_text("Ida Moss looks at it too.")).to_be_visible()
    expect(ida.page.get_by_text("owner looks at it too.")).to_be_visible()
    ida.press("g")
    hand = ida.page.get_by_role("dialog")
    ida.tab_to(hand.get_by_role("combobox"))
    ida.page.keyboard.type("Per")
    ida.tab_to(hand.get_by_label("It waits for"))
    ida.page.keyboard.type("the tide office")
    ida.press("Enter")
    expect(owner.page.get_by_label("With")).to_have_value("Per Lund")
    expect(
        owner.page.get_by_text(re.compile("Ida Moss handed it to Per Lund and said that it waits for the tide office"))
    ).to_be_visible()
    ida.press("u")
    expect(owner.page.get_by_text("Ida Moss looks at it too.")).to_have_count(0)

    # What the shift hands on holds all of it.
    owner.press("8")
    expect(owner.page.get_by_role("heading", name="What the shift hands on")).to_be_visible()
    expect(owner.page.get_by_role("list", name="What waits").get_by_text("waits for the tide office")).to_be_visible()
    expect(owner.page.get_by_text(re.compile("Ida Moss: [0-9]+ decisions and notes"))).to_be_visible()
    assert axe(owner.page) == []
    owner.close()
    ida.close()


def test_a_list_is_kept_and_counted(browser: Browser, line: Running) -> None:
    """What is asked is saved under a name with the keyboard alone, stands above the list with its count, and is removed again."""
    owner = Keyboard(browser, line, session_of(line))
    lists = owner.page.get_by_role("navigation", name="Lists")
    expect(lists.get_by_role("link", name=re.compile("Unassigned"))).to_be_visible()
    owner.press("/")
    owner.page.keyboard.type("type=KeyError")
    owner.press("Enter")
    save = lists.get_by_role("button", name="Save as a list …")
    expect(save).to_be_visible()
    owner.tab_to(save)
    owner.press("Enter")
    dialog = owner.page.get_by_role("dialog")
    owner.tab_to(dialog.get_by_label("Name"))
    owner.press("Control+a")
    owner.page.keyboard.type("Keys")
    owner.press("Enter")
    count = len(line.issues(question="type=KeyError"))
    expect(lists.get_by_role("link", name=f"Keys {count}")).to_have_attribute("aria-current", "page")
    owner.tab_to(lists.get_by_role("button", name="Remove the list “Keys”"))
    owner.press("Enter")
    expect(lists.get_by_role("link", name=re.compile("Keys"))).to_have_count(0)
    owner.close()


def test_a_reader_sees_no_button_that_is_refused(browser: Browser, line: Running) -> None:
    """Whoever only reads is offered nothing to decide, on the list, on an issue, and in Set-up."""
    made = line.ask("POST", "/api/people/invitations", {"label": "Rut Lind", "role": "reader"}).json()["link"]
    secret = made.partition("#invitation=")[2]
    order = {"invitation": secret, "name": "Rut Lind", "password": "three grey seals at dusk"}
    answer = line.http.request("POST", line.url + "/api/sign-in", json=order)
    name, _, rest = answer.headers["Set-Cookie"].partition("=")
    rut = Keyboard(browser, line, (name, rest.partition(";")[0]))
    expect(rut.page.get_by_role("checkbox")).to_have_count(0)
    rut.press("x", "a", "p", "s", "g", "r")
    expect(rut.page.get_by_role("dialog")).to_have_count(0)
    rut.press("Enter")
    expect(rut.page.get_by_role("heading", name="What we know")).to_be_visible()
    expect(rut.page.get_by_role("heading", name="Earlier issues like it")).to_be_visible()
    offered = {one.inner_text().strip() for one in rut.page.get_by_role("main").get_by_role("button").all()}
    decides = {
        "Accept",
        "Settle …",
        "Park …",
        "Take it",
        "It waits for …",
        "Write it down",
        "Stop collecting",
        "Preview the merge",
        "Preview the split",
    }
    assert not offered & decides, offered
    rut.page.goto(line.url + "/set-up/hand-over")
    expect(rut.page.get_by_role("heading", name="Owners of files")).to_be_visible()
    expect(rut.page.get_by_role("main").get_by_role("button")).to_have_count(0)
    assert (
        line.service.records.reader.rows(
            "SELECT 1 FROM decisions WHERE person_id = (SELECT id FROM people WHERE name = 'Rut Lind')"
        )
        == []
    )
    rut.close()
