"""Notes and checks of an issue: notes with their history, checks, attachments that are never run, lists, tickets; by whom they may be changed."""

from __future__ import annotations

import threading
from collections.abc import Iterator

import pytest

from tests.conftest import Running, failure, start
from tests.service.test_people import ask_as, invited


@pytest.fixture(scope="module")
def harbour(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Running, str, str]]:
    """A service with an issue, and the sessions of Ida and Olav, both members."""
    thread, running = start(tmp_path_factory.mktemp("harbour") / "data")
    running.send(running.add_app(), failure())
    yield running, invited(running), invited(running, name="Olav Brekke")
    running.http.clear()
    thread.stop()


NOTES = "/api/issues/1/notes"


def test_a_note_and_its_history(harbour: tuple[Running, str, str]) -> None:
    """Who wrote it may change it, and owners; what it said before is kept; nobody overwrites silently."""
    running, ida, olav = harbour
    running.ask(
        "POST", "/api/link-patterns", {"pattern": "SL-{number}", "address": "https://tickets.skerry.example/{number}"}
    )
    made = ask_as(running, ida, "POST", NOTES, {"text": "See SL-204, @Olav Brekke: **not** the tide."})
    assert made.status == 201
    note = made.json()["notes"][-1]
    assert note["person"] == "Ida Moss" and note["mentions"] == ["Olav Brekke"] and note["version"] == 1
    assert "https://tickets.skerry.example/204" in str(note["parts"])
    path = f"{NOTES}/{note['id']}"
    assert ask_as(running, olav, "PUT", path, {"text": "mine", "seen": 1}).json()["slug"] == "not-for-this-role"
    assert ask_as(running, olav, "DELETE", path).status == 403
    assert ask_as(running, ida, "PUT", path, {"text": "It is the tide after all.", "seen": 1}).status == 200
    late = ask_as(running, ida, "PUT", path, {"text": "from another window", "seen": 1})
    assert (late.status, late.json()["slug"]) == (409, "changed-meanwhile")
    found = ask_as(running, olav, "GET", f"{path}/versions").json()["versions"]
    assert [(one["version"], one["text"]) for one in found] == [(1, "See SL-204, @Olav Brekke: **not** the tide.")]
    assert running.ask("PUT", path, {"text": "as an owner", "seen": 2}).status == 200
    assert ask_as(running, ida, "DELETE", path).status == 200
    assert ask_as(running, ida, "PUT", path, {"text": "x", "seen": 3}).status == 404
    assert note["id"] not in [one["id"] for one in running.get(NOTES)["notes"]]


