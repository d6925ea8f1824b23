"""Passing on: each target gets every record that it wants, in order, once as far as it acknowledged, in a format that others read."""

from __future__ import annotations

import gzip
import json
import re
import socket
import ssl
import threading
import time
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from obitus.core.clock import DAY_MS, to_text
from obitus.service.outward.allowed import AllowedFile
from obitus.service.outward.appending import append
from obitus.service.passing.base import PassingTrouble, Taken
from obitus.service.passing.files import FileTaker
from obitus.service.passing.passing import Given, give
from obitus.store import events
from tests.conftest import Running, failure, raised_in, start, until
from tests.service.alerting.helpers import allow, rule, settle
from tests.service.alerting.receivers import Receiver, certificate, receiving
from tests.service.test_now import failed
from tests.service.test_records import log, run


@pytest.fixture
def receiver() -> Iterator[Receiver]:
    """Where records go."""
    with receiving() as found:
        yield found


def target(running: Running, kind: str, name: str = "depot", **order: Any) -> dict[str, Any]:
    answer = running.ask("POST", "/api/targets", {"name": name, "kind": kind} | order)
    assert answer.status == 201, answer.data
    found: dict[str, Any] = answer.json()
    return found


def state(running: Running, name: str = "depot") -> dict[str, Any]:
    return next(one for one in running.get("/api/targets")["targets"] if one["name"] == name)


def passed_on(running: Running, name: str = "depot") -> None:
    """Wait until a target has all there is."""
    until(lambda: state(running, name)["lag"] == 0 and not state(running, name)["trouble"])


def lines_of(folder: Path) -> list[dict[str, Any]]:
    found = []
    for path in sorted(folder.glob("records-*.gz")):
        found += gzip.decompress(path.read_bytes()).splitlines()
    whole = folder / "records.ndjson"
    return [json.loads(line) for line in [*found, *(whole.read_bytes().splitlines() if whole.exists() else ())]]


def test_a_file_gets_everything_in_order(running: Running, tmp_path: Path) -> None:
    """Failures with their stack and issue, logs, runs, issue changes and alerts; nothing from before, nothing twice."""
    key = running.add_app()
    running.send(key, failure(exceptions=raised_in("before", "act")))
    allow(running, folders=[str(tmp_path)])
    target(running, "file", settings={"path": str(tmp_path / "records.ndjson")})
    running.ask("POST", "/api/channels", {"name": "screen", "kind": "console"})
    rule(running, "new issue", to=["screen"])
    running.send(key, failure(), log("berth 4 is free"), run(), failure(message="again"))
    settle(running)
    passed_on(running)
    until(lambda: len(lines_of(tmp_path)) >= 6)
    found = lines_of(tmp_path)
    assert sorted(one["kind"] for one in found) == ["alert", "failure", "failure", "issue", "log", "run"]
    stored = [one for one in found if "number" in one]
    assert [one["number"] for one in stored] == sorted(one["number"] for one in stored)
    first = next(one for one in found if one["kind"] == "failure")
    assert first["exceptions"][0]["frames"] and (first["app"], first["environment"], first["issue"]) == (
        "sailings",
        "production",
        2,
    )
    issue = next(one for one in found if one["kind"] == "issue")
    assert (issue["change"], issue["issue"], issue["link"]) == ("new", 2, f"{running.service.settings.url}/issues/2")
    assert len({one["id"] for one in found}) == 6


def test_only_what_is_asked_for_with_more_hidden(running: Running, tmp_path: Path) -> None:
    """By kind and by question; the target's own redaction rules hold beside the others."""
    key = running.add_app()
    allow(running, folders=[str(tmp_path)])
    target(
        running, "file", settings={"path": str(tmp_path / "records.ndjson")}, passes=["log"], question="severity>=WARN vessel",
        hides=["name vessel.name", "pattern SK-[0-9]{4} as sailing"],
    )  # fmt: skip
    running.send(
        key, log("vessel SK-4305 late", severity="WARN", attributes={"vessel.name": "Hild"}), log("vessel SK-1 late"), log("late", severity="WARN"), failure(),
    )  # fmt: skip
    passed_on(running)
    (found,) = lines_of(tmp_path)
    assert "SK-4305" not in json.dumps(found) and "Hild" not in json.dumps(found) and "vessel" in found["message"]
    for order in (
        {"question": "severity>=LOUD"}, {"hides": ["pattern ("]}, {"passes": ["tally"]}, {"passes": []}, {"settings": {"path": "records"}},
        {"settings": {"path": "/x", "roll_mb": 0}}, {"name": "A b"},
    ):  # fmt: skip
        answer = running.ask(
            "POST", "/api/targets", {"name": "odd", "kind": "file", "settings": {"path": "/x"}} | order
        )
        assert answer.status == 422, order


