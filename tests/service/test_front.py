"""What strangers and slow or greedy senders meet in front of every route, over real sockets."""

from __future__ import annotations

import gc
import gzip
import json
import socket
import struct
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import ClassVar

import pytest
import zstandard

from obitus.service.connections import GuardedProtocol
from obitus.service.guard import HEADERS
from obitus.service.intake.inflating import split
from obitus.service.refusal_delays import WAIT_S
from obitus.service.settings import Limits
from tests.conftest import Running, failure, serving, start, until

QUICK = replace(
    Limits(), head_seconds=0.5, body_idle_seconds=0.5, body_seconds=1.5, connections=24, in_flight_requests_of_a_key=8
)


@pytest.fixture
def quick(tmp_path: Path) -> Iterator[Running]:
    """A service with short patience and room for few."""
    thread, found = start(tmp_path / "quick", limits=QUICK)
    yield found
    found.http.clear()
    thread.stop()


@pytest.fixture(autouse=True)
def _all_closed() -> Iterator[None]:
    yield
    while Raw.opened:
        Raw.opened.pop().close()


class Raw:
    """A connection that says exactly what it is told to."""

    opened: ClassVar[list[Raw]] = []

    def __init__(self, running: Running) -> None:
        self.opened.append(self)
        self.socket = socket.create_connection(("127.0.0.1", int(running.url.rpartition(":")[2])), timeout=60)

    def say(self, data: bytes) -> bool:
        """Send; return whether it still went out."""
        try:
            self.socket.sendall(data)
        except OSError:
            return False
        return True

    def until(self, said: bytes) -> None:
        """Read until something was said, which may come in pieces."""
        data = b""
        while said not in data:
            piece = self.socket.recv(65536)
            assert piece, data
            data += piece

    def answer(self) -> tuple[int, dict[str, str], bytes]:
        """Return status, headers and body of everything until the service closes; status 0 when it only closes."""
        data = b""
        try:
            while piece := self.socket.recv(65536):
                data += piece
        except ConnectionError:
            pass
        if not data:
            return 0, {}, b""
        head, _, body = data.partition(b"\r\n\r\n")
        first, *lines = head.decode("latin-1").split("\r\n")
        headers = {name.strip().lower(): value.strip() for name, _, value in (line.partition(":") for line in lines)}
        return int(first.split()[1]), headers, body

    def close(self) -> None:
        self.socket.close()


def refused(raw: Raw, status: int, slug: str) -> None:
    """Check an answer: its slug, the strict headers, and that the connection is closed behind it."""
    got, headers, body = raw.answer()
    assert (got, json.loads(body)["slug"]) == (status, slug)
    assert headers["content-type"] == "application/problem+json" and headers["connection"] == "close"
    assert all(headers[name.lower()] == value for name, value in HEADERS.items())
    raw.close()


BIG = b"POST %s HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\n%s\r\n"


@pytest.mark.parametrize("path", [b"/api/sign-in", b"/api/apps", b"/api/me/password"])
@pytest.mark.parametrize("announced", [True, False])
def test_no_body_without_bound(running: Running, path: bytes, announced: bool) -> None:
    """A large body is refused after as much as its route takes, before it is known who sends it for none but signing in."""
    raw = Raw(running)
    if announced:
        raw.say(BIG % (path, b"Content-Length: 100000000\r\n"))
        raw.say(b"x" * 65536)
    else:
        raw.say(BIG % (path, b"Transfer-Encoding: chunked\r\n"))
        sent = 0
        while sent < 64 * 1024 * 1024 and raw.say(b"10000\r\n" + b"x" * 65536 + b"\r\n"):
            sent += 65536
        # The answer comes long before that, and the connection does not swallow the rest.
        assert sent < 8 * 1024 * 1024
    expected = (413, "body-too-large") if announced or path == b"/api/sign-in" else (401, "not-signed-in")
    refused(raw, *expected)


