"""Deciding together: parked until something, many at once with one undo, nobody overwrites silently."""

from __future__ import annotations

import threading
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from obitus.store import deciding, parking
from tests.conftest import Running, failure, raised_in
from tests.service.test_people import ask_as, invited

HOUR_MS = 3_600_000


def of(n: int, **changes: Any) -> dict[str, Any]:
    """Return a failure of the n-th issue."""
    kinds = ("FareUnknown", "NoOptionError", "UnicodeEncodeError", "TideLow", "BerthTaken")
    return failure(exceptions=raised_in(f"sailings.part{n}", f"step{n}", kinds[n % 5]), **changes)


def later(hours: float) -> str:
    return (datetime.now(UTC) + timedelta(hours=hours)).isoformat()


def park(running: Running, **until: Any) -> dict[str, Any]:
    answer = running.ask("POST", "/api/issues/1/park", until)
    assert answer.status == 200, answer.data
    found: dict[str, Any] = running.get("/api/issues/1")
    return found


def test_until_so_many_more(running: Running) -> None:
    """What failed before it was parked does not count, also where it comes later; the failure that is enough brings it back, and says so."""
    key = running.add_app()
    running.send(key, *(of(1) for _ in range(5)))
    issue = park(running, failures=4)
    assert issue["parked"] == {"said": "until 4 more failures", "so_far": "0 of 4 failures"}
    assert issue["history"][-1]["reason"] == "owner parked it until 4 more failures."
    running.send(key, *(of(1, time=later(-30)) for _ in range(9)))
    running.send(key, of(1), of(1), of(1))
    issue = running.get("/api/issues/1")
    assert (issue["state"], issue["parked"]["so_far"]) == ("parked", "3 of 4 failures")
    last = of(1)
    running.send(key, last)
    issue = running.get("/api/issues/1")
    assert (issue["state"], issue["parked"]) == ("untriaged", None)
    assert issue["reopened"] == "Reopened: 4 more failures since it was parked."
    assert (issue["history"][-1]["failure"], issue["history"][-1]["from_state"]) == (last["id"], "parked")
    assert "reopened" in issue["priority"]["reason"]
    assert running.ask("POST", "/api/issues/1/accept").status == 200
    assert running.get("/api/issues/1")["reopened"] == ""


def test_until_so_many_in_one_hour_and_people(running: Running) -> None:
    """A rate counts what lies in one hour; people are those whom it had not met."""
    key = running.add_app()
    running.send(key, of(1, attributes={"user.id": "p-1"}))
    park(running, an_hour=3, people=2)
    running.send(key, of(1, attributes={"user.id": "p-1"}), of(1, attributes={"user.id": "p-2"}))
    issue = running.get("/api/issues/1")
    assert issue["parked"]["so_far"] == "2 of 3 in the last hour, 1 of 2 people"
    running.send(key, of(1, attributes={"user.id": "p-1"}))
    assert running.get("/api/issues/1")["reopened"] == "Reopened: 3 failures within one hour."
    park(running, people=2)
    running.send(key, *(of(1, attributes={"user.id": f"p-{n}"}) for n in (1, 1, 3, 4)))
    assert running.get("/api/issues/1")["reopened"] == "Reopened: it hit 2 more people since it was parked."


def test_until_another_place(running: Running) -> None:
    """A later release, an environment or an app that did not have it; old releases and known environments leave it parked."""
    key = running.add_app()
    staging = running.ask("POST", "/api/apps/sailings/keys", {"environment": "staging"}).json()["key"]
    running.send(key, of(1, release="2.0.0"), of(2, release="2.0.1"))
    park(running, another=["release", "environment"])
    running.send(key, of(1, release="1.0.0"), of(1, release="2.0.0"), of(1, release="2.0.1"))
    assert running.get("/api/issues/1")["state"] == "parked"
    running.send(staging, of(1, release="2.0.0"))
    assert running.get("/api/issues/1")["reopened"] == "Reopened: seen in staging, where it had not been seen."
    park(running, another=["release", "environment"])
    running.send(staging, of(1, release="2.0.0"))
    assert running.get("/api/issues/1")["state"] == "parked"
    running.send(key, of(1, release="2.1.0"))
    assert running.get("/api/issues/1")["reopened"] == "Reopened: seen in 2.1.0, another release."
    park(running, another=["app"])
    running.send(running.add_app("gatekeeper"), of(2))
    assert running.get("/api/issues/1")["state"] == "parked"
    other = running.ask("POST", "/api/apps/gatekeeper/keys", {}).json()["key"]
    running.send(other, of(1))
    assert running.get("/api/issues/1")["reopened"] == "Reopened: the same failed in gatekeeper."


