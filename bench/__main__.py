"""``make bench``: each row is ours, its floor, and their ratio, measured in turns in this run.

The order alternates and the median of the rounds counts, so that a machine that slows down half-way slows both.
"""

from __future__ import annotations

import contextlib
import http.client
import json
import os
import platform
import sqlite3
import statistics
import sys
import tempfile
import time
import uuid
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import obitus
from bench import alerting, bare, client, finding, floods, live, logs, maps, scale, searching, taking
from bench.flooding import flood
from bench.measuring import row, timed
from bench.releases import reading
from obitus.service.intake.formats import REPORT
from obitus.service.run import InThread, listen
from obitus.service.settings import Settings
from obitus.service.wiring import Parts

BATCH = 50
BATCHES = 60
ISSUES = 100


def main() -> None:
    """Measure every row and print the table."""
    print(
        f"{platform.python_implementation()} {platform.python_version()}, {os.cpu_count()} cores, {platform.machine()}\n"
    )
    print(f"{'row':<44}{'ours':>14}{'floor':>14}{'ratio':>9}")
    with tempfile.TemporaryDirectory() as folder:
        client.measure(Path(folder))
        finding.measure(Path(folder), report_of_8_kb(1))
        taking.measure(Path(folder))
        reading.measure(Path(folder))
        intake(Path(folder))
        floods.measure(Path(folder), report_of_8_kb)
        logs.measure(Path(folder))
        scale.measure(Path(folder))
        visible(Path(folder))
        live.measure(Path(folder), bodies)
        alerting.measure(Path(folder), bodies)
        searching.measure(Path(folder))
        maps.measure()


def report_of_8_kb(number: int) -> bytes:
    """Return a failure as the client sends them, about 8 KB: 30 frames, half own, with source and locals.

    It is of one of a hundred issues, each of which keeps whole what is measured here.
    """
    frames = []
    for i in range(30):
        frame: dict[str, Any] = {"function": f"step_{i}", "module": f"sailings.part{i % 7}", "file": f"/srv/sailings/part{i % 7}.py", "line": 10 + i, "own": i % 2 == 0}  # fmt: skip
        if i % 2 == 0:
            frame["source"] = {"before": ["    a = load(pier)", "    b = a.places"], "line": "    return go_on(a, b)", "after": ["", "def next_step(pier):"]}  # fmt: skip
            frame["locals"] = {"pier": "'eastholm'", "passenger": f"'p-{number}'", "places": "[1, 2, 3]", "sailing": "<Sailing id='SK-4711' vessel='Tern' places=62>"}  # fmt: skip
        frames.append(frame)
    trail = [{"kind": "log", "time": datetime.now(UTC).isoformat(), "severity": "INFO", "message": f"step {i} done", "attributes": {"logger": "sailings"}} for i in range(8)]  # fmt: skip
    return json.dumps(
        {
            "kind": "failure", "id": str(uuid.uuid4()), "time": datetime.now(UTC).isoformat(), "release": "2.9.0",
            "exceptions": [{"type": f"sailings.GangwayUp{number % ISSUES}", "message": f"gangway {number} is up", "frames": frames}],
            "trail": trail, "attributes": {"host.name": "pier-1", "user.id": f"p-{number % 40}"},
            "run": {"entry_point": "POST /sailings/{sailing_id}/boardings", "duration_ms": 12.5, "outcome": "failed"},
        }
    ).encode()  # fmt: skip


def bodies() -> list[bytes]:
    """Return batches that were never sent before."""
    return [b"\n".join(report_of_8_kb(i * BATCH + j) for j in range(BATCH)) for i in range(BATCHES)]