def test_a_large_body_of_somebody_known(running: Running) -> None:
    """A person's body is bounded too; small ones pass whole, also in chunks."""
    answer = running.ask("POST", "/api/apps", {"name": "x" * 300_000})
    assert (answer.status, answer.json()["slug"]) == (413, "body-too-large")
    raw = Raw(running)
    head = f"Authorization: Bearer {running.token}\r\nTransfer-Encoding: chunked\r\nConnection: close\r\n".encode()
    raw.say(
        BIG % (b"/api/apps", head) + b"10\r\n" + b'{"name": "gate-1' + b"\r\n" + b"2\r\n" + b'"}' + b"\r\n0\r\n\r\n"
    )
    assert raw.answer()[0] == 201


def test_a_refused_upload_is_cut_off(running: Running) -> None:
    """What a reporting sender goes on sending after 413 is not swallowed without end."""
    key = running.add_app()
    raw = Raw(running)
    raw.say(BIG % (b"/reports", f"Authorization: Bearer {key}\r\nTransfer-Encoding: chunked\r\n".encode()))
    sent = 0
    while sent < 128 * 1024 * 1024 and raw.say(b"10000\r\n" + b"x" * 65536 + b"\r\n"):
        sent += 65536
    assert sent < 40 * 1024 * 1024


def test_heads_that_are_too_large_again_and_again(tmp_path: Path) -> None:
    """The answers come late; of one who goes away before it comes, nothing is held for longer."""
    with serving(tmp_path, replace(Limits(), refusals_at_once=2, refusals_a_second=0.001)) as running:
        head = b"GET /health HTTP/1.1\r\nHost: 127.0.0.1\r\nX: " + b"a" * 200_000
        patience = running.service.patience
        for number in range(4):
            raw, started = Raw(running), time.monotonic()
            raw.say(head)
            refused(raw, 431, "head-too-large")
            assert number < 2 or time.monotonic() - started >= WAIT_S * 0.9
            assert patience.held_back == 0
        gone = Raw(running)
        gone.say(head)
        gone.close()
        until(lambda: patience.held_back == 0)
        assert running.get("/health")["live"] is True


@pytest.mark.parametrize(
    "head",
    [
        b"GET /health HTTP/1.1\r\nHost: 127.0.0.1\r\nX: " + b"a" * 200_000,
        b"GET /health HTTP/1.1\r\nHost: 127.0.0.1\r\n" + b"X: 1\r\n" * 200 + b"\r\n",
        b"GET /health HTTP/1.1\r\nHost: 127.0.0.1\r\n" + b"X-Berth: " + b"b" * 40_000 + b"\r\n\r\n",
        b"GET /" + b"h" * 60_000 + b" HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n",
        b"GET /" + b"h" * 300_000,
    ],
    ids=["no end", "many lines", "a long line", "a long address", "an address without end"],
)
def test_heads_are_bounded(running: Running, head: bytes) -> None:
    raw = Raw(running)
    raw.say(head)
    refused(raw, 431, "head-too-large")


