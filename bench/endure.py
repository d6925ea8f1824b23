"""What the service endures: everything that strangers and broken senders do, at once, while one honest sender goes on.

``python -m bench.endure [SECONDS]`` starts a service of its own, measures an honest sender alone, lets all the others at
it, kills and starts it again a few times, and prints one table. Whatever was acknowledged has to be there once.
"""

from __future__ import annotations

import contextlib
import gzip
import json
import multiprocessing
import os
import random
import signal
import socket
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
import uuid
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import urllib3
import zstandard

from obitus.service.run import InThread, listen
from obitus.service.settings import Settings
from obitus.service.wire import message
from obitus.service.wiring import Service

MIB = 1024 * 1024
LONGEST_RATIO, LONGEST_HEALTH_MS, MOST_MB = 1.5, 200.0, 400.0


@dataclass
class Found:
    """What was measured."""

    quiet_ms: list[float] = field(default_factory=list)
    busy_ms: list[float] = field(default_factory=list)
    health_ms: list[float] = field(default_factory=list)
    most_mb: float = 0.0
    acknowledged: int = 0
    missing: int = 0
    doubled: int = 0
    kills: int = 0
    refused: int = 0
    faults: int = 0

    @property
    def ratio(self) -> float:
        """The honest sender's latency at the 95th percentile, against its own when it was alone."""
        return p95(self.busy_ms) / p95(self.quiet_ms)


def p95(values: list[float]) -> float:
    """Return the 95th percentile."""
    return statistics.quantiles(values, n=20)[-1] if len(values) > 1 else float("nan")


def report(text: str = "no berth") -> tuple[str, dict[str, Any]]:
    """Return a small failure and its id."""
    report_id = str(uuid.uuid4())
    now = datetime.now(UTC).isoformat(timespec="milliseconds")
    frames = [{"function": f"quote{n % 9}", "module": "sailings.fares", "file": "sailings/fares.py", "line": n, "own": True} for n in range(20)]  # fmt: skip
    return report_id, {
        "kind": "failure", "id": report_id, "time": now, "severity": "ERROR", "handled": False, "release": "3.0.0",
        "exceptions": [{"type": "LookupError", "message": text, "frames": frames}], "attributes": {"sailing": random.randrange(99)},
    }  # fmt: skip


