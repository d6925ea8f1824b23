"""``/api``: lists, paging, filters, decisions, regressions, and what each answer explains."""

from __future__ import annotations

import uuid
from datetime import UTC, datetime, timedelta

import pytest

from tests.conftest import Running, failure, raised_in


def at(hours_ago: float) -> str:
    return (datetime.now(UTC) - timedelta(hours=hours_ago)).isoformat()


def test_a_settled_issue_comes_back(running: Running) -> None:
    """Failures of older releases change nothing, the settling release is a regression; the history says why, and by which failure."""
    key = running.add_app()
    running.send(key, failure(release="2.8.0"))
    number = running.issues()[0]["number"]
    assert running.ask("POST", f"/api/issues/{number}/settle", {"release": "2.9.0"}).status == 200
    running.send(key, failure(release="2.8.1"))
    issue = running.get(f"/api/issues/{number}")
    assert (issue["state"], issue["from_older_releases"], issue["settled_in"]) == ("settled", 1, "2.9.0")
    assert "older than 2.9.0" in issue["latest"]["verdict"]
    back = failure(release="2.9.0")
    running.send(key, back)
    issue = running.get(f"/api/issues/{number}")
    assert issue["state"] == "regressed"
    last = issue["history"][-1]
    assert last["failure"] == back["id"] and "2.9.0" in last["reason"] and last["person"] is None
    assert [entry["to_state"] for entry in issue["history"]] == ["untriaged", "settled", "regressed"]
    since = running.get(f"/api/issues/{number}/since")
    assert [(r["release"], r["failures"]) for r in issue["releases"]] == [
        (r["release"], r["failures"]) for r in since["lane"]
    ]
    assert [(r["release"], r["failures"]) for r in since["lane"]] == [("2.8.0", 1), ("2.8.1", 1), ("2.9.0", 1)]


def test_decisions_have_an_author(running: Running) -> None:
    """Each decision is on the history with who made it; an unknown issue is a 404."""
    key = running.add_app()
    running.send(key, failure())
    for decision, state in (("accept", "accepted"), ("park", "parked"), ("settle", "settled")):
        assert running.ask("POST", f"/api/issues/1/{decision}").status == 200
        issue = running.get("/api/issues/1")
        assert issue["state"] == state and issue["history"][-1]["person"] == "owner"
    assert issue["settled_in"] == "1.0.0", "the newest known release, when none is said"
    answer = running.ask("POST", "/api/issues/99/accept")
    assert (answer.status, answer.json()["slug"]) == (404, "not-found")


def test_settling_needs_a_release(running: Running) -> None:
    """An app that never named a release has to be told in which one the fix is."""
    running.send(running.add_app(), failure(release=...))
    answer = running.ask("POST", "/api/issues/1/settle")
    assert (answer.status, answer.json()["slug"]) == (422, "no-release")
    assert running.ask("POST", "/api/issues/1/settle", {"release": "2.0.0"}).status == 200


def fill(running: Running) -> None:
    """Three issues over two apps, two environments, two releases and thirty hours."""
    sailings, gate = running.add_app(), running.add_app("gatekeeper")
    staging = running.ask("POST", "/api/apps/gatekeeper/keys", {"environment": "staging"}).json()["key"]
    quiet = raised_in("sailings.fares", "quote", "FareUnknown", "no fare for a campervan")
    loud = raised_in("gatekeeper.passes", "encode", "UnicodeEncodeError")
    late = raised_in("gatekeeper.config", "load", "NoOptionError")
    running.send(
        sailings, failure(exceptions=quiet, time=at(30)), failure(exceptions=quiet, time=at(0.2), release="1.1.0")
    )
    running.send(gate, *(failure(exceptions=loud, time=at(hours)) for hours in (20.5, 10.1, 5.7, 3.3, 1.2)))
    running.send(staging, failure(exceptions=late, time=at(0.1)))


def test_filters_and_orders(running: Running) -> None:
    """Window, app, environment, release, state and text narrow the list; counts follow the window."""
    fill(running)

    def found(**query: str) -> list[tuple[str, int]]:
        return [(row["type"], row["failures"]) for row in running.issues(**query)]

    assert found() == [("NoOptionError", 1), ("FareUnknown", 2), ("UnicodeEncodeError", 5)]
    assert found(window="24h") == [("NoOptionError", 1), ("FareUnknown", 1), ("UnicodeEncodeError", 5)]
    assert found(window="6h", app="gatekeeper") == [("NoOptionError", 1), ("UnicodeEncodeError", 3)]
    assert found(window="30m") == [("NoOptionError", 1), ("FareUnknown", 1)]
    assert found(environment="staging") == [("NoOptionError", 1)]
    assert found(release="1.1.0") == [("FareUnknown", 1)]
    assert found(sort="failures")[0] == ("UnicodeEncodeError", 5)
    assert found(sort="first-seen")[-1] == ("FareUnknown", 2)
    assert found(question="campervan") == [("FareUnknown", 2)] and found(question="PASSES") == [
        ("UnicodeEncodeError", 5)
    ]
    assert found(question="place~%25") == [] and found(question="message~%22100%25%22") == []
    running.ask("POST", "/api/issues/1/accept")
    assert len(found(state="accepted")) == 1 and len(found(state="untriaged")) == 2
    start, end = at(11).replace("+", "%2B"), at(5).replace("+", "%2B")
    assert found(start=start, end=end) == [("UnicodeEncodeError", 2)]
    for row in running.issues(window="24h"):
        assert sum(row["over_time"]) >= row["failures"]


