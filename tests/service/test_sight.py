"""Apps that only some people see: whoever is not among them finds nothing of them on any route, and changes nothing of them."""

from __future__ import annotations

import re
import uuid
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from obitus.service.front import OPEN
from obitus.store.days.files import path_of
from obitus.store.sight import MAIN, NOT_OF_APPS, OF_DAYS, OF_DAYS_NOT_OF_APPS, Sight
from tests.conftest import Running, failure, now_text, raised_in, start
from tests.service.test_now import tally
from tests.service.test_people import ask_as, invited
from tests.service.test_records import log

HIDDEN = "hushed"
"""Stands in every name of what is hidden; who asks by such a name may get it back."""
WHISPER = "whisper"
"""Stands in what nobody asks with: types, messages, functions, values."""


def reports_of(word: str) -> list[dict[str, Any]]:
    """Return reports of all kinds that say a word wherever something can be said."""
    said = WHISPER if word.startswith(HIDDEN) else word
    attributes = {"user.id": f"{word}-user", "host.name": f"{word}-host", f"{word}.name": f"{said} value"}
    about = {"release": f"{word}-1.0", "attributes": attributes}
    run = {
        "id": str(uuid.uuid4()),
        "entry_point": f"GET /{word}",
        "outcome": "failed",
        "duration_ms": 12.5,
        "kept": "failed",
    }
    step = {"kind": "http", "time": now_text(), "severity": "INFO", "message": f"{said} step", "attributes": attributes}
    chain = raised_in(f"{word}.module", f"{said}_function", f"{said}.Error", f"{word} {said} message")
    return [
        failure(**about, exceptions=chain, run=run, trail=[step], trace_id="ab" * 16),
        failure(**about, exceptions=raised_in(f"{word}.other", "go", f"{said}.Other"), time=now_text()),
        log(f"{word} {said} text", 5, severity="WARN", logger=f"{word}.logger", **about, trace_id="ab" * 16),
        {"kind": "run", "id": str(uuid.uuid4()), "time": now_text(), "run": run, "trail": [step], "trace_id": "ab" * 16} | about,
        tally(40, 3, f"GET /{word}", release=f"{word}-1.0", outcome="failed", status=500),
    ]  # fmt: skip


@pytest.fixture(scope="module")
def seen(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Running, str, str]]:
    """A service with an app that everybody sees and one that is limited to Olav; the sessions of Ida, who does not see it, and Olav."""
    thread, running = start(tmp_path_factory.mktemp("seen") / "data")
    for app in ("open", HIDDEN):
        key = running.add_app(app, f"{app}-env")
        assert running.send(key, *reports_of(app)).json()["refused"] == 0
    ida = invited(running, "member", "Ida Moss")
    olav = invited(running, "member", "Olav Brekke")
    assert running.ask("PUT", f"/api/apps/{HIDDEN}/people", {"people": ["Olav Brekke"]}).status == 200
    hidden = running.service.records.reader.one("SELECT id FROM issues WHERE app_id = 2")["id"]
    for text in (f"{WHISPER} {HIDDEN}", f"{WHISPER} again"):
        note = running.ask("POST", f"/api/issues/{hidden}/notes", {"text": text}).json()["notes"][0]
        running.ask(
            "PUT", f"/api/issues/{hidden}/notes/{note['id']}", {"text": f"{WHISPER} {HIDDEN}", "seen": note["version"]}
        )
    attached = f"{running.url}/api/issues/{hidden}/attachments?name={WHISPER}"
    headers = {"Authorization": f"Bearer {running.token}", "Content-Type": "text/plain"}
    assert running.http.request("POST", attached, body=WHISPER.encode(), headers=headers).status == 201
    order = {"name": f"{WHISPER} {HIDDEN}", "app": HIDDEN, "items": [{"look_at": f"{WHISPER} {HIDDEN}"}]}
    assert running.ask("POST", "/api/check-lists", order).status == 201
    # Whatever is worked out later, such as quiet failures and steps of rates, is made up here.
    running.service.records.writer.run(
        lambda c: c.execute(
            "INSERT INTO quiet_failures (app_id, environment, kind, subject, reason, chance, found_ms, held_ms) "
            "VALUES (2, 'hushed-env', 'warning', 'hushed', 'hushed', 0.01, 1, 1)"
        )
    )
    yield running, ida, olav
    running.http.clear()
    thread.stop()