def test_of_two_at_once_one_is_told(harbour: tuple[Running, str, str]) -> None:
    """Eight who change the same version: one does, seven get what is there now."""
    running, _, _ = harbour
    note = running.ask("POST", NOTES, {"text": "first"}).json()["notes"][-1]
    statuses: list[int] = []

    def change(number: int) -> None:
        statuses.append(running.ask("PUT", f"{NOTES}/{note['id']}", {"text": f"by {number}", "seen": 1}).status)

    threads = [threading.Thread(target=change, args=(number,)) for number in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(statuses) == [200] + [409] * 7


def test_checks(harbour: tuple[Running, str, str]) -> None:
    """What was looked at, what was found, with what a command printed as it came; from a list that the team keeps."""
    running, ida, _ = harbour
    order = {
        "name": "no passes",
        "app": "sailings",
        "items": [{"look_at": "disk has room", "command": "df -h"}, {"look_at": "tide service answers"}],
    }
    made = ask_as(running, ida, "POST", "/api/check-lists", order).json()["lists"]
    assert made[0]["items"][0] == {"look_at": "disk has room", "command": "df -h"}
    assert ask_as(running, ida, "POST", "/api/check-lists", order).json()["slug"] == "already-there"
    changed = {"name": "no passes", "items": order["items"][:1], "seen": 1}
    assert ask_as(running, ida, "PUT", f"/api/check-lists/{made[0]['id']}", changed).status == 200
    assert (
        ask_as(running, ida, "PUT", f"/api/check-lists/{made[0]['id']}", changed).json()["slug"] == "changed-meanwhile"
    )
    output = "Filesystem  Use%\n/dev/pier   \x1b[31m41%\x1b[0m <b>"
    for what, found in (("disk has room", "ruled out"), ("tide service answers", "suspicious"), ("event log", "")):
        answer = ask_as(running, ida, "POST", NOTES, {"looked_at": what, "found": found, "output": output})
        assert answer.status == 201, answer.data
    known = running.get(NOTES)
    assert (known["ruled_out"], known["suspicious"]) == (1, 1)
    assert known["notes"][-1]["found"] == "unclear" and known["notes"][-1]["output"] == output
    for wrong in (
        {},
        {"found": "ruled out"},
        {"text": " "},
        {"text": "x" * 50_001},
        {"looked_at": "x", "found": "yes"},
    ):
        assert ask_as(running, ida, "POST", NOTES, wrong).json()["slug"] == "bad-field", wrong
    assert ask_as(running, ida, "POST", "/api/issues/77/notes", {"text": "x"}).status == 404
    assert ask_as(running, ida, "DELETE", f"/api/check-lists/{made[0]['id']}").status == 200


def test_an_attachment_is_a_download(harbour: tuple[Running, str, str]) -> None:
    """Whatever it says it is, it comes back as it went, and no browser shows or runs it; too large, empty or too many are refused."""
    running, ida, _ = harbour
    page = b"<script>fetch('/api/people/owner', {method: 'DELETE'})</script>"
    headers = {"Cookie": f"obitus_session={ida}", "Content-Type": "text/html"}
    address = running.url + "/api/issues/1/attachments"
    name = "..%2F..%2Fchart%22%0D%0AX-Evil%3A%201.html"
    made = running.http.request("POST", f"{address}?name={name}", body=page, headers=headers)
    assert made.status == 201, made.data
    (one,) = made.json()["attachments"]
    assert one["bytes"] == len(page) and "/" not in one["name"] and "\n" not in one["name"]
    got = running.http.request("GET", f"{address}/{one['id']}", headers=headers)
    assert got.data == page and got.headers["Content-Type"] == "application/octet-stream"
    assert got.headers["Content-Disposition"].startswith("attachment;") and "X-Evil" not in got.headers
    assert got.headers["X-Content-Type-Options"] == "nosniff"
    large = running.http.request("POST", f"{address}?name=a", body=b"x" * (2 * 1024 * 1024 + 1), headers=headers)
    assert (large.status, large.json()["slug"]) == (413, "body-too-large")
    assert running.http.request("POST", f"{address}?name=a", body=b"", headers=headers).json()["slug"] == "bad-field"
    whole = running.http.request("POST", f"{address}?name=b.bin", body=bytes(range(256)) * 8192, headers=headers)
    assert whole.status == 201
    assert ask_as(running, ida, "DELETE", f"/api/issues/1/attachments/{one['id']}").status == 200
    assert running.http.request("GET", f"{address}/{one['id']}", headers=headers).status == 404
    row = running.service.records.reader.one("SELECT body FROM attachments WHERE id = ?", (one["id"],))
    assert row["body"] == b""


def test_patterns_lead_to_addresses_alone(harbour: tuple[Running, str, str]) -> None:
    """Owners say how tickets are written; a script is no address."""
    running, ida, _ = harbour
    good = {"pattern": "PIER-{number}", "address": "https://piers.skerry.example/{number}"}
    assert ask_as(running, ida, "POST", "/api/link-patterns", good).json()["slug"] == "not-for-this-role"
    for wrong in (
        {"pattern": ".*{number}"},
        {"address": "javascript:alert({number})"},
        {"address": "https://x.example"},
    ):
        assert running.ask("POST", "/api/link-patterns", good | wrong).json()["slug"] == "bad-field", wrong
    made = running.ask("POST", "/api/link-patterns", good).json()["patterns"]
    assert running.ask("POST", "/api/link-patterns", good).json()["slug"] == "already-there"
    number = next(one["id"] for one in made if one["pattern"] == "PIER-{number}")
    assert running.ask("DELETE", f"/api/link-patterns/{number}").status == 200
