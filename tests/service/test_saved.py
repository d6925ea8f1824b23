"""Saved questions and boards: for oneself or for all, arranged by several people, and one that comes by itself."""

from __future__ import annotations

from typing import Any

import pytest

from obitus.service.jobs import first_board
from obitus.store import people
from tests.conftest import Running, failure
from tests.service.test_now import tally
from tests.service.test_records import log

VIEW = {"kind": "runs", "question": "status>=500", "summary": "count by entry_point over time", "picture": True}


def save(running: Running, name: str = "Broken boardings", token: str | None = None, **more: Any) -> Any:
    headers = {"Authorization": f"Bearer {token}"} if token else None
    return running.ask("POST", "/api/saved", {"name": name, "view": VIEW} | more, headers=headers)


def other_person(running: Running) -> str:
    """Add somebody and return a token of theirs."""
    writer, now_ms = running.service.records.writer, running.clock()
    person = writer.run(lambda c: people.add_owner(c, "ida", now_ms))
    return running.service.passes.add("token", person, "test", None)


def test_for_oneself_and_for_all(running: Running) -> None:
    """What one saved for oneself nobody else sees or changes; what is for all, everybody does."""
    mine = save(running, " Mine ").json()
    assert mine["name"] == "Mine" and mine["mine"] and mine["view"]["summary"] == VIEW["summary"]
    ours = save(running, "Ours", for_all=True).json()
    assert save(running, "Mine").status == 409 and save(running, "Ours", for_all=True).status == 409
    listed = running.get("/api/saved")["questions"]
    assert [(one["name"], one["for_all"]) for one in listed] == [("Mine", False), ("Ours", True)]
    ida = {"Authorization": f"Bearer {other_person(running)}"}
    seen = running.ask("GET", "/api/saved", headers=ida).json()["questions"]
    assert [(one["name"], one["mine"], one["person"]) for one in seen] == [("Ours", False, "owner")]
    assert running.ask("DELETE", f"/api/saved/{mine['id']}", headers=ida).status == 404
    changed = {"name": "Ours too", "for_all": True, "view": {"kind": "logs", "question": "fog"}}
    assert running.ask("PUT", f"/api/saved/{ours['id']}", changed, headers=ida).json()["view"]["question"] == "fog"
    assert running.ask("PUT", f"/api/saved/{mine['id']}", changed, headers=ida).status == 404
    # Each may have one of that name for themselves.
    assert running.ask("POST", "/api/saved", {"name": "Mine", "view": {}}, headers=ida).status == 201
    assert running.ask("DELETE", f"/api/saved/{mine['id']}").status == 200
    assert [one["name"] for one in running.get("/api/saved")["questions"]] == ["Ours too"]


@pytest.mark.parametrize(
    ("more", "field"),
    [
        ({"name": " "}, "name"), ({"name": "x" * 101}, "name"), ({"view": {"kind": "people"}}, "view.kind"), ({"view": {"question": "severity>LOUD"}}, "question"),
        ({"view": {"summary": "cuont"}}, "summary"), ({"view": {"question": "x" * 3000}}, "view.question"), ({"view": {"html": "<b>"}}, "view.html"),
    ],
)  # fmt: skip
def test_what_cannot_be_saved(running: Running, more: dict[str, Any], field: str) -> None:
    answer = save(running, **more)
    assert answer.status in (400, 422) and answer.json()["field"].endswith(field.rpartition(".")[2]), answer.json()


def test_a_board(running: Running) -> None:
    """Made, arranged, not written over when somebody else was faster, and removed; each on record."""
    pane = {"title": "Refused", "width": 4, "view": VIEW}
    board = running.ask("POST", "/api/boards", {"name": "Wall", "panes": [pane, {"part": "points"}]}).json()
    assert board["panes"][0]["view"]["question"] == "status>=500" and board["panes"][1]["part"] == "points"
    assert running.ask("POST", "/api/boards", {"name": "Wall"}).status == 409
    ida = {"Authorization": f"Bearer {other_person(running)}"}
    order = {"name": "Wall in the office", "panes": [{"part": "runs"}], "seen": board["revision"]}
    changed = running.ask("PUT", f"/api/boards/{board['id']}", order, headers=ida).json()
    assert (changed["name"], changed["person"], changed["revision"]) == ("Wall in the office", "ida", 2)
    late = running.ask("PUT", f"/api/boards/{board['id']}", order | {"name": "Mine"})
    assert (
        late.status == 409 and late.json()["slug"] == "changed-meanwhile" and "ida has changed" in late.json()["detail"]
    )
    running.ask("POST", "/api/boards", {"name": "Other"})
    taken = running.ask("PUT", f"/api/boards/{board['id']}", {"name": "Other", "panes": [], "seen": 2})
    assert taken.json()["slug"] == "already-there"
    assert running.ask("PUT", "/api/boards/99", order).status == 404
    wide = running.ask("POST", "/api/boards", {"name": "Wide", "panes": [{"width": 5}]})
    assert wide.status == 422 or wide.status == 400
    assert [one["name"] for one in running.get("/api/boards")["boards"]] == ["Other", "Wall in the office"]
    assert running.ask("DELETE", f"/api/boards/{board['id']}").status == 200
    assert running.ask("GET", f"/api/boards/{board['id']}").status == 404
    acts = [(act["act"], act["subject"]) for act in running.get("/api/acts?limit=4")["acts"]]
    assert acts[0] == ("removed board", "Wall in the office") and ("changed board", "Wall in the office") in acts


def test_one_comes_by_itself(running: Running) -> None:
    """Once, when there is something to show, of what fits; removed, it does not come again."""
    records = running.service.records
    first_board.make(records, running.clock())
    assert running.get("/api/boards")["boards"] == []
    key = running.add_app()
    running.send(key, log("fog"), failure())
    for _ in range(2):
        first_board.make(records, running.clock())
    (board,) = running.get("/api/boards")["boards"]
    panes = running.get(f"/api/boards/{board['id']}")["panes"]
    assert board["person"] is None and [pane["part"] for pane in panes] == ["failures", None, "new", None]
    running.ask("DELETE", f"/api/boards/{board['id']}")
    running.send(key, tally(3, 5))
    first_board.make(records, running.clock())
    assert running.get("/api/boards")["boards"] == []
