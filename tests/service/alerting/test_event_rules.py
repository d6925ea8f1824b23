"""Rules over events: what happens fires at once, once, and is told as one message."""

from __future__ import annotations

import time
import uuid
from collections.abc import Iterator

import pytest

from obitus.core.clock import DAY_MS, HOUR_MS, to_text
from tests.conftest import Running, failure, raised_in, until
from tests.service.alerting.helpers import fired, rule, settle, webhook
from tests.service.alerting.receivers import Receiver, receiving


@pytest.fixture
def receiver() -> Iterator[Receiver]:
    """Where messages go."""
    with receiving() as found:
        yield found


def test_a_new_issue_is_told_with_the_way_to_it(running: Running, receiver: Receiver) -> None:
    """The message says what, where and since when, leads to the issue, and the firing says how the delivery went."""
    key = running.add_app()
    webhook(running, receiver)
    rule(running, "new issue where app=sailings severity>=ERROR", priority="high")
    running.send(key, failure(run={"entry_point": "POST /boardings"}))
    until(lambda: receiver.got)
    settle(running)
    event = receiver.got[0].json()
    assert (event["specversion"], event["type"], event["subject"]) == ("1.0", "obitus.alert.fired", "issue 1")
    part = event["data"]["parts"][0]
    assert event["data"]["title"] == "New issue: TideUnavailable in sailings.tides.depth_at (sailings production)"
    assert part["link"] == f"{running.service.settings.url}/issues/1"
    assert part["rules"] == ["some-rule (new issue where app=sailings severity>=ERROR)"]
    assert {act["label"] for act in part["acts"]} == {"Accept", "Park it", "Silence it for a day"}
    found = fired(running)[0]
    message = found["messages"][0]
    assert (found["issue"], found["is_over"], found["held_back"]) == (1, True, "")
    assert message["channel"] == "ops" and message["delivered"] and message["tries"] == 1
    assert message["said"].startswith("made ") and ", delivered " in message["said"]
    assert message["id"] == event["id"] == receiver.got[0].headers["obitus-id"]


def test_one_issue_that_fires_five_rules_is_one_message(running: Running, receiver: Receiver) -> None:
    """All of them are named in it, and each has a record."""
    key = running.add_app()
    webhook(running, receiver)
    for number in range(5):
        rule(running, "new issue, issue regressed", f"rule-{number}")
    running.send(key, failure())
    settle(running)
    assert len(receiver.got) == 1
    assert len(receiver.got[0].json()["data"]["parts"][0]["rules"]) == 5
    assert [one["rule"] for one in fired(running)] == [f"rule-{number}" for number in reversed(range(5))]


def test_what_is_reported_twice_or_read_twice_fires_once(running: Running, receiver: Receiver) -> None:
    """The same report again, another failure of the issue, and the same event again change nothing."""
    key = running.add_app()
    webhook(running, receiver)
    rule(running, "new issue")
    report = failure()
    running.send(key, report)
    settle(running)
    running.send(key, report, failure())
    from obitus.store import events

    job = next(run.job for run in running.service.runner._runs.values() if run.job.name == "alerting")
    for event in events.after(running.service.records.reader, 0):
        if event.kind == "issue-new":
            job.take(event)
    settle(running)
    assert len(receiver.got) == 1 and len(fired(running)) == 1


def test_what_happened_long_ago_wakes_nobody(running: Running, receiver: Receiver) -> None:
    """A log file that is read in tells of last week: it is noted, with the reason."""
    key = running.add_app()
    webhook(running, receiver)
    rule(running, "new issue")
    running.send(key, failure(time=to_text(int(time.time() * 1000) - 3 * DAY_MS)))
    settle(running)
    assert not receiver.got
    assert "more than a day before it was reported" in fired(running)[0]["held_back"]


def test_a_condition_asks_of_the_issue_and_of_its_failure(running: Running, receiver: Receiver) -> None:
    """Type, people, attributes and words can be asked for; what does not hold fires nothing."""
    key = running.add_app()
    webhook(running, receiver)
    rule(running, "new issue where type=TideLow pier.name=eastholm depth", "wanted")
    rule(running, "new issue where people>=2", "many")
    running.send(
        key,
        failure(exceptions=raised_in("tides", "low", "TideLow", "no depth"), attributes={"pier.name": "westholm"}),
        failure(exceptions=raised_in("tide", "low", "TideLow", "no depth"), attributes={"pier.name": "eastholm"}),
    )
    settle(running)
    assert [(one["rule"], one["issue"]) for one in fired(running)] == [("wanted", 2)]


def test_regressed_and_reopened_issues_fire(running: Running, receiver: Receiver) -> None:
    """An issue that comes back after it was settled, or that was parked until something, is told."""
    key = running.add_app()
    webhook(running, receiver)
    rule(running, "issue regressed", "back")
    rule(running, "issue reopened", "woken")
    running.send(key, failure(), failure(exceptions=raised_in("fares", "price")))
    assert running.ask("POST", "/api/issues/1/settle", {"how": "now"}).status == 200
    assert running.ask("POST", "/api/issues/2/park", {"failures": 1}).status == 200
    running.clock.ahead_ms += 1000
    running.send(
        key,
        failure(time=to_text(running.clock())),
        failure(exceptions=raised_in("fares", "price"), time=to_text(running.clock())),
    )
    settle(running)
    assert {(one["rule"], one["issue"]) for one in fired(running)} == {("back", 1), ("woken", 2)}


