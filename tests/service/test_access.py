"""Who may: links, sessions, tokens, passwords, foreign pages and foreign names."""

from __future__ import annotations

import os
import re
import sys
import threading
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest
import urllib3

from obitus.core.clock import DAY_MS
from obitus.service import secrets
from obitus.service.front import OPEN
from obitus.service.problems import Problem
from obitus.service.run import InThread, listen
from obitus.service.settings import NICE, Settings
from obitus.service.sign_in.hashing import Hashing
from obitus.service.wiring import Parts
from obitus.store import people
from obitus.store.errors import StoreBroken
from tests.conftest import Running, failure, start, until


def sign_in(running: Running, body: dict[str, str], **headers: str) -> tuple[int, str, str]:
    """Sign in; return status, slug and the session cookie."""
    answer = running.http.request("POST", running.url + "/api/sign-in", json=body, headers=headers)
    found = re.search(r"obitus_session=([^;]+)", answer.headers.get("Set-Cookie", ""))
    return answer.status, answer.json().get("slug", ""), found[1] if found else ""


def link_secret(running: Running) -> str:
    return running.service.passes.new_sign_in_link().partition("#")[2]


def with_cookie(
    running: Running, cookie: str, method: str = "GET", path: str = "/api/me", body: Any = None, **headers: str
) -> int:
    sent = {"Cookie": f"obitus_session={cookie}"} | {name.replace("_", "-"): value for name, value in headers.items()}
    more = {} if body is None else {"json": body}
    return running.http.request(method, running.url + path, headers=sent, **more).status


def cookie(session: str) -> dict[str, str]:
    return {"Cookie": f"obitus_session={session}"}


def test_a_link_works_once(running: Running) -> None:
    """The first use signs in with a strict cookie; the second is refused."""
    secret = link_secret(running)
    answer = running.http.request("POST", running.url + "/api/sign-in", json={"link": secret})
    cookie = answer.headers["Set-Cookie"]
    assert answer.status == 200 and "HttpOnly" in cookie and "SameSite=strict" in cookie
    assert with_cookie(running, cookie.split(";")[0].partition("=")[2]) == 200
    assert sign_in(running, {"link": secret})[:2] == (401, "sign-in-failed")


def test_a_link_grows_old(running: Running) -> None:
    """After a day a link is worth nothing; a session ends after twelve idle hours, and after two weeks whatever is done."""
    old, fresh, other = (link_secret(running) for _ in range(3))
    cookie, idle = sign_in(running, {"link": fresh})[2], sign_in(running, {"link": other})[2]

    def is_noted() -> bool:
        since = running.service.clock.now_ms() - 60_000
        return bool(running.service.records.reader.rows("SELECT 1 FROM passes WHERE used_ms > ?", (since,)))

    for hours in range(0, 14 * 24, 11):
        running.clock.ahead_ms = hours * 3_600_000
        assert with_cookie(running, cookie) == 200, hours
        until(is_noted)
    assert with_cookie(running, idle) == 401
    assert sign_in(running, {"link": old})[0] == 401
    running.clock.ahead_ms = 14 * 24 * 3_600_000 + 60_000
    assert with_cookie(running, cookie) == 401


def test_password(running: Running) -> None:
    """A password signs in; setting one ends every other session; a short one is refused."""
    other = sign_in(running, {"link": link_secret(running)})[2]
    assert running.ask("POST", "/api/me/password", {"password": "short"}).json()["slug"] == "bad-field"
    assert running.ask("POST", "/api/me/password", {"password": "the tide waits for nobody"}).status == 200
    assert with_cookie(running, other) == 401
    assert sign_in(running, {"name": "owner", "password": "the tide waits for nobody"})[0] == 200
    assert sign_in(running, {"name": "owner", "password": "wrong"})[0] == 401
    assert sign_in(running, {"name": "nobody", "password": "wrong"})[0] == 401


PASSWORD = "the tide waits for nobody"


