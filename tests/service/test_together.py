"""Working on one list together: who looks at what, what a shift hands on, earlier issues like one, lists with counts."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from obitus.service.live import Live
from obitus.service.presence import LASTS_S, MOST_OF_A_PERSON, Presence
from tests.conftest import Running, failure, raised_in
from tests.service.test_deciding import of
from tests.service.test_people import ask_as, invited


class Heard(Live):
    """A stream that keeps what was told."""

    def __init__(self) -> None:
        super().__init__()
        self.told: list[Any] = []

    def publish_from_thread(self, message: dict[str, Any], number: int | None = None, *, narrowed: bool = True) -> None:
        self.told.append((message["issue"], message["people"], narrowed))


def test_who_looks_is_told_as_it_changes() -> None:
    """Coming and going is told once each; who says nothing more is gone after a while; nobody is at more issues than they may."""
    now_s, live = [0.0], Heard()
    presence = Presence(live, lambda: now_s[0])
    assert presence.looks(7, "Ida") == ["Ida"]
    assert presence.looks(7, "Olav") == ["Ida", "Olav"]
    assert presence.looks(7, "Ida") == ["Ida", "Olav"]
    assert live.told == [(7, ["Ida"], False), (7, ["Ida", "Olav"], False)]
    now_s[0] += LASTS_S - 1
    presence.looks(7, "Olav")
    now_s[0] += 2
    assert presence.looks(7, "Olav") == ["Olav"] and presence.leaves(7, "Olav") == []
    assert presence.leaves(7, "Olav") == [] and presence.leaves(99, "Olav") == []
    for issue in range(MOST_OF_A_PERSON + 5):
        now_s[0] += 0.1
        presence.looks(issue, "Ida")
    assert presence.leaves(0, "x") == [] and presence.leaves(MOST_OF_A_PERSON + 4, "x") == ["Ida"]


def test_two_at_one_issue_see_each_other(running: Running) -> None:
    """Each says that they look, and is told who else does; an issue that is not there is a 404."""
    running.send(running.add_app(), failure())
    ida, rut = invited(running), invited(running, "reader", "Rut Lind")
    assert ask_as(running, ida, "PUT", "/api/me/looks-at/1").json()["people"] == ["Ida Moss"]
    assert ask_as(running, rut, "PUT", "/api/me/looks-at/1").json()["people"] == ["Ida Moss", "Rut Lind"]
    assert ask_as(running, ida, "DELETE", "/api/me/looks-at/1").json()["people"] == ["Rut Lind"]
    assert ask_as(running, ida, "PUT", "/api/me/looks-at/2").status == 404
    running.ask("PUT", "/api/apps/sailings/people", {"people": []})
    assert ask_as(running, ida, "PUT", "/api/me/looks-at/1").status == 404


def test_the_desk_shows_what_nobody_took_up(running: Running) -> None:
    """Mine first; what others have is theirs; what was parked and is back stands there whatever the window."""
    key = running.add_app()
    running.send(key, *(of(n) for n in range(5)))
    invited(running)
    for number in (1, 2):
        running.ask("POST", f"/api/issues/{number}/settle", {"how": "now"})
    running.ask("POST", "/api/issues/3/park", {"failures": 1})
    running.ask("POST", "/api/issues/4/hand-over", {"to": "Ida Moss"})
    running.ask("POST", "/api/issues/2/hand-over", {"to": "owner"})
    running.send(key, of(0), of(1), of(2))
    desk = running.get("/api/desk?window=24h")
    assert {part: [row["number"] for row in desk[part]] for part in ("mine", "regressed", "reopened", "new")} == {
        "mine": [2],
        "regressed": [1],
        "reopened": [3],
        "new": [5],
    }
    assert [row["number"] for row in desk["most_failures"]] == [4]
    assert [
        row["number"]
        for row in running.get("/api/desk?start=2026-01-01T00:00:00Z&end=2026-01-02T00:00:00Z")["reopened"]
    ] == [3]


def test_what_a_shift_hands_on(running: Running) -> None:
    """What came in and what became of it, who decided what, what waits; in one sentence, and as text to paste."""
    key = running.add_app()
    running.send(key, *(of(n) for n in range(4)))
    ida = invited(running)
    ask_as(running, ida, "POST", "/api/issues/1/accept")
    ask_as(running, ida, "POST", "/api/issues/1/notes", {"text": "The **tide** table | is old."})
    running.ask("POST", "/api/issues/2/park", {"failures": 9})
    running.ask("POST", "/api/issues/3/settle", {"how": "now"})
    running.send(key, of(2))
    shift = running.get("/api/shift?window=8h")
    assert [row["number"] for row in shift["unassigned"]] == [3, 4]
    assert [(one["what"], one["issue"]) for one in shift["came_in"]] == [("new", 1), ("new", 2), ("new", 3), ("new", 4), ("regressed", 3)]  # fmt: skip
    assert [(one["person"], one["what"], one["issue"]) for one in shift["decided"]] == [
        ("Ida Moss", "decided", 1), ("Ida Moss", "noted", 1), ("owner", "decided", 2), ("owner", "decided", 3),
    ]  # fmt: skip
    assert shift["by_person"] == {"Ida Moss": 2, "owner": 2}
    assert [(row["number"], row["holder"]) for row in shift["waits"]] == [(1, "Ida Moss"), (2, None)]
    assert shift["sentence"] == (
        "In 8 h: 5 failures of 4 issues; 4 new, 1 regressed; 4 decisions and notes by Ida Moss, owner; 2 unassigned issues."
    )
    text = running.ask("GET", "/api/shift/document?window=8h").data.decode()
    assert "The tide table \\| is old." in text and "until 9 more failures" in text and "## What waits" in text
    empty = running.get("/api/shift?start=2026-01-01T00:00:00Z&end=2026-01-01T08:00:00Z")
    assert empty["unassigned"] == empty["came_in"] == empty["decided"] == [] and "nothing new" in empty["sentence"]
    assert running.get("/api/shift?window=8h&app=gatekeeper")["came_in"] == []


def test_earlier_issues_like_one(running: Running) -> None:
    """Settled ones that share where, what and on what: with how it was settled, how long it lasted, what was suspicious."""
    key = running.add_app()
    then = (datetime.now(UTC) - timedelta(days=3)).isoformat()
    tide = raised_in("sailings.tides", "depth_at", "TideUnavailable", "no depth for eastholm")
    running.send(key, failure(exceptions=tide, time=then, run={"entry_point": "POST /boardings"}))
    running.send(key, failure(exceptions=raised_in("gatekeeper.passes", "encode", "UnicodeEncodeError")))
    for text, found in (("config", "ruled out"), ("tide service", "suspicious")):
        running.ask("POST", "/api/issues/1/notes", {"text": "", "looked_at": text, "found": found})
    for number in (1, 2):
        running.ask("POST", f"/api/issues/{number}/settle", {"how": "now"})
    again = raised_in("sailings.tides", "depth_at", "TideStale", "no depth for westhaven")
    running.send(key, failure(exceptions=again, run={"entry_point": "POST /boardings"}))
    found = running.get("/api/issues/3/earlier")
    (one,) = found["earlier"]
    assert (one["number"], one["state"], one["lasted"]) == (1, "settled", "3 days")
    assert one["alike"][0] == "raised in the same function, sailings.tides.depth_at"
    assert any("alike" in said or "same message" in said for said in one["alike"])
    assert one["how"] == "owner settled it as fixed from now on."
    assert [(note["looked_at"], note["found"]) for note in one["known"]] == [
        ("tide service", "suspicious"),
        ("config", "ruled out"),
    ]
    assert running.get("/api/issues/1/earlier") == {"earlier": [], "looked_at": 0}, "itself is none of them"
    assert running.ask("GET", "/api/issues/9/earlier").status == 404


def view(**more: Any) -> dict[str, Any]:
    return {"kind": "issues"} | more


def test_lists_with_counts(running: Running) -> None:
    """A question about issues is saved under a name, for oneself or for all, and counted in the window that one looks at."""
    key = running.add_app()
    running.send(key, *(of(n) for n in (0, 0, 1, 2)))
    ida = invited(running)
    running.ask("POST", "/api/issues/1/hand-over", {"to": "Ida Moss"})
    running.ask("POST", "/api/issues/2/settle", {"how": "now"})
    for order in (
        {"name": "Mine", "for_all": True, "view": view(question="with=me")},
        {"name": "Open fares", "for_all": True, "view": view(question="FareUnknown", state="untriaged")},
        {"name": "For me alone", "view": view(question="not with exists", sort="failures")},
        {"name": "Of records", "for_all": True, "view": {"kind": "logs"}},
    ):
        assert running.ask("POST", "/api/saved", order).status == 201, order
    mine = running.get("/api/lists?window=24h")["lists"]
    assert [(one["name"], one["issues"], one["failures"]) for one in mine] == [
        ("For me alone", 2, 2),
        ("Mine", 0, 0),
        ("Open fares", 1, 2),
    ]
    hers = ask_as(running, ida, "GET", "/api/lists?window=24h").json()["lists"]
    assert [(one["name"], one["issues"]) for one in hers] == [("Mine", 1), ("Open fares", 1)]
    assert running.get("/api/lists?window=24h&app=gatekeeper")["lists"][2]["issues"] == 0
    assert (
        running.ask("POST", "/api/saved", {"name": "x", "view": view(question="((")}).json()["slug"] == "bad-question"
    )
    assert running.ask("POST", "/api/saved", {"name": "x", "view": view(state="tired")}).json()["slug"] == "bad-field"


@pytest.mark.parametrize("question", ["with=me", "with!=me", "reopened exists", "not waits_for exists"])
def test_questions_of_triage(running: Running, question: str) -> None:
    """What people ask of a list is understood."""
    running.send(running.add_app(), of(0))
    assert running.ask("GET", f"/api/issues?window=24h&question={question.replace(' ', '+')}").status == 200
    assert json.dumps(running.issues(question=question.replace(" ", "+")))