def concrete(running: Running, path: str) -> list[str]:
    """Return addresses of a path of the description that ask for what is hidden, and for everything."""
    reader = running.service.records.reader
    issue = reader.one("SELECT id FROM issues WHERE app_id = 2")["id"]
    report = str(uuid.UUID(bytes=reader.one("SELECT id FROM failures WHERE app_id = 2")["id"]))
    names = {"{name}": HIDDEN, "{release}": f"{HIDDEN}-1.0", "{id}": report, "{key}": "2", "{regrouping}": "1", "{rule}": "1"}  # fmt: skip
    for name, value in names.items():
        path = path.replace(name, value)
    if path.startswith("/api/records/{kind}/{number}"):
        found = []
        for kind in ("failures", "logs", "runs"):
            listed = running.get(f"/api/records/{kind}?window=24h&question=app%3D{HIDDEN}")["records"]
            found.append(path.replace("{kind}", kind).replace("{number}", str(listed[0]["number"])))
        return found
    path = re.sub(r"\{(?:note|attachment|list|pattern)\}", "1", path.replace("{number}", str(issue)))
    query = {
        "/api/compare": [f"?app={HIDDEN}&before={HIDDEN}-1.0&now={HIDDEN}-1.0"],
        "/api/releases": [f"?app={HIDDEN}", "?app=open"],
        "/api/person": [f"?user={HIDDEN}-user&kind=user.id", f"?who={HIDDEN}-user"],
        "/api/timeline": [f"?failure={report}", f"?trace={'ab' * 16}", f"?user={HIDDEN}-user", f"?host={HIDDEN}-host"],
        "/api/records/together": [f"?trace={'ab' * 16}"],
    }.get(path)
    if query is None:
        query = ["", f"?app={HIDDEN}&window=24h", "?window=24h"]
        if "{kind}" in path:
            query += [
                f"?window=24h&question={HIDDEN}",
                f"?window=24h&field={HIDDEN}.name",
                "?window=24h&summary=count+by+app",
            ]
    kinds = ("failures", "logs", "runs") if "{kind}" in path else ("",)
    return [path.replace("{kind}", kind) + asked for kind in kinds for asked in query]


def test_nothing_of_it_is_on_any_route(seen: tuple[Running, str, str]) -> None:
    """Every reading route of the description, asked for what is hidden and for everything: not a word of it, where Olav reads it."""
    running, ida, olav = seen
    words = 0
    for path, operations in running.get("/api/openapi.json")["paths"].items():
        if "get" not in operations or not path.startswith("/api/") or path in OPEN or path.endswith(("/live", "/tail")):
            continue
        for address in concrete(running, path):
            theirs = ask_as(running, olav, "GET", address)
            answer = ask_as(running, ida, "GET", address)
            words += WHISPER in theirs.data.decode()
            said = answer.data.decode()
            assert answer.status < 300 or answer.status in (401, 403, 404, 410, 422), (address, answer.status)
            assert WHISPER not in said, (address, answer.status, said[:600])
            # What she asked with may be said back to her; of what she did not ask with, nothing may.
            assert HIDDEN not in said or HIDDEN in address, (address, answer.status, said[:600])
    assert words >= 25, f"only {words} answers speak of it at all: the check checks nothing"


