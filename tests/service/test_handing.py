"""Issues that nobody has go to whom rules and owners' files say; never to somebody gone, never away from somebody."""

from __future__ import annotations

from typing import Any

import pytest

from tests.conftest import Running, failure, until
from tests.service.test_people import ask_as, invited


def raised(path: str, kind: str = "FareUnknown", **changes: Any) -> dict[str, Any]:
    """Return a failure raised in an own file, beneath a library's frame."""
    frames = [
        {"function": "serve", "module": "skerry.web", "file": "src/skerry/web.py", "line": 9, "own": True},
        {
            "function": "work",
            "module": path.removesuffix(".py").replace("/", "."),
            "file": path,
            "line": 3,
            "own": True,
        },
        {"function": "get", "module": "tables", "file": "/usr/lib/python3/tables.py", "line": 3, "own": False},
    ]
    return failure(exceptions=[{"type": kind, "message": "pier", "frames": frames}], **changes)


def rule(running: Running, text: str) -> Any:
    return running.ask("POST", "/api/handing-rules", {"rule": text})


def is_looked_at(running: Running) -> bool:
    return running.service.runner.is_idle("handing")


def holders(running: Running) -> dict[int, str | None]:
    until(lambda: is_looked_at(running))
    return {issue["number"]: issue["holder"] for issue in running.issues()}


def test_a_new_issue_goes_to_whom_the_first_rule_says(running: Running) -> None:
    """By module, file, entry point and attributes; the history says by which rule; what nobody is named for stays with nobody."""
    key = running.add_app()
    invited(running)
    invited(running, name="Olav Brekke")
    for text in (
        "hand to Ida Moss when app=sailings module~fares",
        "hand to Olav Brekke when entry_point~boardings or pier.name=eastholm",
        "hand to Ida Moss when entry_point~boardings",
    ):
        assert rule(running, text).status == 201
    running.send(key, raised("src/fares.py"))
    running.send(key, raised("src/boardings.py", run={"entry_point": "POST /boardings"}))
    running.send(key, raised("src/tides.py", attributes={"pier.name": "eastholm"}))
    running.send(key, raised("src/berths.py"))
    assert holders(running) == {1: "Ida Moss", 2: "Olav Brekke", 3: "Olav Brekke", 4: None}
    said = running.get("/api/issues/1")["history"][-1]
    assert (said["person"], said["reason"]) == (None, "Handed to Ida Moss: the rule “hand to Ida Moss when app=sailings module~fares”.")  # fmt: skip


def test_who_owns_the_innermost_own_file(running: Running) -> None:
    """The innermost own file counts, the last line that matches, and the first owner who is somebody here; a rule goes before."""
    key = running.add_app()
    for name in ("Ida Moss", "Olav Brekke"):
        invited(running, name=name)
    text = "* @skerry/desk\n/src/fares.py @gone @ida-moss\n/src/skerry/ @olav.brekke\n/src/free.py\n[odd]\n"
    preview = running.ask("POST", "/api/apps/sailings/owners/preview", {"text": text, "beneath": ""}).json()
    assert {one["owner"]: one["person"] for one in preview["owners"]} == {
        "@skerry/desk": None, "@gone": None, "@ida-moss": "Ida Moss", "@olav.brekke": "Olav Brekke",
    }  # fmt: skip
    assert len(preview["remarks"]) == 1 and not preview["kept"]
    assert running.ask("PUT", "/api/apps/sailings/owners", {"text": text}).json()["lines"] == 4
    running.send(key, raised("src/fares.py"))
    running.send(key, raised("src/free.py"))
    running.send(key, raised("src/other.py", "TideLow"))
    assert holders(running) == {1: "Ida Moss", 2: None, 3: None}, "a file without an owner is nobody's"
    assert (
        "@ida-moss owns src/fares.py by line 2 of CODEOWNERS" in running.get("/api/issues/1")["history"][-1]["reason"]
    )
    running.ask("POST", "/api/owner-names", {"owner": "@skerry/Desk", "person": "Olav Brekke"})
    assert running.ask("POST", "/api/handing-rules/apply").json()["handed"] == [
        {
            "number": 3,
            "title": running.get("/api/issues/3")["title"],
            "to": "Olav Brekke",
            "why": "@skerry/desk owns src/other.py by line 1 of CODEOWNERS, “*”",
        }
    ]
    rule(running, "hand to owner when type=BerthTaken")
    running.send(key, raised("src/fares.py", "BerthTaken"))
    assert holders(running)[4] == "owner"
    assert running.ask("DELETE", "/api/apps/sailings/owners").status == 200
    assert running.get("/api/apps/sailings/owners")["kept"] is False


