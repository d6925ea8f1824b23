"""``POST /reports``: what is taken, what is refused and why, and that nothing is lost or doubled."""

from __future__ import annotations

import gzip
import json
import socket
import time
import uuid
import zlib
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
import zstandard
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from obitus.service.settings import Limits
from tests.conftest import Running, failure, now_text, raised_in, start, until
from tests.service.handed_over import handed_over


def verdicts(answer: Any) -> list[tuple[str, str | None]]:
    return [(line["verdict"], line.get("slug")) for line in answer.json()["lines"]]


def test_a_report_becomes_an_issue(running: Running) -> None:
    """What was taken is there to be read, whole, as soon as the answer is."""
    key = running.add_app()
    report = failure()
    answer = running.send(key, report)
    assert answer.status == 200 and answer.json()["stored"] == 1
    number = answer.json()["lines"][0]["issue"]
    issue = running.get(f"/api/issues/{number}")
    assert issue["title"] == "TideUnavailable in sailings.tides.depth_at"
    assert issue["latest"]["id"] == issue["first"]["id"] == report["id"]
    kept = running.get(f"/api/failures/{report['id']}")["report"]
    assert kept["exceptions"] == report["exceptions"]


def test_every_kind_is_taken(running: Running) -> None:
    """Failures, logs, runs and tallies travel together."""
    key = running.add_app()
    base = {"time": now_text(), "release": "1.0.0"}
    run = {"entry_point": "job nightly-manifest", "duration_ms": 12.5, "outcome": "ok"}
    answer = running.send(
        key,
        failure(),
        base | {"kind": "log", "id": str(uuid.uuid4()), "severity": "WARN", "message": "the vehicle height is empty"},
        base | {"kind": "run", "id": str(uuid.uuid4()), "run": run},
        base | {"kind": "tally", "id": str(uuid.uuid4()), "entry_point": "GET /fare", "outcome": "ok", "runs": 40},
    )
    assert answer.json()["stored"] == 4, answer.json()


def test_the_same_report_twice_is_stored_once(running: Running) -> None:
    """Sending again is harmless, within one batch and over several."""
    key = running.add_app()
    report = failure()
    assert verdicts(running.send(key, report, report)) == [("stored", None), ("already-there", None)]
    assert verdicts(running.send(key, report)) == [("already-there", None)]
    assert running.issues()[0]["failures_in_all"] == 1


def test_the_same_id_from_two_apps_is_two_reports(running: Running) -> None:
    """Nobody can keep another app's reports out by sending their ids first."""
    report = failure()
    for name in ("sailings", "gatekeeper"):
        assert running.send(running.add_app(name), report).json()["stored"] == 1


BAD_LINES: list[tuple[str, Any, str, str | None]] = [
    ("missing id", failure(id=...), "id-missing", "id"),
    ("missing field", failure(time=...), "field-missing", "time"),
    ("wrong type", failure(handled="maybe"), "field-wrong", "handled"),
    ("number for text", failure(exceptions=[{"type": 7}]), "field-wrong", "exceptions.0.type"),
    ("no exceptions", failure(exceptions=[]), "field-wrong", "exceptions"),
    ("unknown kind", failure(kind="poem"), "kind-not-known", "kind"),
    ("time without offset", failure(time="2026-11-24T03:00:00"), "field-wrong", "time"),
    ("1970", failure(time="1970-01-01T00:00:00Z"), "time-too-old", "time"),
    ("2100", failure(time="2100-01-01T00:00:00Z"), "time-ahead", "time"),
    ("no id at all", failure(id="first"), "field-wrong", "id"),
    ("not json", b"so it goes", "not-json", None),
    ("cut json", json.dumps(failure()).encode()[:90], "line-cut-off", None),
    ("not an object", b"[1, 2]", "not-an-object", None),
    ("broken utf-8", b'{"kind": "failure \xff"}', "not-utf-8", None),
    ("raw NUL", b'{"kind": "\x00"}', "not-json", None),
    ("nested too deep", b'{"a":' * 5000 + b"1" + b"}" * 5000, "nested-too-deep", None),
    ("NaN in a number", b'{"kind": "run", "run": {"entry_point": "x", "duration_ms": NaN}}', "id-missing", "id"),
]


def test_each_bad_line_has_its_own_answer_and_the_good_ones_stay(running: Running) -> None:
    """Every kind of bad line is refused by name between two good lines, which are kept."""
    key = running.add_app()
    for said, line, slug, field in BAD_LINES:
        answer = running.send(key, failure(), line, failure())
        assert answer.status == 200, said
        assert verdicts(answer) == [("stored", None), ("refused", slug), ("stored", None)], (said, answer.json())
        refused = answer.json()["lines"][1]
        assert refused.get("field") == field and len(refused["reason"]) > 10, (said, refused)
    assert running.issues()[0]["failures_in_all"] == 2 * len(BAD_LINES)


