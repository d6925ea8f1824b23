"""When the disk fails, is full, held, moved away or damaged: nothing is refused for it, nothing is lost, and it is said."""

from __future__ import annotations

import os
import resource
import shutil
import signal
import sqlite3
import subprocess
import sys
import threading
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
import urllib3

from obitus.service.settings import Settings
from obitus.service.wiring import Parts
from obitus.store.database import Reader
from obitus.store.days.reading import DayReaders
from obitus.store.errors import StoreBroken, StoreInUse
from obitus.store.intake.taking import take
from tests import kept
from tests.client.programs import free_port, write
from tests.conftest import Running, failure, start, until


class Apart:
    """A service in a process of its own, which the system can be told to trouble."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        thread, running = start(folder)
        self.key, self.token = running.add_app(), running.token
        running.http.clear()
        thread.stop()
        self.port = free_port()
        self.url = f"http://127.0.0.1:{self.port}"
        self.http = urllib3.PoolManager(retries=False, timeout=150)
        self.log = (folder / "service.log").open("w+")
        self.start()

    def start(self) -> None:
        self.process = subprocess.Popen(
            [sys.executable, "-m", "obitus", "serve", "--data", str(self.folder), "--port", str(self.port)],
            stdout=self.log, stderr=self.log,
        )  # fmt: skip

        def answers() -> bool:
            try:
                return self.http.request("GET", self.url + "/health").status in (200, 503)
            except urllib3.exceptions.HTTPError:
                return False

        until(answers)

    def send(self, *reports: dict[str, Any]) -> urllib3.BaseHTTPResponse:
        return Running.send(self, self.key, *reports)  # type: ignore[arg-type]

    def get(self, path: str) -> urllib3.BaseHTTPResponse:
        return self.http.request("GET", self.url + path, headers={"Authorization": f"Bearer {self.token}"})

    def stop(self) -> int:
        self.process.send_signal(signal.SIGTERM)
        return self.process.wait(60)

    def close(self) -> None:
        if self.process.poll() is None:
            self.process.kill()
            self.process.wait(60)
        self.http.clear()
        self.log.close()


@pytest.fixture
def apart(tmp_path: Path) -> Iterator[Apart]:
    found = Apart(tmp_path / "records")
    yield found
    found.close()


@contextmanager
def no_more_writing(apart: Apart) -> Iterator[None]:
    """Let every write to a file of the service fail, as a broken disk does: SQLite calls that an input or output error."""
    before = resource.prlimit(apart.process.pid, resource.RLIMIT_FSIZE)
    resource.prlimit(apart.process.pid, resource.RLIMIT_FSIZE, (1, before[1]))
    try:
        yield
    finally:
        resource.prlimit(apart.process.pid, resource.RLIMIT_FSIZE, before)


def test_an_io_error_is_no_verdict(apart: Apart) -> None:
    """While the disk fails, batches of one and of many are answered 503 and health says why; afterwards all of them are taken."""
    apart.send(failure())
    batches = [[failure()], [failure() for _ in range(8)]]
    with no_more_writing(apart):
        for batch in batches:
            answer = apart.send(*batch)
            assert (answer.status, answer.json()["slug"]) == (503, "store-faulty"), answer.data
            assert answer.headers["Retry-After"] == "1" and "lines" not in answer.json()
        otlp = {"resourceLogs": [{"scopeLogs": [{"logRecords": [{"body": {"stringValue": "low tide"}}]}]}]}
        headers = {"Authorization": f"Bearer {apart.key}"}
        logs = apart.http.request("POST", apart.url + "/v1/logs", json=otlp, headers=headers)
        assert (logs.status, logs.json()["code"]) == (503, 14)
        health = apart.get("/health")
        assert health.status == 503 and "disk" in health.json()["reasons"][0]
        assert apart.get("/api/issues?window=24h").status == 200
    for batch in batches:
        assert apart.send(*batch).json()["stored"] == len(batch)
    assert apart.get("/health").status == 200


def test_a_client_loses_nothing_to_a_failing_disk(apart: Apart, tmp_path: Path) -> None:
    """What a client sent while the disk failed is there once the disk is."""
    code = """
        import obitus, sys
        obitus.watch()
        for n in range(8):
            try: raise LookupError(f"berth {n}")
            except LookupError as error: obitus.record(error)
        print(obitus.flush(3), flush=True)
        sys.stdin.read()
        print(obitus.flush(30), obitus.status().get("refused"), flush=True)
    """
    environment = os.environ | {"OBITUS_URL": apart.url, "OBITUS_KEY": apart.key, "OBITUS_SPOOL": str(tmp_path / "s")}
    with no_more_writing(apart):
        app = subprocess.Popen(
            [sys.executable, str(write(tmp_path, code))], env=environment, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )  # fmt: skip
        assert app.stdout is not None and app.stdout.readline() == "False\n"
    said, _ = app.communicate("", timeout=150)
    assert said.startswith("True"), said
    assert apart.get("/api/issues?window=24h").json()["failures_in_all"] == 8


def test_held_by_another_process(apart: Apart) -> None:
    """Somebody who holds the file is told; once it is let go, all goes on."""
    holder = sqlite3.connect(apart.folder / "obitus.sqlite3", isolation_level=None)
    holder.execute("BEGIN IMMEDIATE")
    answer = apart.send(failure())
    assert (answer.status, answer.json()["slug"]) == (503, "store-locked") and "another process" in answer.json()[
        "detail"
    ]
    assert apart.get("/api/issues?window=24h").status == 200
    holder.execute("ROLLBACK")
    holder.close()
    assert apart.send(failure()).json()["stored"] == 1


def test_moved_away(apart: Apart) -> None:
    """A file that was moved away takes no more reports, and it is said; moved back, it does."""
    apart.send(failure())
    path = apart.folder / "obitus.sqlite3"
    path.rename(apart.folder / "elsewhere")
    answer = apart.send(failure())
    assert (answer.status, answer.json()["slug"]) == (503, "store-read-only"), answer.data
    assert "moved away" in apart.get("/health").json()["reasons"][0]
    (apart.folder / "elsewhere").rename(path)
    assert apart.send(failure()).json()["stored"] == 1


def test_damaged_pages(apart: Apart) -> None:
    """Whatever lies on damaged pages is answered 503 with the reason; what lies elsewhere is still shown; nothing is refused for it."""
    for n in range(20):
        apart.send(*(failure(exceptions=[{"type": f"E{n}", "message": "x" * 500}]) for _ in range(50)))
    assert apart.stop() in (0, -signal.SIGTERM)
    path = apart.folder / "obitus.sqlite3"
    whole = bytearray(path.read_bytes())
    # Pages that hold issues: without those that it needs for its start, the schema above all, no service starts.
    of_issues = [at for at in range(0, len(whole), 4096) if b"x" * 400 in whole[at : at + 4096]]
    assert len(of_issues) >= 3
    for at in of_issues[1:]:
        whole[at : at + 4096] = b"\xa5" * 4096
    path.write_bytes(whole)
    apart.start()
    answers = [apart.send(failure(exceptions=[{"type": f"New{n}"}])) for n in range(5)]
    answers += [apart.get(f"/api/issues?window=24h&question=E{n}") for n in range(20)]
    answers += [apart.get(f"/api/issues/{n}") for n in range(1, 21)]
    kinds = {(one.status, one.json().get("slug")) for one in answers}
    assert (503, "store-damaged") in kinds
    assert {status for status, _ in kinds} <= {200, 404, 503}, kinds
    assert not any("lines" in one.json() and one.status != 200 for one in answers)


def test_damage_where_the_service_starts(apart: Apart) -> None:
    """It does not start half, and says what to do: look at what is broken, bring a backup back."""
    apart.send(failure())
    assert apart.stop() in (0, -signal.SIGTERM)
    path = apart.folder / "obitus.sqlite3"
    whole = path.read_bytes()
    path.write_bytes(whole[:4096] + b"\xa5" * (len(whole) - 4096))
    command = [sys.executable, "-m", "obitus", "serve", "--data", str(apart.folder), "--port", str(apart.port)]
    ended = subprocess.run(command, capture_output=True, text=True, timeout=150)
    said = " ".join((ended.stdout + ended.stderr).split())
    assert ended.returncode != 0 and "Traceback" not in said
    assert "damaged" in said and "obitus verify" in said and "obitus restore" in said, said


def test_one_folder_one_service(tmp_path: Path) -> None:
    """A second service on the same folder refuses to start, and says which process runs the first."""
    first = Parts(Settings(data=tmp_path))
    try:
        with pytest.raises(StoreInUse, match=rf"process {os.getpid()}.*Stop it first"):
            Parts(Settings(data=tmp_path))
    finally:
        first.close()
    Parts(Settings(data=tmp_path)).close()


def test_a_clean_stop_leaves_one_file(apart: Apart, tmp_path: Path) -> None:
    """After a stop in the middle of the traffic, a copy of the one file holds everything that was acknowledged."""
    taken: list[str] = []
    stopping = threading.Event()

    def sends() -> None:
        http = urllib3.PoolManager(retries=False, timeout=150)
        while not stopping.is_set():
            reports = [failure() for _ in range(7)]
            try:
                answer = Running.send(apart_like(http), apart.key, *reports)
            except urllib3.exceptions.HTTPError:
                break
            if answer.status == 200:
                taken.extend(line["id"] for line in answer.json()["lines"])
        http.clear()

    def apart_like(http: urllib3.PoolManager) -> Any:
        return type("Sender", (), {"http": http, "url": apart.url})

    threads = [threading.Thread(target=sends) for _ in range(4)]
    for thread in threads:
        thread.start()
    reading = threading.Thread(target=lambda: [apart.get("/api/issues?window=24h") for _ in range(5)])
    reading.start()
    until(lambda: len(taken) > 300)
    reading.join()
    assert apart.stop() in (0, -signal.SIGTERM)
    stopping.set()
    for thread in threads:
        thread.join()
    assert not [path.name for path in apart.folder.rglob("*") if path.name.endswith(("-wal", "-shm"))]
    copy = tmp_path / "copy"
    shutil.copytree(apart.folder, copy)
    counts = Reader(copy / "obitus.sqlite3")
    days = DayReaders(copy / "days", counts)
    there = set(kept.ids(days))
    days.close()
    counts.close()
    missing = [one for one in taken if one.replace("-", "") not in there]
    assert not missing, f"{len(missing)} of {len(taken)}"


def test_one_that_the_store_refuses_is_refused_for_itself(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """The others of its batch go in; it is refused only after it failed alone, again; one that passes then is taken."""
    key = running.add_app()
    tries: dict[str, int] = {}
    bad, unlucky = failure(), failure()

    def picky(connection: sqlite3.Connection, days: Any, prepared: Any) -> Any:
        for one in prepared:
            name = str(uuid.UUID(bytes=one.id))
            tries[name] = tries.get(name, 0) + 1
            if name == bad["id"] or (name == unlucky["id"] and tries[name] < 2):
                raise StoreBroken("records: SQLITE_CONSTRAINT: made up")
        return take(connection, days, prepared)

    monkeypatch.setattr("obitus.service.intake.writing.take", picky)
    lines = running.send(key, failure(), bad, failure(), unlucky, failure()).json()["lines"]
    assert [line["verdict"] for line in lines] == ["stored", "refused", "stored", "stored", "stored"]
    assert lines[1]["slug"] == "store-broken" and tries[bad["id"]] == 3
    alone = running.send(key, bad)
    assert alone.status == 422 and alone.json()["lines"][0]["slug"] == "store-broken"
    monkeypatch.undo()
    assert running.send(key, bad).json()["stored"] == 1