def test_until_a_time(running: Running) -> None:
    """It comes back by itself, though nothing fails; a time that is past is refused."""
    running.send(running.add_app(), of(1))
    park(running, until=later(2))
    answer = running.ask("POST", "/api/issues/1/park", {"until": later(-1)})
    assert (answer.status, answer.json()["field"]) == (422, "until")
    records = running.service.records
    now_ms = running.clock()
    assert not parking.is_due(records.reader, now_ms)
    soon_ms = now_ms + 2 * HOUR_MS
    assert parking.is_due(records.reader, soon_ms)
    assert records.writer.run(lambda c: parking.reopen_due(c, soon_ms)) == 1
    assert records.writer.run(lambda c: parking.reopen_due(c, soon_ms)) == 0
    issue = running.get("/api/issues/1")
    assert issue["state"] == "untriaged" and issue["reopened"].startswith("Reopened: it was parked until 20")


def test_what_is_decided_forgets_the_conditions(running: Running) -> None:
    """Accepted while it was parked, nothing brings it back; parked anew without a condition, neither."""
    key = running.add_app()
    running.send(key, of(1))
    park(running, failures=1)
    assert running.ask("POST", "/api/issues/1/accept").status == 200
    running.send(key, of(1))
    assert running.get("/api/issues/1")["state"] == "accepted"
    park(running, failures=1)
    assert park(running)["parked"] == {"said": "", "so_far": ""}
    running.send(key, of(1))
    assert running.get("/api/issues/1")["state"] == "parked"


@pytest.mark.parametrize(
    "order",
    [{"failures": 0}, {"an_hour": 10_001}, {"people": -1}, {"another": ["planet"]}, {"until": "tomorrow"}, {"more": 1},
     {"until": "2026-01-01T00:00:00"}, {"failures": 10**12}, {"another": ["app"] * 4}],
)  # fmt: skip
def test_conditions_that_make_no_sense(running: Running, order: dict[str, Any]) -> None:
    """They are refused with the field that is wrong, and nothing is parked."""
    running.send(running.add_app(), of(1))
    answer = running.ask("POST", "/api/issues/1/park", order)
    assert (answer.status, answer.json()["slug"]) == (422, "bad-field")
    assert running.get("/api/issues/1")["state"] == "untriaged"


def many(running: Running, numbers: list[int], **order: Any) -> dict[str, Any]:
    answer = running.ask("POST", "/api/decisions", {"issues": [{"number": number} for number in numbers]} | order)
    assert answer.status == 200, answer.data
    found: dict[str, Any] = answer.json()
    return found


STANDS = ("state", "state_since", "settled_in", "holder", "waits_for", "parked", "reopened")


def stands(running: Running) -> list[dict[str, Any]]:
    """Return how all issues stand: all that a decision can change."""
    return [
        {name: issue[name] for name in STANDS}
        | {"said": issue["priority"]["said"], "level": issue["priority"]["level"]}
        for issue in sorted(running.issues(), key=lambda issue: issue["number"])
    ]


@pytest.mark.parametrize(
    "order",
    [
        {"accept": True},
        {"park": {"failures": 7}},
        {"settle": {"how": "now"}},
        {"settle": {"release": "2.0.0", "environment": "production"}},
        {"hand_over": {"to": "Ida Moss", "waits_for": "the harbour office"}},
        {"priority": {"level": "low"}},
    ],
)
def test_many_at_once_and_one_undo(running: Running, order: dict[str, Any]) -> None:
    """Whatever was decided about four issues in four states is taken back by one undo, exactly."""
    running.send(running.add_app(), *(of(n) for n in range(4)))
    invited(running)
    running.ask("POST", "/api/issues/2/settle", {"release": "1.5.0"})
    running.ask("POST", "/api/issues/3/park", {"failures": 50})
    running.ask("POST", "/api/issues/3/priority", {"level": "high"})
    running.ask("POST", "/api/issues/4/hand-over", {"to": "owner", "waits_for": "parts"})
    before = stands(running)
    answer = many(running, [1, 2, 3, 4, 99], **order)
    assert answer["done"] == [1, 2, 3, 4]
    assert [(one["number"], one["slug"]) for one in answer["left"]] == [(99, "not-found")]
    assert stands(running) != before
    undone = running.ask("POST", f"/api/decisions/{answer['decision']}/undo")
    assert (undone.status, undone.json()["done"], undone.json()["left"]) == (200, [1, 2, 3, 4], [])
    assert stands(running) == before
    again = running.ask("POST", f"/api/decisions/{answer['decision']}/undo")
    assert (again.status, again.json()["slug"]) == (404, "not-found")
    assert running.get("/api/issues/1")["history"][-1]["reason"].startswith("owner took back: ")


