"""Rules over windows: amounts agree with the records, fire once for each group, and their end is announced."""

from __future__ import annotations

import random
import re
from collections import Counter
from collections.abc import Iterator
from typing import Any
from urllib.parse import unquote, urlsplit

import pytest

from obitus.core.clock import DAY_MS, HOUR_MS, MINUTE_MS
from tests.conftest import Running, failure, raised_in, start
from tests.service.alerting.helpers import fired, rule, settle, webhook
from tests.service.alerting.receivers import Receiver, receiving
from tests.service.test_now import at, failed, tally
from tests.service.test_records import log


@pytest.fixture
def receiver() -> Iterator[Receiver]:
    """Where messages go."""
    with receiving() as found:
        yield found


def look(running: Running) -> None:
    """Take a turn, and wait for what it sends."""
    running.service.alert_windows.look()
    settle(running)


def test_a_count_by_issue_fires_for_that_issue_alone_and_is_over(running: Running, receiver: Receiver) -> None:
    """The message leads to the issue; one about its end says since when; the record says how far it went."""
    key = running.add_app()
    webhook(running, receiver)
    rule(running, "count of failures > 3 in 10m by issue")
    look(running)
    running.send(key, *(failed(1) for _ in range(4)), *(failed(1, "TideLow") for _ in range(3)))
    look(running)
    assert [(one["issue"], one["value"], one["is_over"]) for one in fired(running)] == [(1, "4", False)]
    assert receiver.got[0].json()["data"]["parts"][0]["link"].endswith("/issues/1")
    running.send(key, *(failed(0.5) for _ in range(5)))
    look(running)
    assert [(one["value"], one["worst"]) for one in fired(running)] == [("4", "9")], "it goes on: no second firing"
    running.clock.ahead_ms += 12 * MINUTE_MS
    look(running)
    assert not fired(running)[0]["is_over"], "once is not enough to be over"
    look(running)
    found = fired(running)[0]
    assert found["is_over"] and [message["kind"] for message in found["messages"]] == ["firing", "over"]
    over = receiver.got[-1].json()
    assert over["type"] == "obitus.alert.over" and over["data"]["title"].startswith("Over since ")
    assert len(receiver.got) == 2


def test_a_share_of_runs_by_entry_point(running: Running, receiver: Receiver) -> None:
    """All runs are counted, those that were only tallied too; one of one is no share; the search finds the runs that failed."""
    key = running.add_app()
    webhook(running, receiver)
    rule(running, "share of failed runs > 5% in 15m by entry_point where app=sailings")
    running.send(
        key, tally(90, 4), tally(10, 4, outcome="failed", status=500), tally(99, 4, "GET /tides"), tally(1, 4, "GET /tides", outcome="failed", status=500),
        tally(1, 4, "GET /odd", outcome="failed", status=500), tally(50, 90, "GET /old", outcome="failed", status=500),
    )  # fmt: skip
    look(running)
    assert [(one["about"], one["value"], one["bound"]) for one in fired(running)] == [(["GET /fares"], "10%", "5%")]
    data = receiver.got[0].json()["data"]
    assert data["title"].startswith("Share of failed runs: GET /fares (sailings")
    asked = unquote(urlsplit(data["parts"][0]["records"]).query).replace("+", " ")
    assert 'question=app=sailings entry_point="GET /fares" outcome=failed' in asked and "kind=runs" in asked


def test_too_little_fires_as_too_much_does(running: Running, receiver: Receiver) -> None:
    """Fewer runs than there should be, none at all, an app that reports nothing: each is missed only after it was there."""
    key = running.add_app()
    webhook(running, receiver)
    rule(running, "count of runs < 10 in 1h by entry_point", "few")
    rule(running, "no runs for 2h by entry_point", "none")
    rule(running, "no reports for 30m by app", "silent")
    running.send(key, tally(5, 10), tally(50, 10, "GET /tides"))
    look(running)
    assert [(one["rule"], one["about"]) for one in fired(running)] == [("few", ["GET /fares"])]
    running.clock.ahead_ms += 3 * HOUR_MS
    look(running)
    assert {(one["rule"], *one["about"]) for one in fired(running)} == {
        ("few", "GET /fares"), ("few", "GET /tides"), ("none", "GET /fares"), ("none", "GET /tides"), ("silent", "sailings"),
    }  # fmt: skip
    again = tally(50, 1)
    again["time"] = at(-179)
    running.send(key, again)
    look(running)
    look(running)
    assert {(one["rule"], *one["about"]) for one in fired(running) if not one["is_over"]} == {
        ("few", "GET /tides"), ("none", "GET /tides"),
    }  # fmt: skip