def test_files_are_rolled_compressed_and_removed(tmp_path: Path) -> None:
    """By size and by time; a kill between rolling and compressing leaves nothing behind; the oldest go first."""
    allowed = AllowedFile(tmp_path)
    allowed.path.write_text(f"folders = [{str(tmp_path / 'out')!r}]\n")
    allowed.path.chmod(0o600)
    folder = tmp_path / "out"
    folder.mkdir()
    clock = [1_800_000_000.0]
    taker = FileTaker(
        {"path": str(folder / "records.ndjson"), "roll_mb": 1, "roll_hours": 1, "files": 3}, allowed, lambda: clock[0]
    )
    sent = 0

    def give(count: int) -> None:
        nonlocal sent
        for _ in range(count):
            taker.take(
                [
                    {"id": number, "text": "x" * 1000, "passed": to_text(int(clock[0] * 1000))}
                    for number in range(sent, sent + 300)
                ]
            )
            sent += 300

    give(5)
    assert len(list(folder.glob("records-*.ndjson.gz"))) == 1, "a full one is compressed when the next batch comes"
    clock[0] += 3601
    give(1)
    assert len(list(folder.glob("records-*.ndjson.gz"))) == 2, "so is an old one"
    assert [one["id"] for one in lines_of(folder)] == list(range(sent))
    (folder / "records-20260101T000000Z.ndjson").write_text('{"id": -1}\n')
    others = [folder / "records-issues.ndjson", folder / "records-2025.ndjson.gz"]
    for other in others:
        other.write_text("of another target, or of somebody else\n")
    give(1)
    assert not (folder / "records-20260101T000000Z.ndjson").exists()
    for _ in range(4):
        clock[0] += 3601
        give(1)
    for other in others:
        assert other.read_text() == "of another target, or of somebody else\n"
        other.unlink()
    assert len(list(folder.glob("records-*.ndjson.gz"))) == 3
    assert [one["id"] for one in lines_of(folder)][-1] == sent - 1


def test_half_a_line_spoils_no_other(tmp_path: Path) -> None:
    """What the machine left of a batch when it went down stands alone; the batch is passed on again, and can be read."""
    allowed = AllowedFile(tmp_path)
    allowed.path.write_text(f"folders = [{str(tmp_path)!r}]\n")
    allowed.path.chmod(0o600)
    path = tmp_path / "records.ndjson"
    taker = FileTaker({"path": str(path)}, allowed)
    taker.take([{"id": 1}])
    taker.take([{"id": 2}])
    with path.open("ab") as file:
        file.write(b'{"id": 3, "te')
    taker.take([{"id": 3, "text": "tide"}])
    taker.take([{"id": 4}])
    assert path.read_text().splitlines() == [
        '{"id": 1}',
        '{"id": 2}',
        '{"id": 3, "te',
        '{"id": 3, "text": "tide"}',
        '{"id": 4}',
    ]


