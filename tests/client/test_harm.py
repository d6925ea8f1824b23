"""No harm: switched off, service away, wrong key, garbage answers, process ends, forks. The app never notices."""

from __future__ import annotations

import gzip
import json
import logging
import os
import subprocess
import sys
import textwrap
import threading
import time
from collections import deque
from collections.abc import Iterator
from http.server import ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest

import obitus
from obitus.client.backlog import MOST_MEMORY_BYTES
from obitus.client.sender import MOST_WAITING, Sender
from obitus.client.settings import load
from obitus.core.redaction import Redactor
from tests import kept
from tests.client.programs import Answering, serving
from tests.conftest import Running, start, until


def run_script(tmp_path: Path, code: str, **environment: str) -> subprocess.CompletedProcess[str]:
    """Run a program of its own, watched through the environment."""
    script = tmp_path / "boarding.py"
    script.write_text(textwrap.dedent(code))
    return subprocess.run(
        [sys.executable, str(script)], env=os.environ | environment, capture_output=True, text=True, timeout=150
    )


def test_a_script_that_dies(running: Running, tmp_path: Path) -> None:
    """A program nobody prepared, plus one line, reports what kills it; its own traceback still comes out."""
    code = """
        import obitus
        obitus.watch()
        def board(passenger):
            raise RuntimeError("gangway is up")
        board("p-102")
    """
    ended = run_script(tmp_path, code, OBITUS_URL=running.url, OBITUS_KEY=running.add_app(), OBITUS_RELEASE="2.9.0")
    assert ended.returncode == 1 and "gangway is up" in ended.stderr
    issue = running.get("/api/issues/1")
    assert issue["title"] == "RuntimeError in boarding.board" and issue["latest"]["severity"] == "FATAL"
    assert issue["latest"]["report"]["captured_by"] == "main thread" and issue["began_in"] == "2.9.0"


@pytest.mark.parametrize("end", ["raise SystemExit(3)", "raise KeyboardInterrupt", "pass"])
def test_ends_that_are_no_failures(running: Running, tmp_path: Path, end: str) -> None:
    """Leaving on purpose is not reported."""
    key = running.add_app()
    run_script(tmp_path, f"import obitus\nobitus.watch()\n{end}", OBITUS_URL=running.url, OBITUS_KEY=key)
    assert running.issues() == []


def test_switched_off_does_nothing(tmp_path: Path) -> None:
    """With OBITUS_OFF=1 no hook is set, no thread is started, and every call is a cheap nothing."""
    code = """
        import sys, threading, logging
        before = (sys.excepthook, threading.excepthook, logging.Logger.callHandlers)
        import obitus
        obitus.watch()
        obitus.mark("x"); obitus.attach({"a": 1}); obitus.record(ValueError())
        with obitus.run("job"): pass
        assert obitus.flush() and before == (sys.excepthook, threading.excepthook, logging.Logger.callHandlers)
        assert threading.active_count() == 1
    """
    ended = run_script(tmp_path, code, OBITUS_OFF="1", OBITUS_URL="http://127.0.0.1:9", OBITUS_KEY="okey_x")
    assert (ended.returncode, ended.stderr) == (0, "")


@pytest.mark.parametrize("watching", ["before", "when all are used up", "never"])
def test_no_file_can_be_opened(running: Running, tmp_path: Path, watching: str) -> None:
    """Nothing raises into an app that has used up its files, and it goes on; what it said is told when it can be."""
    code = f"""
        import os, resource, obitus
        watching = {watching!r}
        if watching == "before":
            obitus.watch()
        resource.setrlimit(resource.RLIMIT_NOFILE, (64, 64))
        used = []
        try:
            while True:
                used.append(os.open(os.devnull, os.O_RDONLY))
        except OSError:
            pass
        if watching == "when all are used up":
            obitus.watch()
        with obitus.run("job manifest"):
            obitus.mark("counted", passengers=3)
            obitus.attach({{"berth": 4}})
            try:
                open(os.devnull)
            except OSError as error:
                obitus.record(error)
        obitus.say("no berth is free")
        obitus.record()
        obitus.status()
        obitus.flush(0.1)
        for one in used:
            os.close(one)
        obitus.flush()
        obitus.stop()
        print("sailed")
    """
    ended = run_script(tmp_path, code, OBITUS_URL=running.url, OBITUS_KEY=running.add_app())
    assert (ended.returncode, ended.stdout) == (0, "sailed\n"), ended.stderr
    said = {issue["message"] for issue in running.issues()}
    if watching == "before":
        assert said == {"[Errno 24] Too many open files: '/dev/null'", "no berth is free"}
    else:
        assert said == set() and ("nothing is reported" in ended.stderr) == (watching != "never")