def test_what_somebody_has_stays_theirs(running: Running) -> None:
    """A rule takes nothing from anybody; what comes back and nobody has is handed over."""
    key = running.add_app()
    invited(running)
    running.send(key, raised("src/fares.py"), raised("src/tides.py"))
    running.ask("POST", "/api/issues/1/hand-over", {"to": "owner"})
    for number in (1, 2):
        running.ask("POST", f"/api/issues/{number}/park", {"failures": 1})
    assert rule(running, "hand to Ida Moss when app=sailings").status == 201
    running.send(key, raised("src/fares.py"), raised("src/tides.py"))
    assert holders(running) == {1: "owner", 2: "Ida Moss"}
    running.ask("POST", "/api/issues/2/hand-over", {"to": None})
    running.send(key, raised("src/tides.py"))
    assert holders(running)[2] is None, "one more failure is no reason to hand it over again"


def test_a_rule_that_hands_everything_to_somebody_gone(running: Running) -> None:
    """The next rule counts, the history says why, and the list of rules says that this one does nothing any more."""
    key = running.add_app()
    invited(running)
    invited(running, name="Olav Brekke")
    rule(running, "hand to Ida Moss when app=sailings")
    rule(running, "hand to Olav Brekke when module~fares")
    assert running.ask("DELETE", "/api/people/Ida%20Moss").status == 200
    running.send(key, raised("src/fares.py"), raised("src/tides.py"))
    assert holders(running) == {1: "Olav Brekke", 2: None}
    reason = running.get("/api/issues/1")["history"][-1]["reason"]
    assert reason.startswith("Handed to Olav Brekke: ") and "Not to Ida Moss" in reason
    assert "It stays unassigned. Not to Ida Moss" in running.get("/api/issues/2")["history"][-1]["reason"]
    assert ["is not here any more" in one["trouble"] for one in running.get("/api/handing-rules")["rules"]] == [
        True,
        False,
    ]
    assert rule(running, "hand to Ida Moss when app=gatekeeper").json()["slug"] == "bad-rule"


def test_nobody_gets_what_they_may_not_see(running: Running) -> None:
    """An issue of a limited app goes to nobody who does not see it, and never to a reader."""
    key = running.add_app()
    invited(running)
    invited(running, "reader", "Rut Lind")
    assert rule(running, "hand to Rut Lind when app=sailings").json()["slug"] == "bad-rule"
    rule(running, "hand to Ida Moss when app=sailings")
    assert running.ask("PUT", "/api/apps/sailings/people", {"people": []}).status == 200
    running.send(key, raised("src/fares.py"))
    assert holders(running) == {1: None}
    assert "does not see this app" in running.get("/api/issues/1")["history"][-1]["reason"]


def test_previews_change_nothing(running: Running) -> None:
    """They tell what would go to whom, and why not."""
    running.send(running.add_app(), raised("src/fares.py"), raised("src/tides.py"))
    invited(running)
    order = {"rule": "hand to Ida Moss when module~fares"}
    preview = running.ask("POST", "/api/handing-rules/preview", order).json()
    assert (preview["looked_at"], preview["trouble"]) == (2, "")
    assert [(one["number"], one["to"]) for one in preview["would_hand"]] == [(1, "Ida Moss")]
    nobody = running.ask("POST", "/api/handing-rules/preview", {"rule": "hand to Nils when app=sailings"}).json()
    assert nobody["would_hand"] == [] and "Nobody here is named 'Nils'" in nobody["trouble"]
    assert holders(running) == {1: None, 2: None} and running.get("/api/handing-rules")["rules"] == []


def test_rules_and_files_that_make_no_sense(running: Running) -> None:
    """Each is refused in words; a file of 20,000 lines is not."""
    running.add_app()
    for text, slug in (("hand it over", "bad-rule"), ("hand to owner when ((", "bad-rule"), ("", "bad-field")):
        assert rule(running, text).json()["slug"] == slug
    assert rule(running, "hand to owner when app=sailings").status == 201
    assert rule(running, "hand  to owner when app=sailings").json()["slug"] == "already-there"
    assert running.ask("DELETE", "/api/handing-rules/1").status == 200
    assert running.ask("DELETE", "/api/handing-rules/1").status == 404
    assert running.ask("PUT", "/api/apps/nowhere/owners", {"text": "* @owner"}).status == 404
    large = "\n".join(f"/src/part{number}/deeper/folder/*.py @owner{number % 300}" for number in range(20_000))
    found = running.ask("PUT", "/api/apps/sailings/owners", {"text": large}).json()
    assert (found["lines"], len(found["owners"])) == (20_000, 200)
    assert running.ask("PUT", "/api/apps/sailings/owners", {"text": "x" * 1_600_000}).status == 422
    assert running.ask("PUT", "/api/apps/sailings/owners", {"text": "x" * 2_200_000}).status == 413
    for order in ({"owner": "@x", "person": "Nobody"}, {"owner": "@x", "person": None}):
        assert running.ask("POST", "/api/owner-names", order).status == 404


@pytest.mark.parametrize("role", ["member", "reader"])
def test_rules_are_made_by_owners_alone(running: Running, role: str) -> None:
    """Whose issues new ones become is for those who administer."""
    session = invited(running, role)
    assert ask_as(running, session, "GET", "/api/handing-rules").status == 200
    order = {"rule": "hand to owner when app=sailings"}
    assert ask_as(running, session, "POST", "/api/handing-rules", order).json()["slug"] == "not-for-this-role"