def test_a_disk_that_is_full_in_the_middle_of_a_line(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Nothing of what could not be written whole is left; the next lines stand where they should."""
    path = tmp_path / "alerts.ndjson"
    append(path, b'{"id": 1}\n')

    def full(_: int) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("obitus.service.outward.appending.os.fsync", full)
    with pytest.raises(OSError, match="No space left"):
        append(path, b'{"id": 2}\n')
    monkeypatch.undo()
    append(path, b'{"id": 3}\n')
    assert path.read_bytes() == b'{"id": 1}\n{"id": 3}\n' and path.stat().st_mode & 0o777 == 0o600


class Collected:
    """A syslog server on loopback, and what it got."""

    def __init__(self) -> None:
        self.port = 0
        self.data = b""

    @property
    def messages(self) -> list[str]:
        """What came, by the count of bytes before each."""
        rest, found = self.data, []
        while match := re.match(rb"(\d+) ", rest):
            length = int(match[1])
            body = rest[match.end() : match.end() + length]
            if len(body) < length:
                break
            found.append(body.decode())
            rest = rest[match.end() + length :]
        return found


@contextmanager
def syslog_server(context: ssl.SSLContext | None = None, *, udp: bool = False) -> Iterator[Collected]:
    """Take whatever comes."""
    found = Collected()
    opened = socket.socket(socket.AF_INET, socket.SOCK_DGRAM if udp else socket.SOCK_STREAM)
    opened.bind(("127.0.0.1", 0))
    opened.settimeout(0.05)
    found.port = opened.getsockname()[1]
    over = threading.Event()

    def take(connection: socket.socket) -> None:
        with connection:
            connection.settimeout(0.05)
            while not over.is_set():
                try:
                    piece = connection.recv(65536)
                except TimeoutError:
                    continue
                except OSError:
                    return
                if not piece:
                    return
                found.data += piece

    def serve() -> None:
        threads = []
        if not udp:
            opened.listen()
        while not over.is_set():
            try:
                if udp:
                    datagram = opened.recv(65536)
                    found.data += b"%d %s" % (len(datagram), datagram)
                    continue
                connection, _ = opened.accept()
                if context is not None:
                    connection = context.wrap_socket(connection, server_side=True)
            except (TimeoutError, OSError):
                continue
            threads.append(threading.Thread(target=take, args=(connection,)))
            threads[-1].start()
        for thread in threads:
            thread.join()

    thread = threading.Thread(target=serve)
    thread.start()
    try:
        yield found
    finally:
        over.set()
        thread.join()
        opened.close()


_SYSLOG = re.compile(r"<(\d+)>1 (\S+) (\S+) (\S+) (\S+) (\S+) \[obitus@32473 (.*?[^\\])\] \ufeff(.*)", re.DOTALL)


@pytest.mark.parametrize("by", ["udp", "tcp", "tls"])
def test_syslog_is_as_its_standard_has_it(running: Running, tmp_path: Path, by: str) -> None:
    """Priority, time, host, app and structured data; framed by the count of bytes; what was reported cannot break out of it."""
    key = running.add_app()
    keys = certificate(tmp_path / "keys")
    running.service.passing.asker.tls = keys.trusting
    with syslog_server(keys.serving if by == "tls" else None, udp=by == "udp") as server:
        target(
            running,
            "syslog",
            settings={"host": "localhost" if by == "tls" else "127.0.0.1", "port": server.port, "by": by},
            passes=["log", "failure"],
        )
        running.send(
            key,
            log('late] "x"\n<0>1 fake', severity="ERROR", attributes={"host.name": "pier 9"}),
            failure(exceptions=raised_in("tides", "low", "TideLow", "no depth")),
        )
        until(lambda: len(server.messages) == 2)
    late, low = (_SYSLOG.fullmatch(one) for one in server.messages)
    assert late is not None and low is not None
    assert (late[1], late[3], late[4], late[6]) == (str(16 * 8 + 3), "pier_9", "sailings", "log")
    assert late[8] == 'late] "x" <0>1 fake' and 'app="sailings"' in late[7]
    assert low[8] == "TideLow: no depth" and "issue" not in low[8]
    # It is known as passed on a moment after it has arrived.
    until(lambda: state(running)["passed"] == 2)


def test_another_collector_reads_what_it_gets(running: Running, tmp_path: Path) -> None:
    """A second service of ours takes the export as OTLP: failures with type, message and stack, logs, runs with their trace."""
    thread, other = start(tmp_path / "other")
    try:
        key, theirs = running.add_app(), other.add_app("sailings", "production")
        made = target(
            running,
            "otlp",
            settings={"url": other.url},
            secrets={"headers": {"Authorization": f"Bearer {theirs}"}},
            passes=["failure", "log", "run"],
        )
        assert made["has_secrets"] and theirs not in json.dumps(running.get("/api/targets"))
        running.send(
            key, failure(exceptions=raised_in("tides", "low", "TideLow", "no depth"), trace_id="ab" * 16), log("berth 4 is free", attributes={"berth": 4}),
            run(run={"entry_point": "POST /boardings", "outcome": "failed", "duration_ms": 12.5}, trace_id="cd" * 16, span_id="ef" * 8),
        )  # fmt: skip
        passed_on(running)
        until(lambda: len(other.get("/api/records/logs?window=24h")["records"]) >= 1)
        issue = other.issues()[0]
        assert issue["type"] == "TideLow" and issue["message"] == "no depth"
        logs = other.get("/api/records/logs?window=24h&question=berth=4")["records"]
        assert [row["values"]["message"] for row in logs] == ["berth 4 is free"]
        assert other.get("/api/records/runs?window=24h&question=outcome=failed")["records"]
    finally:
        other.http.clear()
        thread.stop()


def test_a_partial_success_is_understood(running: Running, receiver: Receiver) -> None:
    """What a collector refuses is counted with its words, and not sent again; what it refuses whole is halved until it is known."""
    from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import (
        ExportLogsServiceRequest,
        ExportLogsServiceResponse,
    )

    answer = ExportLogsServiceResponse()
    answer.partial_success.rejected_log_records = 2
    answer.partial_success.error_message = "too old"

    def partly(handler: Any, got: Any) -> None:
        body = answer.SerializeToString()
        handler.send_response(200)
        handler.send_header("Content-Length", str(len(body)))
        handler.end_headers()
        handler.wfile.write(body)

    receiver.act = partly
    key = running.add_app()
    target(running, "otlp", settings={"url": f"http://127.0.0.1:{receiver.port}"}, passes=["log"])
    running.send(key, *(log(f"late {number}") for number in range(5)))
    until(lambda: state(running)["refused"] == 2)
    assert (state(running)["passed"], state(running)["trouble"]) == (3, "refused 2: too old")

    def never(handler: Any, got: Any) -> None:
        request = ExportLogsServiceRequest()
        request.ParseFromString(gzip.decompress(got.body))
        said = [
            one.body.string_value
            for part in request.resource_logs
            for scope in part.scope_logs
            for one in scope.log_records
        ]
        handler.send_response(400 if any("odd" in text for text in said) else 200)
        handler.send_header("Content-Length", "0")
        handler.end_headers()

    receiver.act = never
    running.send(key, *(log("odd" if number == 3 else f"late {number}") for number in range(8)))
    until(lambda: state(running)["passed"] == 10)
    assert state(running)["refused"] == 3


def test_what_was_acknowledged_is_not_given_again(running: Running, receiver: Receiver) -> None:
    """Logs are taken and runs are not: only the runs are tried again. The same where one half of a refused batch breaks."""
    tries = iter((503, 503, 200))

    def act(handler: Any, got: Any) -> None:
        handler.send_response(next(tries) if got.path == "/v1/traces" else 200)
        handler.send_header("Content-Length", "0")
        handler.end_headers()

    receiver.act = act
    key = running.add_app()
    target(running, "otlp", settings={"url": f"http://127.0.0.1:{receiver.port}"}, passes=["log", "run"])
    running.send(key, log("berth 4 is free"), run())
    until(lambda: state(running)["passed"] == 2)
    assert Counter(got.path for got in receiver.got) == {"/v1/traces": 3, "/v1/logs": 1}


def test_a_batch_goes_on_where_it_broke() -> None:
    """Halves that were taken are not given again, what is refused is counted once, and what came meanwhile is given too."""

    class Odd:
        """Refuses record 3 for good, and breaks once at record 6."""

        def __init__(self) -> None:
            self.took: list[int] = []
            self.broken = False

        def parts(self, batch: Sequence[dict[str, Any]]) -> Sequence[Sequence[dict[str, Any]]]:
            return [batch]

        def take(self, batch: Sequence[dict[str, Any]]) -> Taken:
            numbers = [record["number"] for record in batch]
            if 3 in numbers:
                raise PassingTrouble("never", for_good=True)
            if 6 in numbers and not self.broken:
                self.broken = True
                raise PassingTrouble("not now")
            self.took += numbers
            return Taken()

        def close(self) -> None:
            return None

    taker, given = Odd(), Given()
    records = [{"kind": "log", "id": str(number), "number": number} for number in range(10)]
    with pytest.raises(PassingTrouble, match="not now"):
        give(taker, records[:8], given)
    assert taker.took == [0, 1, 2] and given.refused == 1
    give(taker, records, given)
    assert taker.took == [0, 1, 2, 4, 5, 6, 7, 8, 9]
    assert (given.refused, given.said, len(given.ids)) == (1, "never", 10)


def test_a_target_that_was_away_gets_what_it_missed_in_order(running: Running, receiver: Receiver) -> None:
    """Over days, each once as far as it acknowledged; another target is not held up; what it lags is seen."""
    key = running.add_app()
    allow(running, addresses=["127.0.0.1"])
    receiver.status = 503
    target(running, "webhook", settings={"url": receiver.url}, secrets={"secret": "berth"}, passes=["failure", "log"])
    with receiving() as well:
        target(running, "webhook", "well", settings={"url": well.url}, passes=["log"])
        for day in (2, 1, 0):
            running.send(
                key,
                *(
                    log(f"late {number}", seconds_ago=day * 86_400 + 100)
                    for number in range(day * 100, day * 100 + 100)
                ),
            )
        until(lambda: sum(len(got.json()) for got in well.got) == 300)
    until(lambda: state(running)["trouble"].startswith("503"))
    assert state(running)["lag"] == 300 and state(running)["trouble_since"]
    receiver.status, receiver.got = 204, []
    assert running.ask("POST", "/api/targets/depot/try-now").status == 200
    passed_on(running)
    got = [event for one in receiver.got for event in one.json()]
    assert len({event["id"] for event in got}) == 300 == len(got)
    numbers = [event["data"]["number"] for event in got]
    assert numbers == sorted(numbers) and {event["type"] for event in got} == {"obitus.log"}
    assert all(
        one.headers["content-type"].startswith("application/cloudevents-batch+json") and one.headers["obitus-signature"]
        for one in receiver.got
    )


def test_positions_outlive_the_service(tmp_path: Path, receiver: Receiver) -> None:
    """What came while the service was down, or was on its way when it ended, is passed on after the next start."""
    thread, running = start(tmp_path / "data")
    key = running.add_app()
    allow(running, addresses=["127.0.0.1"])
    target(running, "webhook", settings={"url": receiver.url}, passes=["log"])
    running.send(key, log("first"))
    until(lambda: receiver.got)
    receiver.status = 500
    running.send(key, log("second"))
    until(lambda: state(running)["trouble"])
    running.http.clear()
    thread.stop()
    receiver.status, receiver.got = 204, []
    thread, running = start(tmp_path / "data")
    until(lambda: receiver.got)
    time.sleep(0.2)
    assert [event["data"]["message"] for got in receiver.got for event in got.json()] == ["second"]
    until(lambda: state(running)["passed"] == 2)
    running.http.clear()
    thread.stop()


def test_what_is_too_old_is_lost_and_counted(running: Running, receiver: Receiver) -> None:
    """A target that is away for longer than a week goes on with what is younger."""
    key = running.add_app()
    allow(running, addresses=["127.0.0.1"])
    receiver.status = 503
    target(running, "webhook", settings={"url": receiver.url}, passes=["log"])
    running.send(key, *(log(f"old {number}", seconds_ago=9 * 86_400) for number in range(4)))
    # The day of a report follows from its id, which these were given now: its time says how old it is.
    running.send(key, log("new"))
    until(lambda: state(running)["trouble"])
    receiver.status, receiver.got = 204, []
    running.clock.ahead_ms += 9 * DAY_MS
    running.ask("POST", "/api/targets/depot/try-now")
    until(lambda: state(running)["lost"] > 0 and state(running)["lag"] == 0)


def test_events_wait_for_targets_that_want_them(running: Running, receiver: Receiver) -> None:
    """They are not removed before a target has them; but a target that never comes back does not keep them for good."""
    key = running.add_app()
    allow(running, addresses=["127.0.0.1"])
    receiver.status = 503
    target(running, "webhook", settings={"url": receiver.url}, passes=["issue"])
    running.send(key, failure())
    until(lambda: state(running)["trouble"])
    writer = running.service.records.writer
    for job in events.jobs(running.service.records.reader):
        writer.run(lambda c, job=job: events.move(c, job, 10**9))  # type: ignore[misc]
    running.send(key, failed(1))
    now_ms = running.clock()
    writer.run(lambda c: events.prune(c, now_ms + 2 * DAY_MS))
    new = [event.id for event in events.after(running.service.records.reader, 0) if event.kind == "issue-new"]
    assert len(new) == 2
    writer.run(lambda c: events.prune(c, now_ms + 8 * DAY_MS))
    assert new[0] not in {event.id for event in events.after(running.service.records.reader, 0)}


def test_a_target_is_removed_with_its_secrets(running: Running, receiver: Receiver) -> None:
    """Nothing is passed on any more, and another one of the name begins anew."""
    key = running.add_app()
    allow(running, addresses=["127.0.0.1"])
    target(running, "webhook", settings={"url": receiver.url}, passes=["log"])
    assert running.ask("DELETE", "/api/targets/depot").status == 200
    assert running.ask("DELETE", "/api/targets/depot").status == 404
    running.send(key, log("nobody hears it"))
    target(running, "webhook", settings={"url": receiver.url}, passes=["log"])
    running.send(key, log("heard"))
    until(lambda: receiver.got)
    assert [event["data"]["message"] for got in receiver.got for event in got.json()] == ["heard"]
    answer = running.ask(
        "POST", "/api/targets", {"name": "odd", "kind": "webhook", "settings": {"url": "http://169.254.169.254/"}}
    )
    assert answer.status == 422 and "not on the public internet" in answer.json()["detail"]