def test_missing_settings_are_said_once(caplog: pytest.LogCaptureFixture) -> None:
    """Without an address or a key nothing is reported, and the log says which one is missing."""
    obitus.watch()
    obitus.watch(url="http://127.0.0.1:9")
    assert [record.getMessage().split(" is not set")[0] for record in caplog.records] == [
        "Obitus: OBITUS_URL",
        "Obitus: OBITUS_KEY",
    ]


def test_hooks_are_taken_away_again(running: Running) -> None:
    """After stop() every hook is what it was; one that others put on top stays."""
    before = (sys.excepthook, threading.excepthook, logging.Logger.callHandlers)
    obitus.watch(url=running.url, key=running.add_app())
    assert sys.excepthook is not before[0]
    obitus.stop()
    assert (sys.excepthook, threading.excepthook, logging.Logger.callHandlers) == before


def test_logging_can_still_be_configured(running: Running, tmp_path: Path) -> None:
    """Watching adds no handler, so that an app's own basicConfig still takes effect."""
    code = """
        import logging, obitus
        obitus.watch()
        logging.basicConfig(format="OURS %(message)s")
        logging.getLogger("x").warning("tide")
        logging.getLogger("x").warning("%d args do not fit")
    """
    ended = run_script(tmp_path, code, OBITUS_URL=running.url, OBITUS_KEY=running.add_app())
    assert "OURS tide" in ended.stderr and ended.returncode == 0


def test_the_service_comes_back(tmp_path: Path, caplog: pytest.LogCaptureFixture) -> None:
    """While the service is away the log says so once; when it is back, everything that waited arrives once."""
    thread, running = start(tmp_path / "data")
    key, port = running.add_app(), running.service.settings.port
    thread.stop()
    obitus.watch(url=running.url, key=key)
    ids = {obitus.record(ValueError(str(i))) for i in range(30)}
    assert not obitus.flush(1.5)
    assert sum("cannot be reached" in record.getMessage() for record in caplog.records) == 1
    thread, running = start(tmp_path / "data", port=port)
    try:
        assert obitus.flush(60)
        found = kept.ids(running.service.records.days)
        assert len(found) == len(ids) == 30
    finally:
        thread.stop()


def test_memory_is_bounded_without_a_spool() -> None:
    """However many reports come in, what waits is bounded by count and bytes, and the rest is counted."""
    sender = Sender(load(url="http://127.0.0.1:9", key="okey_x", spool="off"), Redactor())
    for i in range(4 * MOST_WAITING):
        sender.put({"kind": "failure", "n": i, "text": "x" * 20_000})
        if i % 100 == 0:
            time.sleep(0.01)

    def known() -> int:
        return sender.waiting + sum(sender.dropped.values())

    until(lambda: known() == 4 * MOST_WAITING)
    assert sender.backlog.memory_bytes <= MOST_MEMORY_BYTES and sum(sender.dropped.values()) > 0
    sender.close()


def test_what_is_being_written_waits_too(monkeypatch: pytest.MonkeyPatch) -> None:
    """A report on its way from the queue to memory is counted among those that wait."""
    sender = Sender(load(url="http://127.0.0.1:9", key="okey_x", spool="off"), Redactor())
    backlog, queue = sender.backlog, deque({"kind": "failure", "n": n} for n in range(3))
    counts: list[int] = []
    line = backlog.line

    def counting(report: dict[str, Any]) -> bytes | None:
        counts.append(len(queue) + backlog.waiting)
        return line(report)

    monkeypatch.setattr(backlog, "line", counting)
    backlog.write_down(queue)
    assert counts == [3, 3, 3] and backlog.waiting == 3
    sender.close()


class Stranger(Answering):
    """Answers as the test says."""

    status, body, headers_out = 200, b"hello", {}  # type: ignore[var-annotated]

    def do_POST(self) -> None:
        self.read_body()
        self.answer(self.status, self.body, self.headers_out)


@pytest.fixture
def stranger() -> Iterator[ThreadingHTTPServer]:
    with serving(Stranger) as server:
        yield server