def test_durations_people_and_numbers(running: Running, receiver: Receiver) -> None:
    """Percentiles of runs and of attributes, people that failures met, failures per thousand runs."""
    key = running.add_app()
    webhook(running, receiver)
    rule(running, "p95 duration of runs > 800ms in 15m by entry_point", "slow")
    rule(running, "count of people >= 3 in 1h by issue", "many")
    rule(running, "failures per thousand runs > 20 in 15m by app", "rate")
    rule(running, "largest wait_s of logs > 3s in 10m", "waits")
    rule(running, "count of logs >= 2 in 10m where severity>=WARN logger=sailings.mail", "warned")
    running.send(
        key, tally(90, 4, duration_ms_below=50), tally(10, 4, duration_ms_below=2500), tally(100, 4, "GET /tides", duration_ms_below=50),
        *(failed(2, attributes={"user.id": f"p-{number % 3}"}) for number in range(6)), log("waited", attributes={"wait_s": 4.5}),
        *(log("no confirmation", severity="WARN", logger="sailings.mail") for _ in range(2)), log("odd", severity="ERROR"),
    )  # fmt: skip
    look(running)
    found = {one["rule"]: (one["about"], one["value"]) for one in fired(running)}
    assert found == {
        "slow": (["GET /fares"], "1,750 ms"), "many": (["1"], "3"), "rate": (["sailings"], "30"), "waits": ([], "4.5"), "warned": ([], "2"),
    }  # fmt: skip


def test_each_record_counts_once_however_often_it_is_looked_at(running: Running, receiver: Receiver) -> None:
    """What is sent twice, what comes late, a rule that begins later, and a service that starts again come to the same amounts."""
    key = running.add_app()
    webhook(running, receiver)
    rule(running, "count of failures > 1000 in 1h by entry_point", "early")
    look(running)
    dice, sent = random.Random(4), Counter[tuple[int, str]]()
    for _ in range(6):
        reports = []
        for _ in range(20):
            minutes, point = dice.choice((1, 4, 20, 50, 300)), dice.choice(("GET /a", "GET /b"))
            reports.append(failed(minutes, run={"entry_point": point}))
            if minutes < 60:
                sent[(0, point)] += 1
        running.send(key, *reports)
        running.send(key, *reports[:7])
        look(running)
    rule(running, "count of failures > 1000 in 1h by entry_point", "late")
    look(running)
    look(running)
    from obitus.service.alerting.window_rules import counted_of, look_at
    from obitus.store.asking.finding import names_in

    records, now_ms = running.service.records, running.clock()
    for known in running.service.rule_book.rules():
        judged, _ = look_at(records, known.condition, counted_of(known), names_in(records.reader), now_ms, None, set())  # type: ignore[arg-type]
        assert {key[0]: one.value for key, one in judged.items()} == {point: n for (_, point), n in sent.items()}, (
            known.row.name
        )


def test_a_killed_service_counts_on_where_it_stood(tmp_path: Any, receiver: Receiver) -> None:
    """Amounts and positions are kept together: nothing is counted twice or left out, and an open firing goes on."""
    thread, running = start(tmp_path / "data")
    key = running.add_app()
    webhook(running, receiver)
    rule(running, "count of failures > 3 in 30m")
    look(running)
    running.send(key, *(failed(1) for _ in range(4)))
    look(running)
    running.http.clear()
    thread.stop()
    thread, running = start(tmp_path / "data")
    running.send(key, *(failed(1) for _ in range(2)))
    look(running)
    found = fired(running)
    assert [(one["value"], one["worst"], one["is_over"]) for one in found] == [("4", "6", False)]
    assert len(receiver.got) == 1
    running.http.clear()
    thread.stop()


