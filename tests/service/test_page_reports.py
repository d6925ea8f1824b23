"""Reports of pages: let in from the origins that their key is for, from no other, and bounded."""

from __future__ import annotations

import json
from http.client import HTTPConnection
from typing import Any

import pytest
import urllib3

from obitus.core.origins import origin_of
from obitus.service.intake.allowance import Allowance
from tests.conftest import Running, failure
from tests.service.test_records import log

PIER = "https://pier.skerry.example"


def page_key(running: Running, *origins: str) -> str:
    """Return a key for pages of these origins."""
    running.add_app("pierboard")
    answer = running.ask("POST", "/api/apps/pierboard/keys", {"origins": origins or (PIER,)})
    assert answer.status == 201, answer.data
    return str(answer.json()["key"])


def send(running: Running, key: str, *reports: Any, origin: str | None = PIER, method: str = "POST") -> urllib3.BaseHTTPResponse:  # fmt: skip
    """Send what a page of an origin would."""
    headers = {"Content-Type": "text/plain;charset=UTF-8"} | ({"Origin": origin} if origin else {})
    body = "\n".join(json.dumps(report) for report in reports) if method == "POST" else None
    return running.http.request(method, f"{running.url}/page?key={key}", body=body, headers=headers)


def test_a_page_reports_from_its_origin(running: Running) -> None:
    """Its browser is told that it may, and its reports are taken as any others, with the stack read from its text."""
    key = page_key(running)
    assert key.startswith("opage_")
    asked = send(running, key, method="OPTIONS")
    assert (asked.status, asked.headers["Access-Control-Allow-Origin"]) == (204, PIER)
    assert asked.headers["Access-Control-Allow-Methods"] == "POST" and "Credentials" not in str(asked.headers)
    stack = (
        f"TypeError: e is undefined\n    at surcharge ({PIER}/assets/page.js:1:96)\n    at {PIER}/assets/page.js:1:264"
    )
    link = {"type": "TypeError", "message": "e is undefined", "stack": stack}
    answer = send(running, key, failure(exceptions=[link]), log("the page is ready"))
    assert answer.status == 200 and answer.json()["stored"] == 2, answer.data
    assert answer.headers["Access-Control-Allow-Origin"] == PIER and answer.headers["Vary"] == "Origin"
    frames = running.get("/api/issues/1")["latest"]["report"]["exceptions"][0]["frames"]
    assert [(one["function"], one["line"], one["column"]) for one in frames] == [("<anonymous>", 1, 264), ("surcharge", 1, 96)]  # fmt: skip


@pytest.mark.parametrize("origin", ["https://evil.example", "http://pier.skerry.example", "https://pier.skerry.example:8443", "null", "", None])  # fmt: skip
def test_no_other_origin_is_let_in(running: Running, origin: str | None) -> None:
    """Neither asked for nor sent; the page is told nothing that it could read, and Set-up says that somebody tried."""
    key = page_key(running)
    for method in ("OPTIONS", "POST"):
        answer = send(running, key, failure(), origin=origin, method=method)
        assert answer.status == 403 and answer.json()["slug"] == "not-this-origin", answer.data
        assert "Access-Control-Allow-Origin" not in answer.headers
    assert not running.issues()
    (app,) = running.get("/api/apps")["apps"]
    assert app["last_refusal"]["slug"] == "not-this-origin"


def test_keys_of_pages_and_of_services_are_told_apart(running: Running) -> None:
    """What everybody can read in a page may do nothing but report for it; a service's key does not belong there."""
    key, service = page_key(running), running.add_app("sailings")
    assert running.send(key, failure()).json()["slug"] == "not-this-key"
    assert send(running, service, failure()).json()["slug"] == "not-this-key"
    assert send(running, "opage_nobody", failure()).json()["slug"] == "unknown-key"
    for path, order in (
        ("/api/deploys", {"release": "1"}),
        ("/api/apps/pierboard/maps/missing", {"release": "1", "maps": []}),
    ):
        assert running.ask("POST", path, order, token=key).status in (401, 403)
    assert running.ask("GET", "/api/issues", token=key).status == 401
    made = running.get("/api/apps")["apps"][0]["keys"]
    number = next(one["id"] for one in made if one["origins"] == [PIER])
    assert running.ask("DELETE", f"/api/apps/pierboard/keys/{number}").status == 200
    assert send(running, key, failure()).json()["slug"] == "revoked-key"
    for wrong in (["pier"], ["https://pier.skerry.example/path"], ["ftp://pier.skerry.example"]):
        assert running.ask("POST", "/api/apps/pierboard/keys", {"origins": wrong}).json()["field"] == "origins"
    both = {"origins": [PIER], "may_deploy": True}
    assert "it may only report" in running.ask("POST", "/api/apps/pierboard/keys", both).json()["detail"]