def test_numbers_lead_to_records(running: Running) -> None:
    """A count in a list is the number of failures that the same window shows for the issue."""
    fill(running)
    for window in ("30m", "6h", "24h", "14d"):
        for row in running.issues(window=window):
            shown = running.get(f"/api/issues/{row['number']}/failures?window={window}")["failures"]
            assert len(shown) == row["failures"]


def test_paging_shows_each_issue_once(running: Running) -> None:
    """Walking the pages of any order meets every issue once, and no number is lost while more come in."""
    key = running.add_app()
    running.send(key, *(failure(exceptions=raised_in("m", f"f{i}"), time=at(i)) for i in range(25)))
    for sort in ("last-seen", "first-seen", "failures"):
        seen: list[int] = []
        cursor = ""
        while True:
            page = running.get(f"/api/issues?window=14d&sort={sort}&limit=10{cursor}")
            seen += [row["number"] for row in page["issues"]]
            assert page["issues_in_all"] == 25
            if page["next"] is None:
                break
            cursor = f"&cursor={page['next']}"
        assert sorted(seen) == list(range(1, 26))
    running.send(key, *(failure(exceptions=raised_in("m", "f0")) for _ in range(12)))
    first = running.get("/api/issues/1/failures?window=14d&limit=10")
    second = running.get(f"/api/issues/1/failures?window=14d&limit=10&cursor={first['next']}")
    ids = [row["id"] for row in first["failures"] + second["failures"]]
    assert len(ids) == len(set(ids)) == 13 and second["next"] is None


@pytest.mark.parametrize(
    ("query", "slug"),
    [
        ("window=soon", "bad-window"),
        ("start=yesterday", "bad-window"),
        ("start=2026-03-01T00:00:00", "bad-window"),
        ("start=2026-03-02T00:00:00Z&end=2026-03-01T00:00:00Z", "bad-window"),
        ("cursor=zzz", "bad-cursor"),
        ("sort=colour", "bad-field"),
        ("state=gone", "bad-field"),
        ("limit=0", "bad-field"),
    ],
)
def test_questions_that_make_no_sense(running: Running, query: str, slug: str) -> None:
    """Each is a 422 with its slug and words that say what to write instead."""
    answer = running.ask("GET", f"/api/issues?{query}")
    assert (answer.status, answer.json()["slug"]) == (422, slug)
    assert answer.headers["Content-Type"] == "application/problem+json" and answer.json()["detail"]


def test_desk_tells_apart_what_needs_a_decision(running: Running) -> None:
    """Regressed, new and loud hold what they say, and nothing twice."""
    fill(running)
    running.ask("POST", "/api/issues/2/settle", {"release": "1.0.0"})
    running.send(running.ask("POST", "/api/apps/gatekeeper/keys", {}).json()["key"], failure(exceptions=raised_in("gatekeeper.passes", "encode", "UnicodeEncodeError")))  # fmt: skip
    desk = running.get("/api/desk?window=24h")
    assert [row["type"] for row in desk["regressed"]] == ["UnicodeEncodeError"]
    assert [row["type"] for row in desk["new"]] == ["NoOptionError"]
    assert [row["type"] for row in desk["most_failures"]] == ["FareUnknown"]
    assert desk["failures"] == 8


def test_late_and_unordered_reports_keep_first_and_latest_right(running: Running) -> None:
    """A spool emptied days later changes neither what is latest nor what the counts say."""
    key = running.add_app()
    early, middle, late = failure(time=at(50)), failure(time=at(20)), failure(time=at(1))
    running.send(key, middle)
    running.send(key, late)
    running.send(key, early)
    issue = running.get("/api/issues/1")
    assert (issue["first"]["id"], issue["latest"]["id"]) == (early["id"], late["id"])
    whole = running.get(f"/api/failures/{middle['id']}")
    assert (whole["earlier"], whole["later"]) == (early["id"], late["id"])


def test_one_failure_whole_and_none(running: Running) -> None:
    """An unknown id is a 404, something that is no id a 422."""
    assert running.ask("GET", f"/api/failures/{uuid.uuid4()}").json()["slug"] == "not-found"
    assert running.ask("GET", "/api/failures/first").json()["slug"] == "bad-field"


def test_two_releases_written_into_one_sentence(running: Running) -> None:
    """What failed is said in one sentence: type, where, how often, for whom, since when."""
    key = running.add_app()
    for user in ("p-1", "p-2", "p-2"):
        running.send(key, failure(attributes={"user.id": user}, run={"entry_point": "POST /boardings"}))
    said = running.get("/api/issues/1")["what_failed"]
    for piece in (
        "skerry.TideUnavailable",
        "sailings.tides.depth_at",
        "POST /boardings",
        "3 times",
        "2 users",
        "1.0.0",
    ):
        assert piece in said


def test_a_decision_on_what_changed_meanwhile(running: Running) -> None:
    """Whoever decides on what they do not see any more is told what it is now, and nothing is changed."""
    key = running.add_app()
    running.send(key, failure())
    assert running.ask("POST", "/api/issues/1/accept?seen=untriaged").status == 200
    for decision, order in (("park", None), ("settle", {"how": "now"}), ("accept", None)):
        answer = running.ask("POST", f"/api/issues/1/{decision}?seen=untriaged", order)
        assert (answer.status, answer.json()["slug"]) == (409, "changed-meanwhile")
        assert "was untriaged when you looked, and is accepted by now. owner accepted it." in answer.json()["detail"]
    issue = running.get("/api/issues/1")
    assert issue["state"] == "accepted" and len(issue["history"]) == 2
    assert running.ask("POST", "/api/issues/1/park?seen=accepted").status == 200
    assert running.ask("POST", "/api/issues/1/accept").status == 200, "who does not say what they saw is not asked"
    assert running.ask("POST", "/api/issues/1/accept?seen=tired").status == 422