def test_undo_after_somebody_else(running: Running) -> None:
    """What somebody changed since stays as they left it, and is named with why; the rest goes back."""
    key = running.add_app()
    running.send(key, *(of(n) for n in range(3)))
    ida = invited(running)
    decision = many(running, [1, 2, 3], settle={"how": "now"})["decision"]
    assert ask_as(running, ida, "POST", "/api/issues/2/accept").status == 200
    running.send(key, of(2))
    undone = running.ask("POST", f"/api/decisions/{decision}/undo").json()
    assert undone["done"] == [1] and [one["number"] for one in undone["left"]] == [2, 3]
    assert "Ida Moss accepted it." in undone["left"][0]["why"] and "Regressed" in undone["left"][1]["why"]
    assert [issue["state"] for issue in stands(running)] == ["untriaged", "accepted", "regressed"]
    assert running.ask("POST", "/api/decisions/latest/undo").status == 404, (
        "what cannot be taken back is not tried again"
    )


def test_the_latest_is_taken_back(running: Running) -> None:
    """Undo without a number is for what the asker decided last, not for what others did."""
    running.send(running.add_app(), of(0), of(1))
    ida = invited(running)
    assert running.ask("POST", "/api/decisions/latest/undo").status == 404
    running.ask("POST", "/api/issues/1/accept")
    ask_as(running, ida, "POST", "/api/issues/2/accept")
    answer = running.ask("POST", "/api/decisions/latest/undo").json()
    assert (answer["done"], answer["said"]) == ([1], "accepted it, 1 issue")
    assert running.ask("POST", "/api/decisions/latest/undo").status == 404
    taken = ask_as(running, ida, "POST", "/api/decisions/latest/undo")
    assert taken.json()["done"] == [2]


def test_what_failed_while_it_was_not_parked_counts_after_an_undo(running: Running) -> None:
    """An issue that goes back to being parked goes on counting where it would have been."""
    key = running.add_app()
    running.send(key, of(0))
    park(running, failures=5)
    running.send(key, of(0))
    running.ask("POST", "/api/issues/1/accept")
    running.send(key, of(0), of(0))
    running.ask("POST", "/api/decisions/latest/undo")
    assert running.get("/api/issues/1")["parked"]["so_far"] == "3 of 5 failures"


def test_of_two_who_decide_the_same_one_is_told(running: Running) -> None:
    """Eight park the same issue, each with another condition: one does, seven are told what is there now."""
    running.send(running.add_app(), of(0))
    since = park(running, failures=9)["state_since"].replace("+", "%2B")
    answers: list[Any] = []

    def decide(number: int) -> None:
        path = f"/api/issues/1/park?seen=parked&since={since}"
        answers.append(running.ask("POST", path, {"failures": 100 + number}))

    threads = [threading.Thread(target=decide, args=(number,)) for number in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(answer.status for answer in answers) == [200] + [409] * 7
    there = next(answer for answer in answers if answer.status == 409).json()["there"]
    assert there["state"] == "parked" and "more failures" in there["reason"]


def test_settled_and_reopened_at_once(running: Running) -> None:
    """Two who settle and accept what they both saw untriaged: one goes through, the other is told, and the history shows one."""
    running.send(running.add_app(), *(of(n) for n in range(5)))
    answers: list[int] = []

    def decide(path: str, order: Any) -> None:
        answers.append(running.ask("POST", path + "?seen=untriaged", order).status)

    for number in range(1, 6):
        threads = [
            threading.Thread(target=decide, args=(f"/api/issues/{number}/settle", {"how": "now"})),
            threading.Thread(target=decide, args=(f"/api/issues/{number}/accept", None)),
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        assert len(running.get(f"/api/issues/{number}")["history"]) == 2
    assert sorted(answers) == [200] * 5 + [409] * 5


@pytest.mark.parametrize(
    "order",
    [
        {"issues": []},
        {"issues": [{"number": 1}, {"number": 1}], "accept": True},
        {"issues": [{"number": 1}]},
        {"issues": [{"number": 1}], "accept": True, "park": {}},
        {"issues": [{"number": 1}], "accept": False},
        {"issues": [{"number": n} for n in range(1, 502)], "accept": True},
        {"issues": [{"number": 1}], "settle": {"how": "now", "release": "2.0.0"}},
        {"issues": [{"number": 1}], "hand_over": {"to": "x" * 61}},
        {"issues": [{"number": 1, "since": "soon"}], "accept": True},
    ],
)
def test_orders_that_make_no_sense(running: Running, order: dict[str, Any]) -> None:
    """They are refused whole, with the field that is wrong."""
    running.send(running.add_app(), of(0))
    answer = running.ask("POST", "/api/decisions", order)
    assert (answer.status, answer.json()["slug"]) == (422, "bad-field")
    assert running.get("/api/issues/1")["state"] == "untriaged"


def test_old_decisions_are_forgotten(running: Running) -> None:
    """After a week they cannot be taken back, and take no room."""
    running.send(running.add_app(), of(0))
    running.ask("POST", "/api/issues/1/accept")
    records = running.service.records
    assert records.writer.run(lambda c: deciding.prune(c, running.clock())) == 0
    assert records.writer.run(lambda c: deciding.prune(c, running.clock() + deciding.KEPT_MS + 1)) == 1
    assert running.ask("POST", "/api/decisions/1/undo").status == 404
