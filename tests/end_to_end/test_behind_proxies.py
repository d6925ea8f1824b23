"""The service behind nginx and behind Caddy, set up as the files in ``deploy`` say, with TLS: what arrives, and as whose."""

from __future__ import annotations

import contextlib
import json
import re
import socket
import subprocess
import sys
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import urllib3

from tests.conftest import failure, raised_in, until
from tests.end_to_end.proxies import NAME, Caddy, Front, Nginx, behind


@pytest.fixture(scope="module", params=[Nginx, Caddy])
def front(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Front]:
    with behind(request.param, tmp_path_factory.mktemp("front")) as found:
        yield found


def test_reports_arrive(front: Front) -> None:
    """A report that is sent to the proxy is in the records, and the answer bears the strict headers, HSTS among them."""
    key = front.running.add_app("sailings")
    answer = front.ask("POST", "/reports", headers={"Authorization": f"Bearer {key}"}, body=failure())
    assert answer.status == 200 and answer.json()["lines"][0]["id"]
    assert answer.headers["Strict-Transport-Security"] == "max-age=31536000"
    assert "require-trusted-types-for" in answer.headers["Content-Security-Policy"]
    found = front.ask("GET", "/api/issues", headers={"Authorization": f"Bearer {front.running.token}"})
    assert found.json()["issues_in_all"] == 1


def test_the_client_reports_over_tls(front: Front, tmp_path: Path) -> None:
    """A program that is watched reports through the proxy; one that does not trust its certificate sends nothing."""
    key = front.running.add_app("gatekeeper")
    program = tmp_path / "gate.py"
    program.write_text("import obitus\nobitus.watch()\nraise LookupError('no such gate')\n")
    settings = {
        "OBITUS_URL": f"https://localhost:{front.port}",
        "OBITUS_KEY": key,
        "OBITUS_SPOOL": str(tmp_path / "spool"),
        "PATH": "/usr/bin:/bin",
    }
    asked = {"Authorization": f"Bearer {front.running.token}"}

    def count() -> int:
        return int(front.ask("GET", "/api/issues?app=gatekeeper", headers=asked).json()["issues_in_all"])

    # The service answers under the name localhost too, as on its own machine.
    subprocess.run([sys.executable, str(program)], env=settings, capture_output=True, timeout=120)
    assert count() == 0
    subprocess.run(
        [sys.executable, str(program)],
        env=settings | {"SSL_CERT_FILE": str(front.certificate)},
        capture_output=True,
        timeout=120,
    )
    until(lambda: count() == 1)


def test_the_cookie_is_for_https_alone(front: Front) -> None:
    """Signing in through the proxy gives a cookie with the prefix that binds it to this host and to https."""
    link = front.running.service.passes.new_sign_in_link()
    answer = front.ask(
        "POST",
        "/api/sign-in",
        headers={"Content-Type": "application/json", "Origin": f"https://{NAME}"},
        body={"link": link.rpartition("#")[2]},
    )
    assert answer.status == 200, answer.data
    cookie = answer.headers["Set-Cookie"]
    assert cookie.startswith("__Host-obitus_session=") and "Secure" in cookie and "HttpOnly" in cookie


def test_nobody_says_who_they_are(front: Front) -> None:
    """What somebody sends as X-Forwarded-For is replaced: a failed sign-in is on record with the address that the proxy saw."""
    answer = front.ask(
        "POST",
        "/api/sign-in",
        headers={"Content-Type": "application/json", "X-Forwarded-For": "203.0.113.9"},
        body={"name": "owner", "password": "not this one at all"},
    )
    assert answer.status in (401, 403), answer.data
    acts = front.ask("GET", "/api/acts", headers={"Authorization": f"Bearer {front.running.token}"}).json()["acts"]
    failed = next(act for act in acts if act["act"] == "sign-in failed")
    assert "203.0.113.9" not in failed["subject"] and "127.0.0.1" in failed["subject"]


def test_what_happens_is_shown_as_it_happens(front: Front) -> None:
    """The live stream is not held back by the proxy: an event arrives while the stream goes on."""
    key = front.running.add_app("pierboard")
    stream = front.ask(
        "GET", "/api/live", headers={"Authorization": f"Bearer {front.running.token}"}, preload_content=False
    )
    heard: list[str] = []

    def listen() -> None:
        for piece in stream.stream(256):
            heard.append(piece.decode())
            if "event: issue-new" in "".join(heard):
                return

    thread = threading.Thread(target=listen, daemon=True)
    thread.start()
    until(lambda: "event: open" in "".join(heard))
    front.ask("POST", "/reports", headers={"Authorization": f"Bearer {key}"}, body=failure())
    thread.join(60)
    assert "event: issue-new" in "".join(heard)
    stream.close()


def test_bounds_are_those_of_the_service(front: Front) -> None:
    """A body beyond the service's bound is refused, one within it taken; who comes by plain HTTP is sent to https."""
    key = front.running.add_app("too-large")
    too_large = b"x" * (17 * 1024 * 1024)
    try:
        assert front.ask("POST", "/reports", headers={"Authorization": f"Bearer {key}"}, body=too_large).status == 413
    except urllib3.exceptions.HTTPError:
        # Caddy closes the connection while the rest is still being sent.
        assert isinstance(front, Caddy)
    line = json.dumps(failure(exceptions=raised_in("sailings.tides", "depth_at", message="x" * 9000))).encode()
    answer = front.ask("POST", "/reports", headers={"Authorization": f"Bearer {key}"}, body=b"\n".join([line] * 100))
    assert answer.status == 200 and answer.json()["refused"] == 0
    with socket.create_connection(("127.0.0.1", front.plain_port)) as plain:
        plain.sendall(f"GET /issues HTTP/1.1\r\nHost: {NAME}\r\nConnection: close\r\n\r\n".encode())
        said = b"".join(iter(lambda: plain.recv(2000), b"")).decode()
    assert said.startswith("HTTP/1.1 308") and re.search(rf"Location: https://{NAME}(:{front.port})?/issues\r", said)


def test_connections_are_bounded_by_address(front: Front) -> None:
    """More than a hundred requests at once from one address: the proxy says so, and the others go on."""
    if isinstance(front, Caddy):
        pytest.skip("Caddy as Debian has it bounds no connections by address: docs/serving.md says so")
    held = [
        front.ask("GET", "/api/live", headers={"Authorization": f"Bearer {front.running.token}"}, preload_content=False)
        for _ in range(3)
    ]
    statuses: list[int] = []

    def hold() -> None:
        # A body that comes slowly: the request is being read all the while.
        connection = front.pool()._get_conn()
        connection.putrequest("POST", "/reports", skip_host=True)
        connection.putheader("Host", NAME)
        connection.putheader("Content-Length", "100000")
        connection.endheaders()
        opened.append(connection)

    opened: list[Any] = []
    for _ in range(110):
        hold()

    def is_refused() -> bool:
        if front.ask("GET", "/health").status == 429:
            return True
        # What was opened first may have been given up while the others were opened.
        for connection in opened:
            with contextlib.suppress(OSError):
                connection.send(b" ")
        hold()
        return False

    until(is_refused)
    statuses.append(front.running.http.request("GET", front.running.url + "/health").status)
    assert statuses == [200]
    for connection in opened:
        connection.close()
    for stream in held:
        stream.close()
    until(lambda: front.ask("GET", "/health").status == 200)
