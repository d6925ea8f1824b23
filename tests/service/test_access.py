"""Who may: links, sessions, tokens, passwords, foreign pages and foreign names."""

from __future__ import annotations

import re

import pytest

from obitus.service import secrets
from tests.conftest import Running


def sign_in(running: Running, body: dict[str, str], **headers: str) -> tuple[int, str, str]:
    """Sign in; return status, slug and the session cookie."""
    answer = running.http.request("POST", running.url + "/api/sign-in", json=body, headers=headers)
    found = re.search(r"obitus_session=([^;]+)", answer.headers.get("Set-Cookie", ""))
    return answer.status, answer.json().get("slug", ""), found[1] if found else ""


def link_secret(running: Running) -> str:
    return running.service.new_sign_in_link().partition("#")[2]


def with_cookie(running: Running, cookie: str, method: str = "GET", path: str = "/api/me", **headers: str) -> int:
    sent = {"Cookie": f"obitus_session={cookie}"} | {name.replace("_", "-"): value for name, value in headers.items()}
    return running.http.request(method, running.url + path, headers=sent).status


def test_a_link_works_once(running: Running) -> None:
    """The first use signs in with a strict cookie; the second is refused."""
    secret = link_secret(running)
    answer = running.http.request("POST", running.url + "/api/sign-in", json={"link": secret})
    cookie = answer.headers["Set-Cookie"]
    assert answer.status == 200 and "HttpOnly" in cookie and "SameSite=strict" in cookie
    assert with_cookie(running, cookie.split(";")[0].partition("=")[2]) == 200
    assert sign_in(running, {"link": secret})[:2] == (401, "sign-in-failed")


def test_a_link_grows_old(running: Running) -> None:
    """After a day a link is worth nothing; after two weeks neither is a session."""
    old, fresh = link_secret(running), link_secret(running)
    cookie = sign_in(running, {"link": fresh})[2]
    running.clock.ahead_ms = 25 * 3_600_000
    assert sign_in(running, {"link": old})[0] == 401
    assert with_cookie(running, cookie) == 200
    running.clock.ahead_ms = 15 * 24 * 3_600_000
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


def test_guessing_is_slowed_down(running: Running) -> None:
    """After ten failed sign-ins even the right one has to wait, and is told how long."""
    for _ in range(10):
        assert sign_in(running, {"link": "guess"})[0] == 401
    answer = running.http.request("POST", running.url + "/api/sign-in", json={"link": link_secret(running)})
    assert answer.status == 429 and int(answer.headers["Retry-After"]) > 0
    running.clock.ahead_ms = 6 * 60_000
    assert sign_in(running, {"link": link_secret(running)})[0] == 200


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
    rows = running.service.reader.rows("SELECT hash, id, label FROM passes")
    assert all(len(row["hash"]) == 32 for row in rows) and made["token"] not in str([tuple(row) for row in rows])


def test_everything_under_api_needs_somebody(running: Running) -> None:
    """Every reading path answers 401 to nobody, and so does the live stream."""
    description = running.get("/api/openapi.json")
    for path, methods in description["paths"].items():
        if not path.startswith("/api") or path == "/api/sign-in":
            continue
        concrete = path.replace("{number}", "1").replace("{id}", "1").replace("{name}", "x").replace("{key}", "1")
        for method in methods:
            answer = running.http.request(method.upper(), running.url + concrete)
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
