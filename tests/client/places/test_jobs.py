"""Other people's job runners: each job is a run, what it died of is one failure on that run, nothing else changes."""

from __future__ import annotations

import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests import kept, left_over
from tests.client.places.jobs import HEAD, RUNNERS, Runner
from tests.client.places.matrix import note
from tests.client.programs import free_port, run, write
from tests.conftest import Running

MANIFESTS = "def good(): return 1\ndef bad():\n    raise LookupError('printer is out of ink')\n"


@pytest.fixture(scope="session")
def redis_port(tmp_path_factory: pytest.TempPathFactory) -> Iterator[int]:
    """A real Redis server, which two of the runners need."""
    program = shutil.which("redis-server")
    assert program is not None, "install it: apt-get install redis-server (make test does)"
    port = free_port()
    folder = tmp_path_factory.mktemp("redis")
    server = subprocess.Popen(
        [program, "--port", str(port), "--bind", "127.0.0.1", "--save", "", "--dir", str(folder)],
        stdout=subprocess.DEVNULL,
    )
    left_over.keep(server.pid)
    ends = time.monotonic() + 60
    while time.monotonic() < ends:
        with socket.socket() as asking:
            if asking.connect_ex(("127.0.0.1", port)) == 0:
                break
        time.sleep(0.05)
    yield port
    server.terminate()
    server.wait(60)


@pytest.mark.parametrize("runner", RUNNERS, ids=lambda runner: runner.name)
def test_jobs(running: Running, tmp_path: Path, runner: Runner, request: pytest.FixtureRequest) -> None:
    """The good one is counted, the bad one is one unhandled failure, and the program ends as it does without us."""
    environment = {"PYTHONPATH": str(tmp_path)}
    if runner.redis:
        environment["REDIS_PORT"] = str(request.getfixturevalue("redis_port"))
    write(tmp_path, MANIFESTS, "manifests.py")
    key = running.add_app()
    watched = run(running, key, tmp_path, HEAD + runner.code, **environment)
    unwatched = run(running, key, tmp_path, HEAD + runner.code, OBITUS_OFF="1", **environment)
    run(running, key, tmp_path, "import obitus\nobitus.watch()\nobitus.flush(60)")
    found = kept.reports(running.service, "failure")
    counted = running.service.records.reader.rows(
        "SELECT entry_point, outcome, SUM(runs) AS n FROM run_counts GROUP BY 1, 2"
    )
    runs = {(row["entry_point"], row["outcome"]): row["n"] for row in counted}
    row = {
        "reported once": [report["exceptions"][0]["message"] for report in found] == ["printer is out of ink"],
        "route": bool(found) and found[0].get("run", {}).get("entry_point") == runner.bad,
        "request": runs.get((runner.good, "ok")) == 1 and runs.get((runner.bad, "failed")) == 1,
        "unhandled": [report["handled"] for report in found] == [False],
        "app unchanged": watched.returncode == unwatched.returncode and "obitus" not in watched.stderr.lower(),
    }
    note(runner.name, "jobs", row)
    assert row == dict.fromkeys(row, True), (runs, [r["exceptions"] for r in found], watched.stderr[-2000:])