def test_what_can_be_mended_is_taken_and_said(running: Running) -> None:
    """Unknown fields, too many frames, overlong texts and half surrogates lose no failure; the verdict says what was done."""
    key = running.add_app()
    frames = [{"function": f"f{i}", "module": "m", "surplus": i} for i in range(3)]
    long_stack = [{"type": "E", "frames": [{"function": f"f{i}"} for i in range(10_000)]}]
    surrogate = json.dumps(failure(exceptions=[{"type": "E", "message": "half \ud800 pair"}])).encode()
    answer = running.send(
        key,
        failure(colour="blue", exceptions=[{"type": "E", "frames": frames}]),
        failure(exceptions=long_stack),
        failure(exceptions=[{"type": "E" * 5000, "message": "m" * 50_000}]),
        surrogate,
    )
    assert answer.json()["stored"] == 4, answer.json()
    notes = [" ".join(line["notes"]) for line in answer.json()["lines"]]
    assert "colour" in notes[0] and "exceptions.0.frames.2.surplus" in notes[0]
    assert "exceptions.0.frames" in notes[1] and "exceptions.0.message" in notes[2] and "surrogate" in notes[3]
    kept = running.get(f"/api/failures/{answer.json()['lines'][1]['id']}")["report"]["exceptions"][0]["frames"]
    assert len(kept) == 1000 and kept[0]["function"] == "f0" and kept[-1]["function"] == "f9999"


def test_nul_in_a_string_is_shown_and_searchable(running: Running) -> None:
    """An escaped NUL is legal JSON: it is kept, and the text behind it can still be found."""
    key = running.add_app()
    running.send(key, failure(exceptions=raised_in("m", "f", message="before\0behind")))
    assert running.issues(question="behind")[0]["message"] == "before␀behind"


def test_an_overlong_line_is_skipped_as_it_streams_by(running: Running) -> None:
    """A line of ten megabytes is refused; the good lines around it are kept."""
    key = running.add_app()
    huge = json.dumps(failure(exceptions=[{"type": "E", "message": "x" * 10_000_000}])).encode()
    answer = running.send(key, failure(), huge, failure())
    assert verdicts(answer) == [("stored", None), ("refused", "line-too-long"), ("stored", None)]