def test_a_changed_rule_begins_anew_and_an_ended_one_is_over(running: Running, receiver: Receiver) -> None:
    """What was counted for another condition is not taken for this one's."""
    key = running.add_app()
    webhook(running, receiver)
    rule(running, "count of failures > 2 in 10m")
    running.send(key, *(failed(1) for _ in range(3)), log("odd", severity="ERROR"))
    look(running)
    assert len(fired(running)) == 1
    order = {"when": "count of logs > 0 in 10m where severity=ERROR", "to": ["ops"]}
    assert running.ask("PUT", "/api/alert-rules/some-rule", order).status == 200
    look(running)
    assert [(one["value"], one["is_over"]) for one in fired(running)] == [("1", False), ("3", True)]
    assert running.ask("DELETE", "/api/alert-rules/some-rule").status == 200
    look(running)
    assert all(one["is_over"] for one in fired(running))
    assert running.ask("DELETE", "/api/alert-rules/some-rule").status == 404


def test_more_than_usual_at_that_hour(running: Running, receiver: Receiver) -> None:
    """Three times what the same hour of earlier days had fires, with those numbers; what is usual then does not."""
    key = running.add_app()
    webhook(running, receiver)
    for days in range(1, 15):
        # Twenty an hour, for three hours around the same time of day.
        around = [days * 24 * 60 - 60 + 3 * number for number in range(60)]
        for point in ("GET /a", "GET /b"):
            running.send(key, *(failed(minutes, run={"entry_point": point}) for minutes in around))
    running.send(key, *(failed(20, run={"entry_point": "GET /a"}) for _ in range(70)))
    running.send(key, *(failed(20, run={"entry_point": "GET /b"}) for _ in range(24)))
    rule(running, "count of failures > usual in 1h by entry_point")
    look(running)
    assert [(one["about"], one["value"]) for one in fired(running)] == [(["GET /a"], "70")]
    said = fired(running)[0]["reason"]
    assert re.match(
        r"70 where (19|20|21)\S* was usual at that hour \(before: .*\), 3\.\d+ times that; by chance ", said
    ), said


def test_a_preview_says_what_the_rule_will_do(running: Running, receiver: Receiver) -> None:
    """The same amounts, from the records: how often in 14 days, when, why, and what a look costs."""
    key = running.add_app()
    webhook(running, receiver)
    for days in (2, 5, 9):
        running.send(key, *(failed(days * 24 * 60 + number) for number in range(4)))
    running.send(key, tally(40, 3 * 60), tally(20, 3 * 60, outcome="failed", status=500))
    previews = {
        when: running.ask("POST", "/api/alert-rules/preview", {"when": when}).json()
        for when in (
            "count of failures > 3 in 10m", "new issue", "share of failed runs > 5% in 15m by entry_point", "count of logs > 3 in 1h",
            "no runs for 2h by entry_point", "count of failures < 1 in 1d",
        )
    }  # fmt: skip
    counts = {when: preview["in_all"] for when, preview in previews.items()}
    assert counts["count of failures > 3 in 10m"] == 3 and counts["new issue"] == 1
    assert counts["share of failed runs > 5% in 15m by entry_point"] == 1 and counts["count of logs > 3 in 1h"] == 0
    assert counts["no runs for 2h by entry_point"] == 1 and counts["count of failures < 1 in 1d"] >= 3
    one = previews["count of failures > 3 in 10m"]
    assert one["summary"].startswith("Would have fired 3 times in 14 days: ") and one["looked_at"] == "every 30 s"
    assert one["firings"][0]["over"] and one["cost_ms"] >= 0
    assert previews["count of logs > 3 in 1h"]["summary"] == "Would not have fired in 14 days."
    assert "by five minutes" in previews["share of failed runs > 5% in 15m by entry_point"]["remark"]


def test_a_rule_that_means_everything_is_bounded(running: Running, receiver: Receiver) -> None:
    """A thousand groups are not a thousand messages; what is beyond them is counted as one group."""
    key = running.add_app()
    webhook(running, receiver)
    rule(running, "count of logs > 0 in 10m by pier", at_most_an_hour=2)
    for part in range(7):
        running.send(key, *(log(attributes={"pier": f"pier {part * 100 + number}"}) for number in range(100)))
    look(running)
    assert len(fired(running)) == 50 and len(receiver.got) == 2