class Target:
    """The service, in a process of its own, with keys for the honest and for the others."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        opened = listen("127.0.0.1", 0)
        self.port = opened.getsockname()[1]
        service = Service(Settings(data=folder, port=self.port))
        service.ensure_owner()
        running = InThread(service, opened)
        running.start()
        token = service.add_pass("token", 1, "endure", None)
        http = urllib3.PoolManager(retries=False)

        def key(name: str) -> str:
            answer = http.request("POST", f"http://127.0.0.1:{self.port}/api/apps", json={"name": name}, headers={"Authorization": f"Bearer {token}"})  # fmt: skip
            return str(answer.json()["key"])

        self.honest, self.greedy, self.token = key("honest"), key("greedy"), token
        http.clear()
        running.stop()
        opened.close()
        self.url = f"http://127.0.0.1:{self.port}"
        self.log = (folder / "service.log").open("w")
        self.start()

    def start(self) -> None:
        """Start it, and return once it is ready."""
        self.process = subprocess.Popen(
            [sys.executable, "-m", "obitus", "serve", "--data", str(self.folder), "--port", str(self.port)],
            stdout=self.log, stderr=self.log,
        )  # fmt: skip
        ends = time.monotonic() + 30
        while time.monotonic() < ends:
            with contextlib.suppress(urllib3.exceptions.HTTPError):
                if urllib3.request("GET", self.url + "/health", retries=False, timeout=2).status == 200:
                    return
            time.sleep(0.05)
        raise RuntimeError("the service does not start")

    def kill(self) -> None:
        """End it without a word, and start it again."""
        self.process.kill()
        self.process.wait()
        self.start()

    def megabytes(self) -> float:
        """Return what it holds of memory at this moment."""
        with contextlib.suppress(OSError, IndexError):
            for line in Path(f"/proc/{self.process.pid}/status").read_text().splitlines():
                if line.startswith("VmRSS"):
                    return int(line.split()[1]) / 1024
        return 0.0

    def stop(self) -> None:
        """End it as one should."""
        self.process.send_signal(signal.SIGTERM)
        self.process.wait(30)
        self.log.close()


def ask(url: str, method: str, path: str, headers: dict[str, str], body: Any = None) -> int:
    """Ask once; return the status, 0 for a connection that was cut."""
    try:
        with urllib3.PoolManager(retries=False, timeout=20) as http:
            return http.request(method, url + path, body=body, headers=headers).status
    except (urllib3.exceptions.HTTPError, OSError):
        return 0


def hold(port: int, first: bytes, count: int, drip: bytes = b"") -> None:
    """Open connections, say the first words on each, and then next to nothing."""
    held: list[socket.socket] = []
    for _ in range(count):
        with contextlib.suppress(OSError):
            one = socket.create_connection(("127.0.0.1", port), timeout=5)
            one.sendall(first)
            held.append(one)
    for _ in range(20):
        time.sleep(0.5)
        for one in held if drip else ():
            with contextlib.suppress(OSError):
                one.sendall(drip)
    for one in held:
        one.close()


def others(target: Target) -> dict[str, Callable[[], object]]:
    """Return everything that is done to the service, each to be done again and again."""
    url, port = target.url, target.port
    greedy = {"Authorization": f"Bearer {target.greedy}"}
    zst, gz = greedy | {"Content-Encoding": "zstd"}, greedy | {"Content-Encoding": "gzip"}
    proto = gz | {"Content-Type": "application/x-protobuf"}
    js = {"Content-Type": "application/json"}
    newlines = zstandard.compress(b"\n" * (32 * MIB))
    frames = zstandard.compress(b"") * 1_000_000
    members = gzip.compress(b"") * 500_000
    zeros = gzip.compress(bytes(200 * MIB))
    empty = gzip.compress(message(1, message(2, b"\x12\x00" * 1_000_000)))
    texts = ["eyJ-" * 2000, "pwd" * 2600, "pwd=" * 2000, "[parameters: " * 600, "\n\tat a.b(C.java:1)\n" * 400, "set-cookie: " * 600, "key=" * 2000, "(" * 8000]  # fmt: skip
    heavy = b"\n".join(json.dumps(report(text)[1]).encode() for text in texts * 20)
    head = b"POST /reports HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer " + target.greedy.encode()
    return {
        "newlines, packed": lambda: ask(url, "POST", "/reports", zst, newlines),
        "empty frames": lambda: ask(url, "POST", "/reports", zst, frames),
        "empty members": lambda: ask(url, "POST", "/v1/logs", gz | js, members),
        "zeros, packed": lambda: ask(url, "POST", "/reports", gz, zeros),
        "a million empty records": lambda: ask(url, "POST", "/v1/logs", proto, empty),
        "texts made against patterns": lambda: ask(url, "POST", "/reports", greedy, heavy),
        "large bodies of strangers": lambda: ask(url, "POST", "/api/sign-in", js, b"x" * (20 * MIB)),
        "large bodies without a key": lambda: ask(url, "POST", "/api/apps", js, b"x" * (20 * MIB)),
        "large heads": lambda: ask(url, "GET", "/health", {"X": "a" * 500_000}),
        "guesses": lambda: ask(url, "POST", "/api/sign-in", js, json.dumps({"name": "owner", "password": str(random.random())})),
        "slow heads": lambda: hold(port, b"GET /health HTTP/1.1\r\nHost: 127.0.0.1\r\nX", 100, b"x"),
        "slow bodies": lambda: hold(port, head + b"\r\nContent-Length: 90000\r\n\r\n{", 64, b" "),
        "idle connections": lambda: hold(port, b"", 1200),
        "listeners that read nothing": lambda: hold(port, b"GET /api/live HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer " + target.token.encode() + b"\r\n\r\n", 150),
        "made-up requests": lambda: [ask(url, random.choice(["GET", "POST", "PUT", "DELETE"]), _path(), {}, os.urandom(50)) for _ in range(50)],
    }  # fmt: skip


def _path() -> str:
    parts = random.choices(
        [
            "api",
            "issues",
            "1",
            "apps",
            "%00",
            "..",
            "reports",
            "v1",
            "\xff",
            "a" * 300,
            "?window=",
            "&start=0001-01-01",
        ],
        k=4,
    )
    return "/" + "/".join(parts)


def again_and_again(act: Callable[[], object], until_s: float) -> None:
    """Do something until the time is up, with low priority: these share the processors with what they attack."""
    os.sched_setscheduler(0, os.SCHED_IDLE, os.sched_param(0))
    while time.time() < until_s:
        with contextlib.suppress(Exception):
            act()


def send_honestly(target: Target, into: list[float], until_s: float, kept: set[str], found: Found) -> None:
    """Send a small batch every 50 ms, and note how long its acknowledgement takes."""
    http = urllib3.PoolManager(retries=False, timeout=20)
    waiting: list[tuple[str, dict[str, Any]]] = []
    while time.time() < until_s:
        waiting = waiting or [report() for _ in range(3)]
        body = b"\n".join(json.dumps(one).encode() for _, one in waiting)
        started = time.perf_counter()
        try:
            answer = http.request(
                "POST", target.url + "/reports", body=body, headers={"Authorization": f"Bearer {target.honest}"}
            )
        except urllib3.exceptions.HTTPError:
            time.sleep(0.2)
            continue
        if answer.status == 200:
            into.append((time.perf_counter() - started) * 1000)
            kept |= {line["id"] for line in answer.json()["lines"]}
            waiting = []
        elif answer.status in (429, 503, 507):
            found.refused += 1
        else:
            found.faults += 1
            waiting = []
        started = time.perf_counter()
        with contextlib.suppress(urllib3.exceptions.HTTPError):
            http.request("GET", target.url + "/health")
            if into is found.busy_ms:
                found.health_ms.append((time.perf_counter() - started) * 1000)
        found.most_mb = max(found.most_mb, target.megabytes())
        time.sleep(0.05)
    http.clear()


def endure(seconds: float, folder: Path, *, kills: int = 3) -> Found:
    """Run it all; ``seconds`` is the time under attack, a third of it is measured before."""
    target = Target(folder)
    found, kept = Found(), set[str]()
    send_honestly(target, [], time.time() + 1, kept, found)
    send_honestly(target, found.quiet_ms, time.time() + max(3.0, seconds / 3), kept, found)
    fork = multiprocessing.get_context("fork")
    until_s = time.time() + seconds
    at_work = [fork.Process(target=again_and_again, args=(act, until_s)) for act in others(target).values()]
    for one in at_work:
        one.start()
    time.sleep(1)
    send_honestly(target, found.busy_ms, until_s, kept, found)
    for one in at_work:
        one.join(30)
        one.kill()
    for _ in range(kills):
        sender = fork.Process(target=again_and_again, args=(lambda: ask(target.url, "POST", "/reports", {"Authorization": f"Bearer {target.greedy}"}, json.dumps(report()[1])), time.time() + 2))  # fmt: skip
        sender.start()
        send_honestly(target, [], time.time() + random.uniform(0.3, 1.0), kept, found)
        target.kill()
        found.kills += 1
        sender.kill()
        sender.join()
    target.stop()
    connection = sqlite3.connect(folder / "obitus.sqlite3")
    rows = connection.execute("SELECT lower(hex(id)), COUNT(*) FROM reports GROUP BY 1").fetchall()
    connection.close()
    counted = dict(rows)
    ids = {one.replace("-", "") for one in kept}
    found.acknowledged = len(ids)
    found.missing = len(ids - counted.keys())
    found.doubled = sum(counted.get(one, 0) > 1 for one in ids)
    return found


def table(found: Found) -> list[tuple[str, str, str, bool]]:
    """Return what was measured, its bound, and whether it holds."""
    return [
        ("acknowledged, 95th percentile, alone", f"{p95(found.quiet_ms):.1f} ms", "", True),
        ("acknowledged, 95th percentile, under all", f"{p95(found.busy_ms):.1f} ms", f"{LONGEST_RATIO} times", found.ratio <= LONGEST_RATIO),
        ("the one against the other", f"{found.ratio:.2f}", f"{LONGEST_RATIO}", found.ratio <= LONGEST_RATIO),
        ("/health, 95th percentile, under all", f"{p95(found.health_ms):.1f} ms", f"{LONGEST_HEALTH_MS:.0f} ms", p95(found.health_ms) <= LONGEST_HEALTH_MS),
        ("/health, slowest", f"{max(found.health_ms):.0f} ms", f"{LONGEST_HEALTH_MS:.0f} ms", max(found.health_ms) <= LONGEST_HEALTH_MS),
        ("memory at most", f"{found.most_mb:.0f} MB", f"{MOST_MB:.0f} MB", found.most_mb <= MOST_MB),
        ("acknowledged", f"{found.acknowledged:,}", "", True),
        ("of these missing", f"{found.missing:,}", "0", found.missing == 0),
        ("of these there twice", f"{found.doubled:,}", "0", found.doubled == 0),
        ("told to send again (429, 503, 507)", f"{found.refused:,}", "", True),
        ("answered otherwise", f"{found.faults:,}", "0", found.faults == 0),
        ("kills", f"{found.kills}", "", True),
    ]  # fmt: skip


def main() -> None:
    """Endure as long as one says, and print one table."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 60.0
    with tempfile.TemporaryDirectory() as folder:
        found = endure(seconds, Path(folder))
    print(f"{seconds:g} s under fifteen kinds of trouble at once, {os.cpu_count()} processors\n")
    for name, value, bound, holds in table(found):
        print(f"{name:<44} {value:>12}   {f'bound {bound}' if bound else '':<18} {'' if holds else 'NOT HELD'}")
    sys.exit(0 if all(row[3] for row in table(found)) else 1)


if __name__ == "__main__":
    main()