def test_guessing_is_slowed_down(running: Running) -> None:
    """After ten wrong passwords even the right one has to wait, and is told how long; a link always works; a restart forgets nothing."""
    assert running.ask("POST", "/api/me/password", {"password": PASSWORD}).status == 200
    for _ in range(20):
        # Nothing guessed, nothing counted.
        assert sign_in(running, {})[0] == 401
        assert sign_in(running, {"link": "guess"})[0] == 401
    for _ in range(10):
        assert sign_in(running, {"name": "owner", "password": "guess"})[0] == 401
    right = {"name": "owner", "password": PASSWORD}
    answer = running.http.request("POST", running.url + "/api/sign-in", json=right)
    assert answer.status == 429 and 0 < int(answer.headers["Retry-After"]) <= 300
    assert running.service.records.reader.rows("SELECT COUNT(*) AS n FROM sign_in_tries")[0]["n"] == 10
    assert sign_in(running, {"link": link_secret(running)})[0] == 200
    # A clock that jumps locks nobody out for longer than the window.
    for ahead_ms in (400 * DAY_MS, 0):
        running.clock.ahead_ms = ahead_ms
        answer = running.http.request("POST", running.url + "/api/sign-in", json=right)
        assert answer.status == 200 or int(answer.headers["Retry-After"]) <= 300
    running.clock.ahead_ms = 6 * 60_000
    assert sign_in(running, right)[0] == 200
    acts = [(act["act"], act["subject"], act.get("person")) for act in running.get("/api/acts?limit=500")["acts"]]
    assert ("sign-in failed", "owner from 127.0.0.1", None) in acts
    assert ("sign-in refused", "owner from 127.0.0.1: too many tries", None) in acts
    # Strangers do not fill the record: of the same only the first counts.
    assert len([act for act in acts if act[0] == "sign-in failed"]) <= 4


@pytest.mark.parametrize(
    ("proxies", "told_apart"),
    [((), False), (("127.0.0.1",), True), (("127.0.0.0/8", "10.0.0.5"), True), (("10.0.0.5",), False)],
)
def test_who_asks_behind_a_proxy(tmp_path: Path, proxies: tuple[str, ...], told_apart: bool) -> None:
    """A proxy that the owner named says who asks, and each of them has tries of its own; nobody else's word is believed."""
    thread, running = start(tmp_path / "data", proxies=proxies)
    try:
        assert running.ask("POST", "/api/me/password", {"password": PASSWORD}).status == 200

        def guess(forwarded: str) -> int:
            headers = {"X-Forwarded-For": forwarded}
            body = {"name": "owner", "password": "guess"}
            return running.http.request("POST", running.url + "/api/sign-in", json=body, headers=headers).status

        # Whoever asks can write what they like before the proxy adds where it was asked from.
        assert [guess(f"203.0.113.{n}, 198.51.100.7") for n in range(11)] == [401] * 10 + [429]
        assert guess("198.51.100.8") == (401 if told_apart else 429)
        subjects = {
            act["subject"] for act in running.get("/api/acts?limit=500")["acts"] if act["act"] == "sign-in failed"
        }
        assert subjects == (
            {"owner from 198.51.100.7", "owner from 198.51.100.8"} if told_apart else {"owner from 127.0.0.1"}
        )
        assert guess("<b>tide</b>") in (401, 429)
    finally:
        running.http.clear()
        thread.stop()