def test_nothing_of_it_is_changed(seen: tuple[Running, str, str]) -> None:
    """What she may do to other issues she cannot do to these, nor hand them over to hers; nothing of it is found in the store afterwards."""
    running, ida, olav = seen
    reader = running.service.records.reader
    hidden = reader.one("SELECT id FROM issues WHERE app_id = 2")["id"]
    mine = reader.one("SELECT id FROM issues WHERE app_id = 1")["id"]
    before = [tuple(row) for row in reader.rows("SELECT * FROM issues WHERE app_id = 2")]
    tried = 0
    for path, operations in running.get("/api/openapi.json")["paths"].items():
        for method, operation in operations.items():
            if method == "get" or operation.get("x-needs") != "decide":
                continue
            address = path.replace("{number}", str(hidden)).replace("{name}", HIDDEN).replace("{release}", "9")
            address = re.sub(r"\{[a-z]+\}", "1", address)
            if (
                path.startswith(
                    (
                        "/api/saved",
                        "/api/boards",
                        "/api/deploys",
                        "/api/check-lists",
                        "/api/decisions",
                        "/api/alert-rules",
                    )
                )
                or path == "/api/silences"
            ):
                continue
            tried += 1
            answer = ask_as(running, ida, method.upper(), address, {})
            assert (answer.status, answer.json()["slug"]) == (404, "not-found"), (method, path, answer.data)
    assert tried >= 10
    # A silence of everything would be one of what she does not see, too.
    assert ask_as(running, ida, "POST", "/api/silences", {"reason": "x", "minutes": 5}).status == 422
    for method, path, body in (
        ("POST", f"/api/issues/{mine}/merge", {"into": hidden}),
        ("POST", f"/api/issues/{mine}/merge/preview", {"into": hidden}),
        ("POST", f"/api/issues/{mine}/never-together", {"other": hidden}),
        ("POST", "/api/check-lists", {"name": "x", "app": HIDDEN, "items": [{"look_at": "x"}]}),
        ("POST", "/api/silences", {"reason": "x", "minutes": 5, "app": HIDDEN}),
        ("POST", "/api/silences", {"reason": "x", "minutes": 5, "issue": hidden}),
        ("DELETE", "/api/check-lists/1", None),
        ("POST", "/api/deploys", {"app": HIDDEN, "release": "9.9", "environment": "production"}),
    ):
        answer = ask_as(running, ida, method, path, body)
        assert answer.status in (404, 422) and (answer.status == 404 or "not-found" in str(answer.data)), (
            path,
            answer.data,
        )
    both = {"issues": [{"number": hidden}, {"number": mine}], "accept": True}
    answer = ask_as(running, ida, "POST", "/api/decisions", both).json()
    assert (answer["done"], [(one["number"], one["slug"]) for one in answer["left"]]) == (
        [mine],
        [(hidden, "not-found")],
    )
    of_owner = running.ask("POST", "/api/decisions", both | {"accept": None, "park": {}}).json()["decision"]
    taken = ask_as(running, ida, "POST", f"/api/decisions/{of_owner}/undo").json()
    assert (taken["done"], taken["left"]) == ([mine], [])
    assert ask_as(running, ida, "POST", f"/api/decisions/{of_owner}/undo").status == 404
    assert running.get(f"/api/issues/{hidden}")["state"] == "parked", "she took back her part of it alone"
    assert running.ask("POST", f"/api/decisions/{of_owner}/undo").json()["done"] == [hidden]
    after = [tuple(row) for row in reader.rows("SELECT * FROM issues WHERE app_id = 2")]
    assert [row for row in after if row[0] != hidden] == [row for row in before if row[0] != hidden]
    assert reader.rows("SELECT 1 FROM deploys WHERE inferred = 0") == []
    assert ask_as(running, olav, "POST", f"/api/issues/{hidden}/accept", {}).status == 200


def test_a_token_for_one_app(seen: tuple[Running, str, str]) -> None:
    """It sees that app, administers nothing that is for all, and makes no token that sees more."""
    running, _, olav = seen
    order = {"label": "for one", "scope": "administer", "apps": ["open"]}
    assert ask_as(running, olav, "POST", "/api/me/tokens", order).json()["slug"] == "scope-too-narrow"
    token = running.ask("POST", "/api/me/tokens", order).json()["token"]
    assert [app["name"] for app in running.ask("GET", "/api/apps", token=token).json()["apps"]] == ["open"]
    assert {row["app"] for row in running.ask("GET", "/api/issues", token=token).json()["issues"]} == {"open"}
    assert running.ask("POST", "/api/apps/open/keys", {}, token=token).status == 201
    assert running.ask("POST", f"/api/apps/{HIDDEN}/keys", {}, token=token).status == 404
    rule = {"rule": "name vessel pin"}
    assert running.ask("POST", "/api/redaction-rules", rule, token=token).json()["slug"] == "scope-too-narrow"
    assert (
        running.ask("PATCH", "/api/people/owner", {"role": "owner"}, token=token).json()["slug"] == "scope-too-narrow"
    )
    more = running.ask("POST", "/api/me/tokens", {"label": "more", "scope": "read"}, token=token).json()["token"]
    assert [app["name"] for app in running.ask("GET", "/api/apps", token=more).json()["apps"]] == ["open"]
    assert running.ask("POST", "/api/me/tokens", {"label": "x", "apps": [HIDDEN]}, token=token).status == 404
    listed = {one["label"]: one.get("apps") for one in running.get("/api/me/tokens")["tokens"]}
    assert listed["for one"] == ["open"] and listed["tests"] is None