def test_what_is_no_http(running: Running) -> None:
    raw = Raw(running)
    raw.say(b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03\r\n\r\n")
    refused(raw, 400, "bad-request")


def test_two_hosts(running: Running) -> None:
    """Nobody may be asked under two names at once, nor come from an origin that only looks like ours."""
    raw = Raw(running)
    raw.say(b"GET /health HTTP/1.1\r\nHost: 127.0.0.1\r\nHost: evil.example\r\nConnection: close\r\n\r\n")
    status, _, body = raw.answer()
    assert (status, json.loads(body)["slug"]) == (421, "unknown-host")
    host = running.url.removeprefix("http://")
    session = running.service.passes.add("session", 1, "browser", 60_000)
    for origin in (f"http://evil.example://{host}", f"null://{host}", f"http://{host}.evil.example"):
        headers = {"Cookie": f"obitus_session={session}", "Origin": origin}
        answer = running.http.request("POST", running.url + "/api/apps", headers=headers, json={"name": "x"})
        assert (answer.status, answer.json()["slug"]) == (403, "foreign-origin"), origin
    headers = {"Cookie": f"obitus_session={session}", "Origin": f"http://{host}"}
    assert running.http.request("POST", running.url + "/api/apps", headers=headers, json={"name": "x"}).status == 201


# Made when they are needed: each of the processes that run tests collects all of them.
BOMBS = {
    "newlines, zstd": (lambda: zstandard.compress(b"\n" * (32 * 1024 * 1024)), "zstd"),
    "newlines, gzip": (lambda: gzip.compress(b"\n" * (32 * 1024 * 1024)), "gzip"),
    "newlines, plain": (lambda: b"\n" * (15 * 1024 * 1024), "identity"),
    "zeros, gzip": (lambda: gzip.compress(bytes(200 * 1024 * 1024), 9), "gzip"),
    "empty frames": (lambda: zstandard.compress(b"") * 1_200_000, "zstd"),
    "empty members": (lambda: gzip.compress(b"") * 700_000, "gzip"),
    "one-byte members": (lambda: gzip.compress(b"\n") * 700_000, "gzip"),
    "blanks": (lambda: zstandard.compress(b"  \t\n" * (8 * 1024 * 1024)), "zstd"),
}


@pytest.mark.parametrize("path", ["/reports", "/v1/logs"])
@pytest.mark.parametrize("bomb", BOMBS)
def test_bodies_of_nothing_cost_nothing(running: Running, path: str, bomb: str) -> None:
    """What inflates to millions of empty lines, or is made of empty parts, is refused for a fraction of a second's work."""
    key = running.add_app()
    make, encoding = BOMBS[bomb]
    body = make()
    headers = {"Authorization": f"Bearer {key}", "Content-Encoding": encoding, "Content-Type": "application/json"}
    started = time.process_time()
    answer = running.http.request("POST", running.url + path, body=body, headers=headers)
    took = time.process_time() - started
    # Plain blanks are valid JSON of nothing for OTLP's readers, in proportion to what was sent.
    assert answer.status in (413, 400), answer.data[:200]
    # It took 103 s at worst: this is no measurement, but whether the work is bounded at all.
    assert took < 30
    assert running.service.intake.gate.bytes == 0


def test_many_members_are_read_whole(running: Running) -> None:
    """Bodies appended to one another, as log shippers do, are one body."""
    key = running.add_app()
    reports = [json.dumps(failure()).encode() + b"\n" for _ in range(200)]
    for encoding, compress in (("gzip", gzip.compress), ("zstd", zstandard.compress)):
        answer = running.send(key, b"".join(map(compress, reports)), headers={"Content-Encoding": encoding})
        assert answer.json()["stored"] + answer.json()["already_there"] == 200


def test_slow_heads_and_idle_connections(quick: Running) -> None:
    """Half a head is answered and closed in time; a connection that asks nothing is closed; so is one between requests."""
    half, silent, kept = Raw(quick), Raw(quick), Raw(quick)
    half.say(b"GET /health HTTP/1.1\r\nHost: 127")
    kept.say(b"GET /health HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n")
    kept.until(b'"live":true')
    kept.say(b"GET /hea")
    refused(half, 408, "head-too-slow")
    assert silent.answer()[0] == 0
    assert b"head-too-slow" in kept.answer()[2]


def test_slow_bodies(quick: Running) -> None:
    """A sender that pauses is answered 408, and so is one that sends a byte now and then; what came whole is kept."""
    key = quick.add_app()
    head = f"Authorization: Bearer {key}\r\nContent-Length: 100000\r\n".encode()
    pausing, dripping = Raw(quick), Raw(quick)
    pausing.say(BIG % (b"/reports", head) + json.dumps(failure()).encode() + b"\n{")
    dripping.say(BIG % (b"/reports", head))
    ends = time.monotonic() + 10
    while time.monotonic() < ends and dripping.say(b"\n"):
        time.sleep(0.1)
    status, _, body = pausing.answer()
    assert status == 408 and json.loads(body)["slug"] == "body-too-slow" and json.loads(body)["stored"] == 1
    assert dripping.answer()[0] in (408, 0)
    until(lambda: quick.service.intake.gate.requests == 0)
    person = Raw(quick)
    person.say(BIG % (b"/api/apps", f"Authorization: Bearer {quick.token}\r\nContent-Length: 50\r\n".encode()) + b"{")
    refused(person, 408, "body-too-slow")


def test_idle_connections_shut_nobody_out(quick: Running) -> None:
    """However many connections ask nothing, who asks something is answered: the longest idle one makes room."""
    key = quick.add_app()
    quick.http.clear()
    idle = [Raw(quick) for _ in range(200)]
    try:
        assert quick.send(key, failure()).json()["stored"] == 1
        assert quick.get("/health")["ready"]
    finally:
        for one in idle:
            one.close()


def test_a_connection_is_used_again(running: Running) -> None:
    """Requests follow one another on one connection, also behind an answered body."""
    raw = Raw(running)
    for _ in range(3):
        raw.say(BIG % (b"/api/sign-in", b"Content-Length: 2\r\n") + b"{}")
        raw.until(b"sign-in-failed")
    raw.say(b"GET /health HTTP/1.1\r\nHost: 127.0.0.1\r\nConnection: close\r\n\r\n")
    assert raw.answer()[0] == 200


def test_every_answer_has_strict_headers(running: Running) -> None:
    """Also those that nobody meant to give: errors bear a number that the log has too."""
    paths = ("/", "/nowhere", "/api/nowhere", "/api/me", "/assets/" + "a" * 5000, "/client/x", "/health", "/api/openapi.json", "/%ff%00")  # fmt: skip
    for path in paths:
        for method in ("GET", "POST", "HEAD", "OPTIONS", "BREW"):
            answer = running.http.request(method, running.url + path)
            assert all(answer.headers.get(name) == value for name, value in HEADERS.items()), (method, path)
            assert answer.status < 500, (method, path, answer.data)


def test_errors_bear_a_number(
    running: Running, caplog: pytest.LogCaptureFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    def breaks(*_: object, **__: object) -> None:
        raise RuntimeError("no such thing was foreseen")

    monkeypatch.setattr("obitus.service.api.views.newest_first", breaks)
    answer = running.ask("GET", "/api/apps")
    problem = answer.json()
    assert (answer.status, problem["slug"]) == (500, "fault") and "foreseen" not in problem["detail"]
    assert problem["number"] in problem["detail"] and problem["number"] in caplog.text
    assert answer.headers["Content-Security-Policy"]


def test_a_body_that_ended_early_goes_at_once() -> None:
    """What it was refused for does not hold on to its bytes: nobody has to look for circles to get the memory back."""
    gc.collect()
    gc.disable()
    try:
        for encoding, raw in (
            ("zstd", zstandard.compress(b"") * 3000),
            ("gzip", gzip.compress(b"x" * 99)[:-1]),
            ("", b"\n" * 200_000),
        ):
            body = split([raw], encoding, Limits())
            assert body.problem is not None
            del body
            assert gc.collect() == 0, encoding
    finally:
        gc.enable()


def _reset(raw: Raw) -> None:
    """Cut a connection off: what is still to be read is refused with a reset."""
    raw.socket.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
    raw.close()


def test_a_connection_that_is_gone_takes_its_memory_with_it(running: Running) -> None:
    """Whatever became of it: answered, left open and cut off, refused, cut off in the middle. Circles are looked for once in ten minutes."""
    key = running.add_app()
    body = json.dumps(failure()).encode()
    head = f"POST /reports HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer {key}\r\nContent-Type: application/x-ndjson\r\n"
    whole = f"{head}Content-Length: {len(body)}\r\n\r\n".encode() + body
    kinds: list[tuple[bytes, bool]] = [
        (b"GET /health HTTP/1.1\r\nHost: 127.0.0.1\r\nConnection: close\r\n\r\n", True),
        (b"GET /health HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n", False),
        (whole, False),
        (b"GET / HTTP/1.1\r\nHost: 127.0.0.1\r\nX: " + b"x" * 100_000, True),
        (b"\x16\x03\x01 nothing of the kind\r\n\r\n", True),
        (b"POST /reports HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 10\r\n\r\nabc", True),
        (f"{head}Content-Length: 1000\r\n\r\nabc".encode(), False),
        (b"GET /hea", False),
    ]

    def left() -> int:
        return sum(1 for one in gc.get_objects() if isinstance(one, GuardedProtocol))

    running.http.clear()
    gc.collect()
    before = left()
    gc.disable()
    try:
        for said, ends_itself in kinds * 5:
            raw = Raw(running)
            raw.say(said)
            if ends_itself:
                raw.answer()
                raw.close()
            else:
                if said.endswith((b"\r\n\r\n", body)):
                    raw.socket.recv(100)
                _reset(raw)
        until(lambda: left() <= before)
    finally:
        gc.enable()
