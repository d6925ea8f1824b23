"""Alerts in a real browser: a channel and a rule are made, something fires, a message is followed; records are passed on."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.conftest import Running, failure, raised_in, until
from tests.end_to_end.browsing import at, context_in, usable
from tests.service.alerting.helpers import allow, rule, webhook
from tests.service.alerting.receivers import Receiver, receiving

pytestmark = pytest.mark.timeout(600)
MARKUP = "<img src=x onerror=alert(1)>"


@pytest.fixture
def receiver() -> Iterator[Receiver]:
    """Where messages go."""
    with receiving() as found:
        yield found


def test_a_rule_is_made_and_fires(page: Page, running: Running, receiver: Receiver) -> None:
    """Channel, test, preview, rule, firing, acceptance: all on pages; what a report says stays text."""
    allow(running, addresses=["127.0.0.1"])
    key = running.add_app()
    running.send(key, failure(exceptions=raised_in("sailings.tides", "depth_at", "TideUnavailable", MARKUP)))

    at(page, running, "/set-up/channels")
    page.get_by_placeholder("night-mail").fill("ops")
    page.get_by_role("region", name="Add a channel").get_by_role("combobox").first.select_option("webhook")
    page.get_by_label("https://hooks.skerry.example/night").fill(receiver.url)
    page.get_by_label("secret to sign with").fill("berth-4")
    page.get_by_role("button", name="Add it").click()
    page.get_by_role("button", name="Test ops").click()
    expect(page.get_by_text("✓ delivered in")).to_be_visible()
    assert receiver.got[-1].headers["obitus-signature"].startswith("sha256=")
    expect(page.get_by_role("main")).not_to_contain_text("berth-4")
    at(page, running, "/set-up/channels")
    expect(page.get_by_role("button", name="Test ops")).to_be_visible()
    usable(page)

    at(page, running, "/alerts")
    page.get_by_label("What to wait for").fill("new issue where severity>=")
    page.get_by_role("button", name="Preview").click()
    expect(page.get_by_role("alert")).to_be_visible()
    page.get_by_label("What to wait for").fill("new issue")
    page.get_by_role("button", name="Preview").click()
    expect(page.get_by_text("would have fired")).to_be_visible()
    page.get_by_placeholder("boardings-fail").fill("new-ones")
    page.get_by_role("group", name="Notifies", exact=True).get_by_label("ops").check()
    page.get_by_role("button", name="Use this rule").click()
    expect(page.get_by_role("region", name="Rules").get_by_text("new-ones", exact=True)).to_be_visible()

    # It appears by itself: somebody looks at the page while it fails.
    running.send(
        key, failure(exceptions=raised_in("sailings.fares", "surcharge", "sailings.fares.FareUnknown", MARKUP))
    )
    row = page.get_by_role("row").filter(has_text="FareUnknown").first
    expect(row).to_contain_text("ops")
    at(page, running, "/alerts")
    expect(row).to_contain_text("ops")
    usable(page)
    row.get_by_role("link").first.click()
    expect(page.get_by_text("delivered")).to_be_visible()
    usable(page, walks=False)
    page.get_by_role("button", name="Accept").click()
    expect(page.get_by_text("◐ accepted by")).to_be_visible()
    page.get_by_role("main").get_by_role("link", name="2", exact=True).click()
    expect(page.get_by_role("heading", name="Alerts of the last 14 days")).to_be_visible()
    expect(page.get_by_role("table", name="What fired, the latest first")).to_contain_text("new-ones")
    assert page.locator("main img").count() == 0


def test_a_link_in_a_message_asks_first(browser: Browser, page: Page, running: Running, receiver: Receiver) -> None:
    """Whoever follows it is not signed in: sees what it would do, does it once, and is told so the second time."""
    key = running.add_app()
    webhook(running, receiver)
    rule(running, "new issue")
    running.send(key, failure(exceptions=raised_in("sailings.tides", "depth_at", "TideUnavailable", MARKUP)))
    until(lambda: bool(receiver.got))
    acts = receiver.got[-1].json()["data"]["parts"][0]["acts"]
    (link,) = [act["link"] for act in acts if act["label"].startswith("Accept")]
    stranger = context_in(browser)
    other = stranger.new_page()
    other.goto(running.url + "/alerts/link#" + link.rpartition("#")[2])
    expect(other.get_by_role("heading", name="Accept issue 1?")).to_be_visible()
    assert running.get("/api/issues/1")["state"] == "untriaged"
    usable(other, walks=False)
    other.get_by_role("button", name="Confirm").click()
    expect(other.get_by_role("status")).to_contain_text("accepted")
    other.reload()
    expect(other.get_by_text("used")).to_be_visible()
    expect(other.get_by_role("button", name="Confirm")).to_have_count(0)
    stranger.close()
    at(page, running, "/issues/1")
    expect(page.get_by_role("main")).to_contain_text("The link in a message to ops accepted it.")


def test_records_are_passed_on_from_set_up(page: Page, running: Running, tmp_path: Path) -> None:
    """A target is added, takes what comes, and is seen in trouble while its folder is away; then it gets what it missed."""
    folder = tmp_path / "depot"
    allow(running, folders=[str(folder)])
    key = running.add_app()
    at(page, running, "/set-up")
    section = page.get_by_role("region", name="Passing on")
    section.get_by_text("Pass records on to a target").click()
    section.get_by_label("Name").fill("depot")
    section.get_by_label("/var/log/obitus/records.ndjson").fill(str(folder / "records.ndjson"))
    for unwanted in ("run", "log", "issue", "alert"):
        section.get_by_role("checkbox", name=unwanted).uncheck()
    section.get_by_role("button", name="Pass records on").click()
    target = section.get_by_role("listitem").filter(has_text="depot")
    expect(target).to_contain_text("Nothing waits.")
    running.send(key, failure(exceptions=raised_in("sailings.tides", "depth_at", "TideUnavailable", MARKUP)))
    expect(target).to_contain_text("the folder")
    usable(page, walks=False)
    folder.mkdir()
    target.get_by_role("button", name="Try depot now").click()
    written = folder / "records.ndjson"
    until(lambda: written.exists() and written.read_text("utf-8").endswith("\n"))
    record = json.loads(written.read_text("utf-8"))
    assert record["exceptions"][0]["message"] == MARKUP
    page.reload()
    expect(target).to_contain_text("1 record passed on")
    target.get_by_role("button", name="Remove depot").click()
    expect(section).to_contain_text("Nothing is passed on.")