def test_streams_say_nothing_of_it(seen: tuple[Running, str, str]) -> None:
    """Of what happens in an app that she does not see, she hears that something did; a tail shows none of its records."""
    running, ida, _ = seen
    key = running.ask("POST", f"/api/apps/{HIDDEN}/keys", {"environment": f"{HIDDEN}-env"}).json()["key"]
    headers = {"Cookie": f"obitus_session={ida}"}
    live, tail = (
        running.http.request("GET", running.url + path, headers=headers, preload_content=False)
        for path in ("/api/live", "/api/records/logs/tail?window=24h")
    )
    assert b"event: open" in live.read1() and b"event: open" in tail.read1()
    running.send(key, *reports_of(f"{HIDDEN} again"))
    running.send(running.ask("POST", "/api/apps/open/keys", {}).json()["key"], log("open and loud", 0))
    heard = live.read1()
    assert b"event: missed" in heard and HIDDEN.encode() not in heard
    shown = tail.read1()
    assert b"open and loud" in shown and HIDDEN.encode() not in shown and WHISPER.encode() not in shown
    for stream in (live, tail):
        stream.close()
        stream.release_conn()


def test_limiting_and_opening_again(seen: tuple[Running, str, str]) -> None:
    """Whoever is named sees it from the next request on; with nobody named owners alone do; with null everybody."""
    running, ida, olav = seen

    def sees(session: str) -> bool:
        return HIDDEN in {app["name"] for app in ask_as(running, session, "GET", "/api/apps").json()["apps"]}

    assert (sees(ida), sees(olav)) == (False, True)
    try:
        running.ask("PUT", f"/api/apps/{HIDDEN}/people", {"people": []})
        assert (sees(ida), sees(olav)) == (False, False)
        running.ask("PUT", f"/api/apps/{HIDDEN}/people", {"people": None})
        assert (sees(ida), sees(olav)) == (True, True)
        assert running.ask("PUT", f"/api/apps/{HIDDEN}/people", {"people": ["Nobody"]}).status == 404
        assert sees(ida), "what was refused changed nothing"
    finally:
        running.ask("PUT", f"/api/apps/{HIDDEN}/people", {"people": ["Olav Brekke"]})
    people = {one["name"]: one["apps"] for one in running.get("/api/people")["people"]}
    assert people["Olav Brekke"] == [HIDDEN] and people["Ida Moss"] == []


def test_every_table_is_thought_of(seen: tuple[Running, str, str]) -> None:
    """Each table of both kinds of files is narrowed, or it is said why everybody may read it."""
    running, _, _ = seen
    tables = (
        "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite%' AND name NOT LIKE 'words_%'"
    )
    main = {row["name"] for row in running.service.records.reader.rows(tables)}
    assert main == set(MAIN) | set(NOT_OF_APPS) and not set(MAIN) & set(NOT_OF_APPS)
    (day,) = running.service.records.days.latest(1)
    of_day = {row["name"] for row in running.service.records.days.rows(day.day, tables)}
    assert of_day == set(OF_DAYS) | set(OF_DAYS_NOT_OF_APPS)
    assert Path(path_of(running.service.records.days.folder, day.day)).exists()


@pytest.mark.parametrize(
    ("sight", "seen_apps"),
    [
        (Sight(), {1, 2, 3}),
        (Sight(None, frozenset({2})), {1, 3}),
        (Sight(frozenset({1, 2}), frozenset({2})), {1}),
        (Sight(frozenset()), set()),
    ],
)
def test_what_a_sight_sees(sight: Sight, seen_apps: set[int]) -> None:
    """Only what a token is for, and none of what is hidden; whole is what hides nothing."""
    assert {app for app in (1, 2, 3) if sight.sees(app)} == seen_apps
    assert sight.is_whole == (seen_apps == {1, 2, 3})
