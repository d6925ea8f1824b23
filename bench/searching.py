"""While log records come in: what ten who search, and ten who follow, take away from intake; how soon a record is seen by one who follows."""

from __future__ import annotations

import http.client
import json
import os
import random
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Final
from urllib.parse import urlencode

import urllib3

from bench.flooding import flood, paced
from bench.live import Served, served
from bench.logs import BATCH, batches
from bench.measuring import row
from obitus.core.ids import uuid7

PEOPLE: Final = 10
THINKS_S: Final = 1.0
"""Between an answer and the next question of one person."""
QUESTIONS: Final = (
    "severity>=WARN", "berth", '"no depth"', "host.name=pier-2", "logger=sailings.fares", "quoted 512", "message~vehicles", "severity=DEBUG host.name=pier-1",
)  # fmt: skip
ROUNDS: Final = 5
PROBES: Final = 200


def measure(folder: Path) -> None:
    """Print a row for each."""
    dice = random.Random(23)

    def bodies() -> list[bytes]:
        return batches(dice)

    with served(folder / "searched") as service:
        key = service.key("sailings")
        flood(service.port, key, bodies(), BATCH)
        for what in ("search", "follow"):
            alone, beside, ratio = _in_turns(service, key, bodies, what)
            row(f"log records/s while {PEOPLE} {what} / nobody", f"{beside:,.0f}/s", f"{alone:,.0f}/s", ratio)
        quiet = _seen(service, key, 50)
        # What one key may have while others send is bounded.
        keys = [service.key(f"pier-{number}") for number in range(8)]
        with paced(service.port, keys, bodies, BATCH, alone / 2) as sent:
            time.sleep(1)
            waits = _seen(service, service.key("gatekeeper"), PROBES)
        last, middle = statistics.quantiles(waits, n=100)[98], statistics.median(quiet)
        row(f"log to seen by who follows at {sent.rate():,.0f}/s, p99 / quiet, median", f"{last * 1e3:.0f} ms", f"{middle * 1e3:.0f} ms", last / middle)  # fmt: skip
        print(f"    median {statistics.median(waits) * 1e3:.0f} ms, slowest of {PROBES} {max(waits) * 1e3:.0f} ms")


def _in_turns(service: Served, key: str, bodies: Callable[[], list[bytes]], what: str) -> tuple[float, float, float]:
    """Return the medians of intake alone, and while people do something, and of what one is to the other.

    Each time is set beside the times alone before and after it: what the machine gives changes from minute to minute.
    """
    alone, beside = [flood(service.port, key, bodies(), BATCH)], []
    for place in range(ROUNDS):
        token = service.ask("POST", "/api/me/tokens", {"label": f"{what} {place}", "scope": "read", "days": 1})["token"]
        command = [sys.executable, "-m", "bench.searching", what, str(service.port), token]
        with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as people:
            assert people.stdout is not None and people.stdout.readline() == "ready\n"
            beside.append(flood(service.port, key, bodies(), BATCH))
            assert people.poll() is None, f"who should {what} was cut off"
            people.terminate()
        alone.append(flood(service.port, key, bodies(), BATCH))
    ratios = [2 * one / (before + after) for one, before, after in zip(beside, alone, alone[1:], strict=False)]
    return statistics.median(alone), statistics.median(beside), statistics.median(ratios)


def _seen(service: Served, key: str, times: int) -> list[float]:
    """Return the seconds from when a log record is made until one who follows has it."""
    waits: list[float] = []
    made: dict[str, float] = {}
    connection = http.client.HTTPConnection("127.0.0.1", service.port)
    connection.request(
        "GET", "/api/records/logs/tail?question=probe&window=1h", headers={"Authorization": f"Bearer {service.token}"}
    )
    answer = connection.getresponse()
    sender = urllib3.HTTPConnectionPool("127.0.0.1", service.port)
    assert answer.status == 200, answer.read()
    while b"event: open" not in answer.readline():
        pass
    for number in range(times):
        text = f"probe n{number}"
        report = {
            "kind": "log",
            "id": str(uuid7(time.time_ns() // 1_000_000, random.randbytes(10))),
            "time": datetime.now(UTC).isoformat(),
            "severity": "INFO",
            "message": text,
        }
        made[text] = time.perf_counter()
        said = sender.request(
            "POST",
            "/reports",
            body=json.dumps(report).encode(),
            headers={"Authorization": f"Bearer {key}", "Content-Type": "application/x-ndjson"},
        )
        assert said.status == 200, said.data
        while True:
            line = answer.readline()
            assert line, "the stream ended"
            if line.startswith(b"data:") and text.encode() in line:
                waits.append(time.perf_counter() - made[text])
                break
    connection.close()
    return waits


def _people(what: str, port: int, token: str) -> None:
    """Be ten people, each with a connection of their own."""
    headers = {"Authorization": f"Bearer {token}"}
    started = threading.Barrier(PEOPLE + 1)

    def search(place: int) -> None:
        connection = http.client.HTTPConnection("127.0.0.1", port)
        dice = random.Random(place)
        started.wait()
        while True:
            connection.request("GET", f"/api/records/logs?{_query(dice.choice(QUESTIONS))}", headers=headers)
            answer = connection.getresponse()
            answer.read()
            assert answer.status == 200
            time.sleep(THINKS_S)

    def follow(place: int) -> None:
        connection = http.client.HTTPConnection("127.0.0.1", port)
        connection.request(
            "GET", f"/api/records/logs/tail?{_query(QUESTIONS[place % len(QUESTIONS)])}", headers=headers
        )
        answer = connection.getresponse()
        assert answer.status == 200, answer.read()
        started.wait()
        while answer.readline():
            pass
        # Who is cut off costs nothing: that would be no measurement.
        os._exit(1)

    for place in range(PEOPLE):
        threading.Thread(target=search if what == "search" else follow, args=(place,), daemon=True).start()
    started.wait()
    print("ready", flush=True)
    threading.Event().wait()


def _query(question: str) -> str:
    return urlencode({"question": question, "window": "1h"})


def main() -> None:
    """Measure; or be the ten."""
    if len(sys.argv) > 1:
        _people(sys.argv[1], int(sys.argv[2]), sys.argv[3])
        return
    with tempfile.TemporaryDirectory() as place:
        measure(Path(place))


if __name__ == "__main__":
    main()
