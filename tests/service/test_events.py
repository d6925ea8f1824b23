"""What happens is written down where it happens, and read in order, once more rather than not at all."""

from __future__ import annotations

import json
import re
import signal
import subprocess
import sys
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any, get_args

import pytest

from obitus.service import app as service_app
from obitus.store import events, people
from obitus.store.errors import StoreBroken
from tests.conftest import Running, failure, raised_in, start, until

CONSOLE = Path(__file__).parents[2] / "console/src/lib/live.svelte.ts"


def kinds(running: Running) -> list[str]:
    return [event.kind for event in events.after(running.service.records.reader, 0)]


def stream(running: Running, since: int | None = None) -> Iterator[tuple[int | None, str, dict[str, Any]]]:
    """Yield number, name and content of what the live stream says."""
    headers = {"Authorization": f"Bearer {running.token}"} | ({} if since is None else {"Last-Event-ID": str(since)})
    answer = running.http.request("GET", running.url + "/api/live", headers=headers, preload_content=False, timeout=150)
    assert answer.status == 200
    text = ""
    try:
        for piece in answer.stream(1, decode_content=True):
            text += piece.decode()
            while "\n\n" in text:
                block, text = text.split("\n\n", 1)
                lines = dict(line.split(": ", 1) for line in block.split("\n") if ": " in line)
                if "event" in lines:
                    yield int(lines["id"]) if "id" in lines else None, lines["event"], json.loads(lines["data"])
    finally:
        answer.close()


def test_what_happens_is_written_down(running: Running) -> None:
    """In order, in the transaction in which it happens."""
    key = running.add_app()
    running.send(key, failure(), failure())
    running.ask("POST", "/api/issues/1/settle", {"release": "1.0.0"})
    running.send(key, failure(release="1.1.0"))
    running.ask("POST", "/api/deploys", {"app": "sailings", "release": "2.0.0", "environment": "production"})
    assert [kind for kind in kinds(running) if kind != "act"] == [
        "release-seen", "issue-new", "issue-decided", "release-seen", "issue-regressed", "deploy"
    ]  # fmt: skip
    found = events.after(running.service.records.reader, 0)
    assert [event.id for event in found] == list(range(1, len(found) + 1))
    assert {event.subject.get("issue") for event in found if event.kind.startswith("issue-")} == {1}


def test_what_does_not_happen_is_not(running: Running) -> None:
    """A decision that is taken back leaves no event; and what is decided is on record, or was not decided."""
    running.add_app()
    before = kinds(running)

    def breaks(connection: Any) -> None:
        people.note_act(connection, 1, "made key", "x", 1)
        raise StoreBroken("made up")

    with pytest.raises(StoreBroken):
        running.service.records.writer.run(breaks)
    assert kinds(running) == before


def test_the_console_listens_to_all_kinds() -> None:
    """Each kind of event reaches the pages, and no other is waited for."""
    text = CONSOLE.read_text("utf-8").split("const KINDS = [")[1].split("]")[0]
    assert set(re.findall(r"'([\w-]+)'", text)) == {
        *get_args(events.Kind),
        "reports",
        "refused",
        "missed",
        "issue-looked-at",
        "alert",
        "deliveries",
        "passing",
        "tracepoints",
    }


def test_a_stream_goes_on_where_it_broke(running: Running) -> None:
    """Events come with numbers; whoever asks again with the last one gets what it missed, in order, and then what comes."""
    key = running.add_app()
    listening = stream(running)
    number, name, _ = next(listening)
    assert name == "open" and number == events.newest(running.service.records.reader)
    running.send(key, failure())
    got = [next(listening) for _ in range(3)]
    assert {name for _, name, _ in got} == {"reports", "release-seen", "issue-new"}
    last = max(number for number, _, _ in got if number is not None)
    listening.close()
    for point in range(5):
        running.send(key, failure(exceptions=raised_in("m", f"f{point}")))
    again = stream(running, last)
    assert next(again)[1] == "open"
    missed = [next(again) for _ in range(5)]
    assert [number for number, _, _ in missed] == list(range(last + 1, last + 6))
    assert {name for _, name, _ in missed} == {"issue-new"}
    running.ask("POST", "/api/issues/1/park")
    until(lambda: next(again)[1] == "issue-decided")
    again.close()