def test_many_guess_at_once(running: Running) -> None:
    """Two hundred at the same time get no guess more than the bound, and the memory of two checks."""
    assert running.ask("POST", "/api/me/password", {"password": PASSWORD}).status == 200
    slugs: list[str] = []

    def guess() -> None:
        http = urllib3.PoolManager(retries=False, timeout=150)
        body = {"name": "owner", "password": "guess"}
        slugs.append(http.request("POST", running.url + "/api/sign-in", json=body).json()["slug"])
        http.clear()

    threads = [threading.Thread(target=guess) for _ in range(200)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    # On a machine that has much to do, one of the ten may be sent away before its turn to be compared comes.
    compared, sent_away = slugs.count("sign-in-failed"), slugs.count("too-busy")
    assert slugs.count("too-many-sign-ins") == 190
    assert compared >= 1 and compared + sent_away == 10


def test_changing_the_password(running: Running) -> None:
    """It asks for the old one, or for a link just used; common ones and rows of one sign are refused; tokens end if wanted."""
    token = running.ask("POST", "/api/me/tokens", {"label": "cron", "scope": "administer"}).json()["token"]
    for weak in ("passwordpassword", "aaaaaaaaaaaa", "123456789012", "qwertyuiop12", "ownerownerowner"):
        answer = running.ask("POST", "/api/me/password", {"password": weak})
        assert (answer.status, answer.json()["slug"]) == (422, "password-too-weak"), weak
    assert running.ask("POST", "/api/me/password", {"password": PASSWORD}).status == 200
    new = {"password": "herring barrels roll uphill"}
    assert running.ask("POST", "/api/me/password", new).json()["slug"] == "sign-in-failed"
    assert running.ask("POST", "/api/me/password", new | {"old": "guess"}).json()["slug"] == "sign-in-failed"
    assert running.ask("POST", "/api/me/password", new | {"old": PASSWORD}).status == 200
    assert running.ask("GET", "/api/me", token=token).status == 200
    cookie = sign_in(running, {"link": link_secret(running)})[2]
    last = {"password": "lanterns under the quay", "end_tokens": True}
    assert with_cookie(running, cookie, "POST", "/api/me/password", last) == 200
    assert running.ask("GET", "/api/me", token=token).status == 401
    late = sign_in(running, {"link": link_secret(running)})[2]
    running.clock.ahead_ms = 16 * 60_000
    assert with_cookie(running, late, "POST", "/api/me/password", new) == 401


def test_tokens_have_a_scope_and_an_end(running: Running) -> None:
    """A token may do what it was made for, until its end; what it was refused is on record."""
    running.send(running.add_app(), failure())
    asked = {"read": ("GET", "/api/issues", None), "decide": ("POST", "/api/issues/1/accept", {}), "administer": ("POST", "/api/apps/sailings/keys", {})}  # fmt: skip
    for held in ("read", "decide", "administer"):
        token = running.ask("POST", "/api/me/tokens", {"label": held, "scope": held, "days": 30}).json()["token"]
        for place, (needed, (method, path, body)) in enumerate(asked.items()):
            answer = running.ask(method, path, body, token=token)
            may = list(asked).index(held) >= place
            assert (answer.status < 300) == may, (held, needed, answer.data)
            assert may or answer.json()["slug"] == "scope-too-narrow"
        running.clock.ahead_ms = 31 * DAY_MS
        assert running.ask("GET", "/api/me", token=token).status == 401
        running.clock.ahead_ms = 0
    found = {one["label"]: one for one in running.get("/api/me/tokens")["tokens"]}
    assert found["read"]["scope"] == "read" and found["read"]["expires"] and running.get("/api/me/tokens")
    assert running.ask("POST", "/api/me/tokens", {"label": "x", "days": 366}).status == 422
    assert running.get("/api/acts?act=refused")["acts"][0]["subject"].startswith("POST /api/")


def test_sessions_are_listed_and_ended(running: Running) -> None:
    """Each browser that is signed in is on a list; one that is ended is out, and so is what it listens to."""
    here, there = (sign_in(running, {"link": link_secret(running)})[2] for _ in range(2))
    sessions = running.http.request("GET", running.url + "/api/me/sessions", headers=cookie(here)).json()["sessions"]
    assert [one["is_this"] for one in sessions] == [True, False]
    stream = running.http.request("GET", running.url + "/api/live", headers=cookie(there), preload_content=False)
    assert b"event: open" in stream.read1()
    assert with_cookie(running, here, "DELETE", f"/api/me/sessions/{sessions[1]['id']}") == 200
    assert with_cookie(running, there) == 401
    rest = b""
    while piece := stream.read1():
        rest += piece
    stream.release_conn()
    mine = running.http.request("GET", running.url + "/api/live", headers=cookie(here), preload_content=False)
    assert b"event: open" in mine.read1()
    assert with_cookie(running, here, "POST", "/api/sign-out") == 200
    while mine.read1():
        pass
    mine.release_conn()


def test_cookies_where_the_address_is_https(tmp_path: Path) -> None:
    """The cookie is bound to its host and to https, and only that one is read."""
    service = Parts(Settings(data=tmp_path, public_url="https://obitus.skerry.example"))
    service.passes.ensure_owner()
    opened = listen("127.0.0.1", 0)
    thread = InThread(service, opened)
    thread.start()
    http = urllib3.PoolManager(retries=False)
    url = f"http://127.0.0.1:{opened.getsockname()[1]}"
    link = service.passes.new_sign_in_link().partition("#")[2]
    answer = http.request("POST", url + "/api/sign-in", json={"link": link})
    cookie = answer.headers["Set-Cookie"]
    assert cookie.startswith("__Host-obitus_session=") and "Secure" in cookie and "HttpOnly" in cookie
    held = cookie.partition(";")[0]
    assert http.request("GET", url + "/api/me", headers={"Cookie": held}).status == 200
    other = held.removeprefix("__Host-")
    assert http.request("GET", url + "/api/me", headers={"Cookie": other}).status == 401
    http.clear()
    thread.stop()


def test_foreign_pages_change_nothing(running: Running) -> None:
    """A page of another site cannot use the browser's cookie to change anything."""
    cookie = sign_in(running, {"link": link_secret(running)})[2]
    path = "/api/sign-out"
    assert with_cookie(running, cookie, "POST", path, Sec_Fetch_Site="cross-site") == 403
    assert with_cookie(running, cookie, "POST", path, Origin="https://elsewhere.example") == 403
    assert sign_in(running, {"link": "x"}, Origin="https://elsewhere.example")[:2] == (403, "foreign-origin")
    assert with_cookie(running, cookie, "POST", path, Origin=running.url) == 200
    assert with_cookie(running, cookie) == 401


def test_foreign_names_are_not_answered(running: Running) -> None:
    """A foreign name that points here (DNS rebinding) gets nothing, not even the console."""
    for path in ("/", "/api/issues", "/health"):
        answer = running.ask("GET", path, headers={"Host": "elsewhere.example"})
        assert (answer.status, answer.json()["slug"]) == (421, "unknown-host")
    for host in ("localhost:1", "127.0.0.1", "[::1]:80"):
        assert running.ask("GET", "/health", headers={"Host": host}).status == 200


def test_tokens(running: Running) -> None:
    """A token is shown once, works until it is revoked, and is kept as a hash only."""
    made = running.ask("POST", "/api/me/tokens", {"label": "laptop"}).json()
    assert running.ask("GET", "/api/me", token=made["token"]).json()["name"] == "owner"
    listed = next(row for row in running.get("/api/me/tokens")["tokens"] if row["label"] == "laptop")
    assert made["token"] not in str(listed)
    assert running.ask("DELETE", f"/api/me/tokens/{listed['id']}").status == 200
    assert running.ask("GET", "/api/me", token=made["token"]).status == 401
    rows = running.service.records.reader.rows("SELECT hash, id, label FROM passes")
    assert all(len(row["hash"]) == 32 for row in rows) and made["token"] not in str([tuple(row) for row in rows])


def test_everything_under_api_needs_somebody(patient: Running) -> None:
    """Every reading path answers 401 to nobody, and so does the live stream."""
    description = patient.get("/api/openapi.json")
    for path, methods in description["paths"].items():
        if not path.startswith("/api/") or path in OPEN:
            continue
        concrete = path.replace("{number}", "1").replace("{id}", "1").replace("{name}", "x").replace("{key}", "1")
        for method in methods:
            answer = patient.http.request(method.upper(), patient.url + concrete)
            assert answer.status == 401, (method, path)


@pytest.mark.parametrize(
    "path", ["/", "/issues", "/api/issues", "/health", "/reports/schema", "/nowhere", "/assets/none.js"]
)
def test_strict_headers_everywhere(running: Running, path: str) -> None:
    """Every answer, errors included, carries the strict content policy."""
    headers = running.ask("GET", path).headers
    assert (
        "default-src 'none'" in headers["Content-Security-Policy"]
        and "unsafe" not in headers["Content-Security-Policy"]
    )
    assert headers["X-Content-Type-Options"] == "nosniff" and headers["Referrer-Policy"] == "no-referrer"
    assert "server" not in headers


def test_assets_stay_in_their_folder(running: Running) -> None:
    """No path leads out of the folder with the built files."""
    for path in ("/assets/..%2f..%2frun.py", "/assets/%2e%2e/index.html", "/assets/../wiring.py"):
        assert running.ask("GET", path).status == 404


def test_password_hashes() -> None:
    """The same password hashes differently each time, and only it fits."""
    one, two = secrets.hash_password("tide"), secrets.hash_password("tide")
    assert one != two and secrets.password_fits("tide", one) and not secrets.password_fits("ebb", one)
    assert not secrets.password_fits("tide", None)
    assert one.split("$")[3].endswith("p=1"), "one guess takes one processor at most"


@pytest.mark.skipif(sys.platform != "linux", reason="only there a thread has a priority of its own")
def test_passwords_are_compared_behind_everything_else() -> None:
    """The thread that does it stands behind the others, is the only one, and those who wait too long are asked to come again."""
    hashing, begun, go_on = Hashing(), threading.Event(), threading.Event()

    def look() -> int:
        begun.set()
        assert go_on.wait(30)
        return os.getpriority(os.PRIO_PROCESS, threading.get_native_id())

    with ThreadPoolExecutor(1) as beside, pytest.MonkeyPatch.context() as patch:
        patch.setattr("obitus.service.sign_in.hashing.WAIT_S", 0.05)
        first = beside.submit(hashing.do, look)
        assert begun.wait(30)
        with pytest.raises(Problem) as refused:
            hashing.do(look)
        go_on.set()
        assert (refused.value.slug, first.result()) == ("too-busy", NICE)
    assert os.getpriority(os.PRIO_PROCESS, threading.get_native_id()) < NICE and hashing.do(str, "free again")


def test_a_link_is_used_up_only_for_a_session(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """Where the session cannot be kept the link still works, and nothing of it is on record."""
    link = running.service.passes.new_sign_in_link().rpartition("#")[2]
    acts = len(running.get("/api/acts")["acts"])

    def breaks(*_: Any, **__: Any) -> None:
        raise StoreBroken("made up")

    with monkeypatch.context() as patch:
        patch.setattr(people, "add_pass", breaks)
        assert running.http.request("POST", running.url + "/api/sign-in", json={"link": link}).status == 500
    assert len(running.get("/api/acts")["acts"]) == acts
    assert running.http.request("POST", running.url + "/api/sign-in", json={"link": link}).status == 200
    assert running.get("/api/acts")["acts"][0]["act"] == "signed in"
    assert running.http.request("POST", running.url + "/api/sign-in", json={"link": link}).status == 401