def test_a_page_that_floods_waits(running: Running) -> None:
    """It is told how long, in words that it may read; others go on."""
    key = page_key(running)
    running.service.intake.pages_of_address = Allowance(1.0, 1000.0, 2.0)
    answers = [send(running, key, log(f"again {number}")) for number in range(8)]
    late = [answer for answer in answers if answer.status == 429]
    assert late and int(late[0].headers["Retry-After"]) >= 1
    assert late[0].headers["Access-Control-Allow-Origin"] == PIER
    assert running.send(running.add_app("sailings"), failure()).status == 200
    running.service.intake.pages_of_address = Allowance(100.0, 1e9, 10.0)
    large = send(running, key, log("x" * 600_000))
    assert large.status == 413


def test_an_allowance_comes_back_with_time(monkeypatch: pytest.MonkeyPatch) -> None:
    """So many at once, then as fast as it comes back; each sender by itself, and the longest unseen is forgotten first."""
    now = [0.0]
    monkeypatch.setattr("obitus.service.intake.allowance.time.monotonic", lambda: now[0])
    allowance = Allowance(2.0, 1000.0, 3.0, most=2)
    assert [allowance.take("one", 10) > 0 for _ in range(9)] == [False] * 7 + [True] * 2
    assert allowance.take("two", 10) == 0
    now[0] = 1.0
    assert [allowance.take("one", 10) > 0 for _ in range(3)] == [False, False, True]
    assert allowance.take("two", 10_000) == 0 and allowance.take("two", 10) > 0, "bytes count too"
    allowance.take("three", 1)
    assert allowance.take("one", 10) == 0


@pytest.mark.parametrize(
    ("text", "origin"),
    [
        ("https://Pier.Skerry.example", "https://pier.skerry.example"), ("http://localhost:5173/", "http://localhost:5173"),
        ("https://pier.skerry.example:443", "https://pier.skerry.example"), ("http://[::1]:8080", "http://[::1]:8080"),
        ("https://bär.example", "https://xn--br-via.example"), ("https://a@b.example", None), ("//pier", None), ("https://x:y", None), ("null", None),
        ("https://pier.example?x", None),
    ],
)  # fmt: skip
def test_origins_are_as_browsers_write_them(text: str, origin: str | None) -> None:
    """Lower case, without the usual port, and nothing behind."""
    assert origin_of(text) == origin


def test_the_script_may_be_loaded_by_any_page(running: Running) -> None:
    """It is the same until it changes, and all else stays for pages of one's own."""
    answer = running.http.request("GET", running.url + "/browser.js")
    assert answer.status == 200 and answer.headers["Content-Type"].startswith("text/javascript")
    assert answer.headers["Cross-Origin-Resource-Policy"] == "cross-origin"
    again = running.http.request("GET", running.url + "/browser.js", headers={"If-None-Match": answer.headers["ETag"]})
    assert (again.status, again.data) == (304, b"")
    assert running.ask("GET", "/health").headers["Cross-Origin-Resource-Policy"] == "same-origin"


def test_what_a_browser_reports_by_itself(running: Running) -> None:
    """A crash is a failure, a request that never arrived a refused run; sent again it is there once. From no other origin, and nothing else."""
    key = page_key(running)
    body = [
        {
            "type": "crash",
            "age": 10,
            "url": f"{PIER}/sailings/4711",
            "user_agent": "Browser/1.0",
            "body": {"reason": "oom"},
        },
        {
            "type": "network-error",
            "age": 10,
            "url": f"{PIER}/tides",
            "body": {"type": "dns.unreachable", "method": "GET"},
        },
    ]

    def told(given: Any, origin: str = PIER) -> Any:
        headers = {"Content-Type": "application/reports+json", "Origin": origin}
        return running.http.request(
            "POST", f"{running.url}/page/browser?key={key}", body=json.dumps(given), headers=headers
        )

    asked = running.http.request("OPTIONS", f"{running.url}/page/browser?key={key}", headers={"Origin": PIER})
    assert asked.status == 204 and asked.headers["Access-Control-Allow-Origin"] == PIER
    # Such reports have no ids: the same is the same to within two seconds, so the clock is put where such a time begins.
    running.clock.ahead_ms += 2100 - running.clock() % 2000
    assert [told(body).json()["stored"], told(body).json()["already_there"]] == [3, 3]
    (issue,) = running.issues()
    assert (issue["type"], issue["message"]) == ("PageCrash", "the page crashed: it ran out of memory")
    assert told(body, "https://evil.example").json()["slug"] == "not-this-origin"
    refused = told({"pass": "p-102"})
    assert (refused.status, refused.json()["slug"]) == (400, "not-browser-reports")
    assert told([]).status == 200


def test_who_sends_too_much_is_told_before_its_body_is_read(running: Running) -> None:
    """A body that is announced and never sent costs nothing."""
    key = page_key(running)
    allowance = running.service.intake.pages_of_address
    while not allowance.take("127.0.0.1", 1000):
        pass
    connection = HTTPConnection(running.url.removeprefix("http://"), timeout=150)
    connection.putrequest("POST", f"/page?key={key}")
    for name, value in (("Origin", PIER), ("Content-Type", "text/plain"), ("Content-Length", "200000")):
        connection.putheader(name, value)
    connection.endheaders()
    answer = connection.getresponse()
    assert answer.status == 429 and int(answer.headers["Retry-After"]) >= 1
    connection.close()