def test_a_stream_that_missed_too_much(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """It is told to look again, as is one whose number was never given."""
    monkeypatch.setattr(service_app, "MOST_MISSED", 3)
    key = running.add_app()
    running.send(key, *(failure(exceptions=raised_in("m", f"f{point}")) for point in range(9)))
    for since in (0, 10_000):
        again = stream(running, since)
        assert [next(again)[1], next(again)[1]] == ["open", "missed"]
        again.close()


def test_nothing_is_missed_while_it_happens(running: Running) -> None:
    """A listener that comes and goes while decisions are made has seen each event once, in order."""
    key = running.add_app()
    running.send(key, failure())
    first = events.newest(running.service.records.reader)
    done = threading.Event()

    def decide() -> None:
        for number in range(120):
            running.ask("POST", f"/api/issues/1/{'park' if number % 2 else 'accept'}")
        done.set()

    thread = threading.Thread(target=decide)
    thread.start()
    seen: list[int] = []
    while len(seen) < 120:
        listening = stream(running, seen[-1] if seen else first)
        for number, name, _ in listening:
            assert name != "missed"
            if number is not None and name != "open":
                seen.append(number)
                if len(seen) % 7 == 0 or len(seen) == 120:
                    break
        listening.close()
    thread.join()
    assert done.is_set() and seen == list(range(first + 1, first + 121))


KILLED = """
import os, signal, sys
from pathlib import Path
from obitus.service.settings import Settings, system_clock_ms
from obitus.store.deciding import DecisionOrder, ExpectedState, decide
from obitus.store.records import OpenRecords

settings = Settings(data=Path(sys.argv[1]), port=0)
records = OpenRecords(settings.database, settings.url)
def park(connection):
    decide(connection, [(1, ExpectedState(), DecisionOrder("park"))], (1, "owner"), system_clock_ms())
    records.writer.reached = lambda point: os.kill(os.getpid(), signal.SIGKILL) if point == "after the main file" else None

records.writer.run(park)
"""


def test_killed_between_commit_and_telling(tmp_path: Path) -> None:
    """What was decided and not told any more is told after the next start."""
    thread, running = start(tmp_path / "data")
    running.send(running.add_app(), failure())
    last = events.newest(running.service.records.reader)
    thread.stop()
    child = subprocess.run([sys.executable, "-c", KILLED, str(tmp_path / "data")], capture_output=True, text=True)
    assert child.returncode == -signal.SIGKILL, child.stderr
    thread, running = start(tmp_path / "data")
    try:
        again = stream(running, last)
        assert next(again)[1] == "open"
        told = next(again)
        assert told[:2] == (last + 1, "issue-decided") and told[2]["issue"] == 1
        again.close()
        assert running.get("/api/issues/1")["state"] == "parked"
    finally:
        running.http.clear()
        thread.stop()


def test_the_watcher_goes_on_after_a_stop(tmp_path: Path) -> None:
    """What came before a stop and was not looked at is looked at afterwards, once."""
    thread, running = start(tmp_path / "data")
    running.send(running.add_app(), failure())
    due = running.service.records.reader.rows("SELECT environment, batches FROM rates_due")
    assert [tuple(row) for row in due] == [("production", 1)]
    thread.stop()
    thread, running = start(tmp_path / "data")
    try:
        running.service.runner.look("watching")
        assert running.service.records.reader.rows("SELECT 1 FROM rates_due") == []
        assert events.position(running.service.records.reader, "watching") == events.newest(
            running.service.records.reader
        )
    finally:
        running.http.clear()
        thread.stop()


def test_old_events_go_when_all_have_read_them(running: Running) -> None:
    """Not before, and never the newest: its number must not be given again."""
    running.add_app()
    writer, reader = running.service.records.writer, running.service.records.reader
    newest, later = events.newest(reader), running.clock() + 2 * events.KEPT_MS
    assert newest > 0
    writer.run(lambda c: events.move(c, "slow", 0))
    for job in ("telling", "watching", "regrouping"):
        running.service.runner.look(job)
    assert writer.run(lambda c: events.prune(c, later)) == 0
    writer.run(lambda c: events.move(c, "slow", newest))
    assert writer.run(lambda c: events.prune(c, running.clock())) == 0
    assert writer.run(lambda c: events.prune(c, later)) == newest - 1
    assert events.newest(reader) == newest