def intake(folder: Path) -> None:
    """Reports a second, acknowledged durable, against only validating them and against a bare endpoint."""
    made = bodies()
    size = statistics.mean(len(line) for line in made[0].split(b"\n"))
    lines = [line for body in made[:10] for line in body.split(b"\n")]
    validating = 1 / statistics.median(timed(lambda: [REPORT.validate_json(line) for line in lines], 1) for _ in range(3)) * len(lines)  # fmt: skip
    command = [sys.executable, "-m", "obitus", "serve", "--data", str(folder / "data"), "--port"]
    service, port = bare.started([*command, "0"])
    key = bare.key_of(service, port)
    bare_endpoint, bare_port = bare.started([sys.executable, "-m", "bench.bare", str(folder / "bare.sqlite3")])
    try:
        ours, floor = [], []
        for i in range(5):
            ours.append(flood(port, key, made if i == 0 else bodies(), BATCH))
            floor.append(flood(bare_port, key, bodies(), BATCH))
    finally:
        for process in (service, bare_endpoint):
            process.terminate()
            process.communicate(timeout=20)
    rate, bare_rate = statistics.median(ours), statistics.median(floor)
    row(f"reports/s of {size / 1000:.1f} KB / only validating, one core", f"{rate:,.0f}/s", f"{validating:,.0f}/s", rate / validating)  # fmt: skip
    row("reports/s / bare endpoint, raw lines to SQLite", f"{rate:,.0f}/s", f"{bare_rate:,.0f}/s", rate / bare_rate)
    count = evidence = 0
    for path in (folder / "data/days").glob("*.sqlite3"):
        kept = sqlite3.connect(path)
        count += kept.execute("SELECT COUNT(*) FROM ids").fetchone()[0]
        evidence += kept.execute("SELECT COALESCE(SUM(LENGTH(body)), 0) FROM evidence").fetchone()[0]
        kept.close()
    assert count == 5 * BATCH * BATCHES, count
    row(
        "bytes kept of a report's evidence / as sent",
        f"{evidence / count:,.0f} B",
        f"{size:,.0f} B",
        evidence / count / size,
    )


def visible(folder: Path) -> None:
    """Time from ``raise`` to visible in ``/api/issues``, against one empty request to the same service."""
    opened = listen("127.0.0.1", 0)
    port = opened.getsockname()[1]
    service = Parts(Settings(data=folder / "visible", port=port))
    service.passes.ensure_owner()
    running = InThread(service, opened)
    running.start()
    token = service.passes.add("token", 1, "bench", None)
    connection = http.client.HTTPConnection("127.0.0.1", port)
    headers = {"Authorization": f"Bearer {token}", "Content-Type": "application/json"}

    def ask(method: str, path: str, body: str | None = None) -> Any:
        connection.request(method, path, body, headers)
        return json.loads(connection.getresponse().read())

    key = ask("POST", "/api/apps", '{"name": "sailings"}')["key"]
    obitus.watch(url=f"http://127.0.0.1:{port}", key=key, release="2.9.0")
    seen = 0

    def wait(fail: Any) -> list[float]:
        nonlocal seen
        waits = []
        for _ in range(20):
            seen += 1
            started = time.perf_counter()
            fail(seen)
            while ask("GET", "/api/issues?window=1h").get("failures_in_all") != seen:
                pass
            waits.append(time.perf_counter() - started)
        return waits

    def uncaught(number: int) -> None:
        with contextlib.suppress(ValueError), obitus.run("bench"):
            client.deep(5, {})

    def caught(number: int) -> None:
        try:
            client.deep(5, {})
        except ValueError as error:
            error.args = (f"gangway {number}",)
            obitus.record(error)

    waits, caught_waits = wait(uncaught), wait(caught)
    obitus.stop()
    empty = statistics.median(timed(lambda: ask("GET", "/health"), 50) for _ in range(3))
    running.stop()
    for name, found in (("raise", waits), ("caught, recorded,", caught_waits)):
        middle = statistics.median(found)
        row(
            f"{name} to visible in /api/issues / GET /health",
            f"{middle * 1e3:.0f} ms",
            f"{empty * 1e3:.1f} ms",
            middle / empty,
        )
        print(f"{'':<4}slowest of {len(found)}: {max(found) * 1e3:.0f} ms (the sender gathers for 50 ms)")


if __name__ == "__main__":
    main()