@pytest.mark.parametrize(
    ("status", "body", "said"),
    [
        (200, b"<html>hello</html>", "is OBITUS_URL the address of Obitus"),
        (200, b"[1, 2]", "is OBITUS_URL the address of Obitus"),
        (302, b"", "is OBITUS_URL the address of Obitus"),
        (401, b'{"detail": "no app has this key"}', "no app has this key"),
        (500, b"\xff\x00", "answered 500"),
        (502, b"<h1>502 Bad Gateway</h1>", "cannot be reached (a proxy in front of it answers with status 502)"),
        (503, b'{"message": "no healthy upstream"}', "a proxy in front of it answers with status 503"),
        (413, b'{"slug": "body-too-large", "detail": "too large"}', "too large"),
    ],
)
def test_strange_answers(
    stranger: ThreadingHTTPServer, caplog: pytest.LogCaptureFixture, monkeypatch: pytest.MonkeyPatch, status: int, body: bytes, said: str
) -> None:  # fmt: skip
    """A service that is another, redirects, answers garbage or refuses the key: said once, never raised."""
    monkeypatch.setattr(Stranger, "status", status)
    monkeypatch.setattr(Stranger, "body", body)
    monkeypatch.setattr(Stranger, "headers_out", {"Location": "http://elsewhere.example/"} if status == 302 else {})
    obitus.watch(url=f"http://127.0.0.1:{stranger.server_port}", key="okey_secret-key-that-stays-here")
    for i in range(3):
        obitus.record(ValueError(str(i)))
    obitus.flush(1.0)
    until(lambda: any(said in record.getMessage() for record in caplog.records))
    texts = [record.getMessage() for record in caplog.records]
    assert sum(said in text for text in texts) == 1, texts
    assert "secret-key-that-stays-here" not in "".join(texts)


class SmallProxy(Answering):
    """Refuses what is too large for it, and answers everything else as a service does."""

    arrived: list[str] = []

    def do_POST(self) -> None:
        body = gzip.decompress(self.read_body())
        lines = [json.loads(line) for line in body.splitlines()]
        is_large = b"x" * 1000 in body
        if not is_large:
            self.arrived.extend(one["exceptions"][0]["message"] for one in lines if one["kind"] == "failure")
        verdicts = [{"line": number, "verdict": "stored"} for number, _ in enumerate(lines, 1)]
        answer = b"<h1>413 Request Entity Too Large</h1>" if is_large else json.dumps({"lines": verdicts}).encode()
        self.answer(413 if is_large else 200, answer)


def test_a_proxy_that_takes_less(caplog: pytest.LogCaptureFixture) -> None:
    """A report that it refuses holds up no other: that one is dropped, which is said."""
    SmallProxy.arrived.clear()
    with serving(SmallProxy) as proxy:
        obitus.watch(url=f"http://127.0.0.1:{proxy.server_port}", key="okey_x")
        for message in ("before", "x" * 1500, "behind"):
            obitus.record(ValueError(message))
        assert obitus.flush(60)
    assert SmallProxy.arrived == ["before", "behind"]
    assert "a report was refused and dropped: status 413" in caplog.text


def test_a_service_that_hangs(tmp_path: Path) -> None:
    """One that takes connections and never answers holds nobody up: not the app, nor its end."""
    import socket

    with socket.create_server(("127.0.0.1", 0)) as silent:
        code = """
            import obitus, time
            obitus.watch()
            started = time.perf_counter()
            for i in range(50): obitus.record(ValueError(str(i)))
            print(time.perf_counter() - started < 30)
        """
        started = time.perf_counter()
        url = f"http://127.0.0.1:{silent.getsockname()[1]}"
        ended = run_script(tmp_path, code, OBITUS_URL=url, OBITUS_KEY="okey_x")
        assert ended.stdout == "True\n" and time.perf_counter() - started < 45
        assert ended.stderr == ""


def test_a_forked_child_reports_too(running: Running, tmp_path: Path) -> None:
    """A child forked after reports were sent has a sender of its own."""
    code = """
        import os, obitus
        obitus.watch()
        obitus.record(ValueError("parent"))
        assert obitus.flush(60)
        pid = os.fork()
        if pid == 0:
            obitus.record(KeyError("child"))
            assert obitus.flush(60)
            os._exit(0)
        assert os.waitpid(pid, 0)[1] == 0
    """
    ended = run_script(tmp_path, code, OBITUS_URL=running.url, OBITUS_KEY=running.add_app())
    assert ended.returncode == 0, ended.stderr
    assert {row["type"] for row in running.issues()} == {"ValueError", "KeyError"}


def test_settings_come_from_arguments_then_the_environment() -> None:
    """An argument wins over the environment; blank means not set; the switch knows its words."""
    environ = {"OBITUS_URL": " http://a ", "OBITUS_KEY": "", "OBITUS_RELEASE": "1.0", "OBITUS_OFF": "Yes"}
    found = load(release="2.0", environ=environ)
    assert (found.url, found.key, found.release, found.off, found.missing) == (
        "http://a",
        None,
        "2.0",
        True,
        "OBITUS_KEY",
    )
    assert load(off=False, environ=environ).off is False