def test_wrong_rules_are_refused_with_the_place(running: Running) -> None:
    """Where the condition stops to be one, channels that are not there, names that are none."""

    def ask(**order: Any) -> Any:
        return running.ask("POST", "/api/alert-rules", {"name": "some", "when": "new issue", "to": []} | order)

    found = ask(when="count of failures > many in 10m")
    assert (found.status, found.json()["position"], found.json()["field"]) == (422, 21, "when")
    assert ask(to=["nowhere"]).json()["detail"] == "There is no channel named 'nowhere'. There is none yet."
    for order in (
        {"name": "Big One"},
        {"at_most_an_hour": 0},
        {"escalate_after_minutes": 5},
        {"priority": "urgent"},
        {"when": ""},
    ):
        assert ask(**order).status == 422, order
    assert ask().status == 201 and ask().status == 409
    assert running.get("/api/alert-rules")["rules"][0]["trouble"] == "It notifies nobody: give it a channel."


def test_a_question_whose_field_vanished_fires_nothing(running: Running, receiver: Receiver) -> None:
    """No record has it any more: that is no error, and other rules go on."""
    key = running.add_app()
    webhook(running, receiver)
    rule(running, "count of logs > 0 in 10m where no.such.field=7", "gone")
    rule(running, "count of logs > 0 in 10m", "goes-on")
    running.send(key, log())
    look(running)
    assert [one["rule"] for one in fired(running)] == ["goes-on"]


def test_clocks_that_jump_put_no_rule_off(running: Running, receiver: Receiver) -> None:
    """After a jump ahead and back again, what fires is told as before."""
    key = running.add_app()
    webhook(running, receiver)
    rule(running, "count of failures > 1 in 10m by entry_point", "windows")
    rule(running, "new issue", "events")
    look(running)
    running.clock.ahead_ms += 40 * DAY_MS
    look(running)
    running.clock.ahead_ms = 0
    look(running)
    running.send(
        key, *(failed(1, run={"entry_point": "GET /a"}) for _ in range(2)), failure(exceptions=raised_in("z", "act"))
    )
    look(running)
    assert {one["rule"] for one in fired(running)} == {"windows", "events"}


def test_a_clock_that_was_hours_ahead_delays_no_message(running: Running, receiver: Receiver) -> None:
    """Once it is right again, a rule is looked at at once, what waited by the wrong time goes out, and nothing counts as just sent."""
    key = running.add_app()
    webhook(running, receiver)
    with receiving() as lead:
        webhook(running, lead, "lead")
        rule(running, "count of failures > 3 in 10m by entry_point", "windows")
        rule(running, "new issue", "events", at_most_an_hour=1, escalate_to=["lead"], escalate_after_minutes=60)
        look(running)
        running.clock.ahead_ms += 6 * HOUR_MS
        # Those of the second issue wait until the hour is over.
        running.send(key, *(failure(exceptions=raised_in(name, "act")) for name in ("a", "b")))
        look(running)
        assert len(receiver.got) == 1 and not lead.got
        running.clock.ahead_ms = 0
        running.service.alert_windows.look_when_due()
        running.send(key, failure(exceptions=raised_in("c", "act"), run={"entry_point": "GET /tides"}))
        settle(running)
        running.service.periodic_alerts.look()
        settle(running)
        told = [part["link"].rsplit("/", 1)[-1] for one in receiver.got for part in one.json()["data"]["parts"]]
        assert set(told) == {"1", "2", "3"}
        assert {part["link"].rsplit("/", 1)[-1] for one in lead.got for part in one.json()["data"]["parts"]} == {
            "1",
            "2",
        }
        running.send(key, *(failed(1, run={"entry_point": "GET /tides"}) for _ in range(4)))
        running.clock.ahead_ms += MINUTE_MS
        running.service.alert_windows.look_when_due()
        settle(running)
        assert "windows" in {one["rule"] for one in fired(running)}