def test_more_than_a_rule_may_send_goes_out_as_one_later(running: Running, receiver: Receiver) -> None:
    """A flood of new issues is so many messages, and one about all the others once the hour is over."""
    key = running.add_app()
    webhook(running, receiver)
    rule(running, "new issue", at_most_an_hour=3)
    for number in range(8):
        running.send(key, failure(exceptions=raised_in(f"part{number}", "act")))
        settle(running)
    assert len(receiver.got) == 3
    assert sum("3 messages an hour" in one["held_back"] for one in fired(running)) == 5
    running.clock.ahead_ms += HOUR_MS + 1000
    settle(running)
    assert len(receiver.got) == 4
    data = receiver.got[3].json()["data"]
    assert len(data["parts"]) == 5 and data["title"].endswith("and 4 more")
    assert "3 messages went out within the hour" in data["plain"]


def test_a_silence_holds_back_and_ends_by_itself(running: Running, receiver: Receiver) -> None:
    """Of an app, of an issue, of a rule; what fires meanwhile is noted with the silence that held it back."""
    key, other = running.add_app(), running.add_app("gatekeeper")
    webhook(running, receiver)
    rule(running, "new issue")
    order = {"reason": "the pier is rebuilt", "minutes": 60, "app": "gatekeeper"}
    assert running.ask("POST", "/api/silences", order).status == 201
    running.send(other, failure())
    running.send(key, failure())
    settle(running)
    assert len(receiver.got) == 1
    assert {one["held_back"][:9] for one in fired(running)} == {"", "Silence 1"}
    running.clock.ahead_ms += 61 * 60_000
    running.send(other, failure(exceptions=raised_in("later", "act"), time=to_text(running.clock())))
    settle(running)
    assert len(receiver.got) == 2 and running.get("/api/silences")["silences"] == []
    wrong = running.ask("POST", "/api/silences", {"reason": "x", "minutes": 5, "end": "2026-01-01T00:00:00Z"})
    assert wrong.status == 422
    assert running.ask("POST", "/api/silences", {"reason": "x", "end": "2020-01-01T00:00:00Z"}).status == 422


def test_maintenance_can_be_planned_and_ended(running: Running, receiver: Receiver) -> None:
    """A silence that begins later holds from then on; one that is ended holds no more."""
    key = running.add_app()
    webhook(running, receiver)
    rule(running, "new issue")
    start = to_text(running.clock() + HOUR_MS)
    number = running.ask("POST", "/api/silences", {"reason": "new pier", "start": start, "minutes": 90}).json()[
        "number"
    ]
    running.send(key, failure())
    settle(running)
    assert len(receiver.got) == 1
    running.clock.ahead_ms += HOUR_MS + 60_000
    running.send(key, failure(exceptions=raised_in("a", "act"), time=to_text(running.clock())))
    settle(running)
    assert len(receiver.got) == 1
    assert running.ask("DELETE", f"/api/silences/{number}").status == 200
    running.send(key, failure(exceptions=raised_in("b", "act"), time=to_text(running.clock()), id=str(uuid.uuid4())))
    settle(running)
    assert len(receiver.got) == 2


def test_others_are_told_when_nobody_accepts_in_time(running: Running, receiver: Receiver) -> None:
    """Not where somebody accepted the alert, or took the issue up in any other way."""
    key = running.add_app()
    webhook(running, receiver)
    with receiving() as lead:
        webhook(running, lead, "lead")
        rule(running, "new issue", escalate_to=["lead"], escalate_after_minutes=10)
        for number in range(3):
            running.send(key, failure(exceptions=raised_in(f"part{number}", "act")))
        settle(running)
        accepted, taken, left = sorted(one["number"] for one in fired(running))
        assert running.ask("POST", f"/api/alerts/{accepted}/accept").json() == {"first": True, "accepted_by": "owner"}
        assert running.ask("POST", f"/api/alerts/{accepted}/accept").json()["first"] is False
        assert running.ask("POST", "/api/issues/2/accept").status == 200
        running.service.periodic_alerts.look()
        settle(running)
        assert not lead.got
        running.clock.ahead_ms += 11 * 60_000
        running.service.periodic_alerts.look()
        running.service.periodic_alerts.look()
        settle(running)
        assert len(lead.got) == 1
        data = lead.got[0].json()["data"]
        assert data["title"].startswith("Nobody has accepted: ") and data["parts"][0]["link"].endswith("/issues/3")
        states = {one["number"]: (one["escalated"] is not None, one["accepted_by"]) for one in fired(running)}
        assert states == {accepted: (False, "owner"), taken: (False, "owner has the issue"), left: (True, "")}
