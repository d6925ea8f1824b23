"""The service behind nginx, set up as ``deploy/nginx.conf`` says, with TLS: what arrives, and as whose."""

from __future__ import annotations

import contextlib
import json
import socket
import subprocess
import sys
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import urllib3

from tests.conftest import Running, failure, raised_in, start, until
from tests.end_to_end.test_nothing_is_lost import free_port
from tests.service.alerting.receivers import certificate

ROOT = Path(__file__).parents[2]
NGINX = ROOT / "build/nginx/usr/sbin/nginx"
NAME = "obitus.skerry.example"
AROUND = """
daemon off; pid {folder}/nginx.pid; error_log {folder}/error.log warn; worker_processes 1;
events {{ worker_connections 512; }}
http {{
  access_log off;
  client_body_temp_path {folder}/body; proxy_temp_path {folder}/proxy;
  fastcgi_temp_path {folder}/fastcgi; uwsgi_temp_path {folder}/uwsgi; scgi_temp_path {folder}/scgi;
  include {folder}/obitus.conf;
}}
"""


class Front:
    """nginx in front of a running service."""

    def __init__(self, folder: Path, running: Running, own_port: int) -> None:
        self.folder, self.running = folder, running
        self.port, self.plain_port = free_port(), free_port()
        self.certificate = certificate(folder, names=(NAME,)).file
        text = (ROOT / "deploy/nginx.conf").read_text("utf-8")
        for there, here in (
            ("127.0.0.1:8611", f"127.0.0.1:{own_port}"),
            ("listen 443 ssl", f"listen 127.0.0.1:{self.port} ssl"),
            ("listen 80", f"listen 127.0.0.1:{self.plain_port}"),
            ("/etc/ssl/obitus/fullchain.pem", str(self.certificate)),
            ("/etc/ssl/obitus/privkey.pem", str(self.certificate)),
        ):
            assert text.count(there) >= 1, there
            text = text.replace(there, here)
        (folder / "obitus.conf").write_text(text)
        (folder / "nginx.conf").write_text(AROUND.format(folder=folder))
        self.process = subprocess.Popen(
            [str(NGINX), "-e", f"{folder}/error.log", "-p", str(folder), "-c", f"{folder}/nginx.conf"]
        )
        self.https = urllib3.HTTPSConnectionPool(
            "127.0.0.1", self.port, ca_certs=str(self.certificate), server_hostname=NAME, assert_hostname=NAME,
            retries=False, timeout=60, maxsize=4,
        )  # fmt: skip
        until(self._listens)

    def _listens(self) -> bool:
        assert self.process.poll() is None, (self.folder / "error.log").read_text("utf-8")
        with socket.socket() as one:
            return one.connect_ex(("127.0.0.1", self.port)) == 0

    def ask(
        self, method: str, path: str, *, headers: dict[str, str] | None = None, body: Any = None, **more: Any
    ) -> urllib3.BaseHTTPResponse:
        sent = body if isinstance(body, bytes) or body is None else json.dumps(body).encode()
        return self.https.request(method, path, body=sent, headers={"Host": NAME} | (headers or {}), **more)

    def close(self) -> None:
        self.https.close()
        self.process.terminate()
        self.process.wait(20)


@pytest.fixture(scope="module")
def front(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Front]:
    folder = tmp_path_factory.mktemp("front")
    port = free_port()
    service, running = start(folder / "data", port=port, public_url=f"https://{NAME}", proxies=("127.0.0.1",))
    found = Front(folder, running, port)
    yield found
    found.close()
    running.http.clear()
    service.stop()


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
    answer = front.ask("POST", "/reports", headers={"Authorization": f"Bearer {key}"}, body=b"x" * (17 * 1024 * 1024))
    assert answer.status == 413
    line = json.dumps(failure(exceptions=raised_in("sailings.tides", "depth_at", message="x" * 9000))).encode()
    answer = front.ask("POST", "/reports", headers={"Authorization": f"Bearer {key}"}, body=b"\n".join([line] * 100))
    assert answer.status == 200 and answer.json()["refused"] == 0
    with socket.create_connection(("127.0.0.1", front.plain_port)) as plain:
        plain.sendall(f"GET /issues HTTP/1.1\r\nHost: {NAME}\r\nConnection: close\r\n\r\n".encode())
        said = plain.recv(2000).decode()
    assert said.startswith("HTTP/1.1 308") and f"Location: https://{NAME}/issues" in said


def test_connections_are_bounded_by_address(front: Front) -> None:
    """More than a hundred requests at once from one address: the proxy says so, and the others go on."""
    held = [
        front.ask("GET", "/api/live", headers={"Authorization": f"Bearer {front.running.token}"}, preload_content=False)
        for _ in range(3)
    ]
    statuses: list[int] = []

    def hold() -> None:
        one = urllib3.HTTPSConnectionPool(
            "127.0.0.1",
            front.port,
            ca_certs=str(front.certificate),
            server_hostname=NAME,
            assert_hostname=NAME,
            retries=False,
            timeout=60,
        )
        # A body that comes slowly: the request is being read all the while.
        connection = one._get_conn()
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