@pytest.mark.parametrize("name", ["gzip", "zstd"])
def test_compressed_bodies(running: Running, name: str) -> None:
    """Both compressions are read, in several members or frames too; a wrong one is named."""
    key = running.add_app()
    pack = gzip.compress if name == "gzip" else zstandard.ZstdCompressor().compress
    one, two = (json.dumps(failure()).encode() + b"\n" for _ in range(2))
    headers = {"Content-Encoding": name}
    assert running.send(key, pack(one) + pack(two), headers=headers).json()["stored"] == 2
    broken = running.send(key, b"not compressed at all", headers=headers)
    assert (broken.status, broken.json()["slug"]) == (400, "encoding-broken")
    lines = [json.dumps(failure(exceptions=raised_in("m", f"f{i}"))).encode() + b"\n" for i in range(300)]
    first, second = pack(b"".join(lines[:100])), pack(b"".join(lines[100:]))
    cut = running.send(key, first + second[: len(second) // 2], headers=headers)
    assert (cut.status, cut.json()["slug"]) == (400, "body-cut-off")
    # Lines that came whole before the cut are kept, and the answer counts them.
    assert 100 <= cut.json()["stored"] < 300
    assert cut.json()["stored"] == running.get("/api/issues?window=14d")["issues_in_all"] - 1


@pytest.mark.parametrize("name", ["gzip", "zstd"])
def test_a_bomb_is_stopped_by_its_inflated_size(running: Running, name: str) -> None:
    """Hundreds of megabytes of nothing in a small body end at the limit, fast, and the service lives on."""
    key = running.add_app()
    if name == "gzip":
        packer = zlib.compressobj(9, wbits=31)
        body = b"".join(packer.compress(b" " * 1_000_000) for _ in range(300)) + packer.flush()
    else:
        writer = zstandard.ZstdCompressor().compressobj()
        body = b"".join(writer.compress(b" " * 1_000_000) for _ in range(300)) + writer.flush()
    assert len(body) < 4_000_000
    started = time.monotonic()
    answer = running.send(key, body, headers={"Content-Encoding": name})
    assert (answer.status, answer.json()["slug"]) == (413, "inflates-too-large")
    assert time.monotonic() - started < 20
    assert running.send(key, failure()).status == 200


def test_a_small_body_goes_to_the_writer_from_the_thread_that_prepared_it(running: Running) -> None:
    """What is small does not wait for the event loop in between; whether small or not, each body is handed over once."""
    key, small = running.add_app(), running.service.settings.limits.small_body_bytes
    threads = handed_over(running)
    few, many = [failure() for _ in range(2)], [failure(attributes={"note": "x" * 6000}) for _ in range(12)]
    plain = b"\n".join(json.dumps(one).encode() for one in many)
    body = gzip.compress(plain)
    assert len(body) < small < len(plain)
    assert running.send(key, *few).json()["stored"] == 2
    assert running.send(key, *many).json()["stored"] == 12
    packed = running.send(key, body, headers={"Content-Encoding": "gzip"}).json()
    assert (packed["stored"], packed["already_there"]) == (0, 12)
    assert threads == ["obitus-bodies", threads[1], threads[1]] and threads[1] != "obitus-bodies"


def test_bounds_of_a_body(tmp_path: Path) -> None:
    """Too large, too many lines, too slow: each has its own answer, and whole lines before the bound are kept."""
    limits = Limits(body_bytes=20_000, lines=5, line_bytes=5_000, body_seconds=0.5)
    thread, running = start(tmp_path / "data", limits=limits)
    try:
        key = running.add_app()
        answer = running.send(key, *(failure() for _ in range(6)))
        assert (answer.status, answer.json()["slug"]) == (413, "body-too-large")
        assert answer.json()["stored"] == 5 and "Retry" not in str(answer.headers)
        answer = running.send(key, b"x" * 30_000)
        assert (answer.status, answer.json()["slug"]) == (413, "body-too-large")
        with socket.create_connection(("127.0.0.1", running.service.settings.port)) as slow:
            line = json.dumps(failure()).encode() + b"\n"
            head = f"POST /reports HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer {key}\r\nContent-Length: 9999\r\n\r\n"
            slow.sendall(head.encode() + line)
            slow.settimeout(150)
            # Head and body may come apart.
            said = b"".join(iter(lambda: slow.recv(4000), b"")).decode()
        assert " 408 " in said and "body-too-slow" in said
        assert running.issues()[0]["failures_in_all"] == 6
    finally:
        thread.stop()


def test_a_body_that_stops_half_way_keeps_its_whole_lines(running: Running) -> None:
    """A sender that dies in the middle of a body loses only what did not arrive."""
    key = running.add_app()
    line = json.dumps(failure()).encode() + b"\n"
    with socket.create_connection(("127.0.0.1", running.service.settings.port)) as dying:
        head = (
            f"POST /reports HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer {key}\r\nContent-Length: 9999\r\n\r\n"
        )
        dying.sendall(head.encode() + line + line[:40])
        # What the service has not read of it dies with the connection.
        until(lambda: running.service.intake.gate.bytes >= len(line) + 40)
    until(running.issues)
    assert running.issues()[0]["failures_in_all"] == 1


def test_too_many_at_once_is_answered_429(running: Running) -> None:
    """Over the bounds of what is in flight the answer is 429 with Retry-After; what one key may not have is kept for others."""
    key, other = running.add_app(), running.add_app("gatekeeper")
    limits = running.service.settings.limits
    port = int(running.url.rpartition(":")[2])
    head = f"POST /reports HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer {key}\r\nContent-Length: 100\r\n\r\nx"
    slow = [socket.create_connection(("127.0.0.1", port)) for _ in range(limits.in_flight_requests_of_a_key)]
    try:
        for one in slow:
            one.sendall(head.encode())
        until(lambda: running.service.intake.gate.requests == len(slow))
        answer = running.send(key, failure())
        assert (answer.status, answer.json()["slug"], answer.headers["Retry-After"]) == (429, "too-busy", "1")
        assert running.send(other, failure()).status == 200
    finally:
        for one in slow:
            one.close()
    until(lambda: running.service.intake.gate.requests == 0)
    assert running.send(key, failure()).status == 200
    assert running.service.intake.gate.bytes == 0


def test_keys(running: Running) -> None:
    """No key, a wrong one, a revoked one, a token in its place: each is kept apart."""
    key = running.add_app()
    found = running.get("/api/apps/sailings")["keys"][0]["id"]
    cases = [
        ("", 401, "no-key"),
        ("Bearer okey_wrong", 401, "unknown-key"),
        (f"Bearer {running.token}", 403, "not-a-reporting-key"),
    ]
    for value, status, slug in cases:
        answer = running.send(key, failure(), headers={"Authorization": value})
        assert (answer.status, answer.json()["slug"]) == (status, slug)
    assert running.ask("DELETE", f"/api/apps/sailings/keys/{found}").status == 200
    answer = running.send(key, failure())
    assert (answer.status, answer.json()["slug"]) == (401, "revoked-key")
    assert running.get("/api/apps/sailings")["last_refusal"]["slug"] == "revoked-key"
    for path in ("/api/issues", "/api/apps", "/api/me"):
        answer = running.ask("GET", path, token=key)
        assert (answer.status, answer.json()["slug"]) == (403, "reporting-key-cannot-read")


def test_what_is_not_spoken(running: Running) -> None:
    """Another compression or content type is answered 415."""
    key = running.add_app()
    assert running.send(key, b"x", headers={"Content-Encoding": "br"}).json()["slug"] == "encoding-not-supported"
    assert running.send(key, b"x", headers={"Content-Type": "image/png"}).json()["slug"] == "content-not-supported"


def test_all_refused_is_an_error_with_its_verdicts(running: Running) -> None:
    """A batch of which nothing could be taken is a 422, so that a sender that reads only the status remarks."""
    answer = running.send(running.add_app(), b"{}", b"nope")
    assert answer.status == 422 and answer.headers["Content-Type"] == "application/problem+json"
    assert answer.json()["slug"] == "all-refused" and answer.json()["refused"] == 2
    assert running.send(running.add_app("empty"), b"").json() == {
        "stored": 0,
        "already_there": 0,
        "refused": 0,
        "lines": [],
    }


def test_a_wrong_clock_is_corrected_when_it_is_said(running: Running) -> None:
    """With the sender's own time in the request, a clock that is years off still gives the right time."""
    key = running.add_app()
    wrong = datetime(2001, 1, 1, tzinfo=UTC)
    happened = wrong - timedelta(minutes=5)
    answer = running.send(key, failure(time=happened.isoformat()), headers={"Obitus-Clock": wrong.isoformat()})
    assert answer.json()["stored"] == 1 and "clock" in answer.json()["lines"][0]["notes"][0]
    seen = datetime.fromisoformat(running.issues()[0]["last_seen"])
    assert abs((datetime.now(UTC) - timedelta(minutes=5) - seen).total_seconds()) < 10
    ahead = failure(time=(datetime.now(UTC) + timedelta(hours=3)).isoformat(), exceptions=raised_in("m", "f"))
    assert "in the future" in running.send(key, ahead).json()["lines"][0]["notes"][0]


def test_secrets_are_hidden_again_in_the_service(running: Running) -> None:
    """A sender that redacts nothing puts no secret into the records."""
    key = running.add_app()
    secret = "hunter2-3f9a77"
    chain = raised_in("m", "f", message=f"login with password={secret}")
    chain[0]["frames"][0]["locals"] = {"password": secret, "n": "1"}
    running.send(
        key,
        failure(
            exceptions=chain,
            attributes={"api_key": secret},
            request={"method": "GET", "url": f"https://x/?token={secret}", "headers": [["Cookie", secret]]},
            trail=[{"kind": "log", "time": now_text(), "message": f"token: {secret}", "data": {"secret": secret}}],
        ),
    )
    issue = running.get(f"/api/issues/{running.issues()[0]['number']}")
    assert secret not in json.dumps(issue) and "[hidden: password]" in json.dumps(issue)
    running.service.records.writer.close()
    files = [path for path in running.service.settings.data.rglob("*") if path.is_file()]
    assert len(files) >= 2 and all(secret.encode() not in path.read_bytes() for path in files)


def test_schema_describes_what_is_taken(running: Running) -> None:
    """The served JSON Schema accepts a report that is taken and refuses one that is not."""
    import jsonschema_rs

    schema = running.http.request("GET", running.url + "/reports/schema").json()
    validator = jsonschema_rs.Draft202012Validator(schema)
    assert validator.is_valid(failure()) and not validator.is_valid(failure(kind="poem"))
    assert not validator.is_valid(failure(handled="maybe"))


JSONISH = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**70), 2**70) | st.floats() | st.text(max_size=12),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=8), inner, max_size=4),
    max_leaves=12,
)
FIELDS = st.sampled_from(["id", "time", "kind", "exceptions", "trail", "run", "request", "attributes", "trace_id", "severity", "handled", "x"])  # fmt: skip


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=150)
@given(st.lists(st.dictionaries(FIELDS, JSONISH, max_size=4) | st.binary(max_size=60), min_size=1, max_size=8))
def test_no_line_breaks_the_endpoint(running: Running, lines: list[Any]) -> None:
    """Whatever stands in a batch, each line gets a verdict and a good line beside it is kept."""
    key = running.ask("POST", "/api/apps/sailings/keys", {}).json().get("key") or running.add_app()
    good = failure()
    sent = [
        line.replace(b"\n", b" ") if isinstance(line, bytes) else json.dumps(failure() | line).encode()
        for line in lines
    ]
    answer = running.send(key, *sent, good)
    assert answer.status == 200, answer.data
    last = answer.json()["lines"][-1]
    assert last["id"] == good["id"] and last["verdict"] == "stored"
    for line in answer.json()["lines"]:
        assert line["verdict"] != "refused" or (line["slug"] not in ("fault", "store-broken") and line["reason"])
