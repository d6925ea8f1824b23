"""The service is killed in the middle of a load: every acknowledged report is there, once."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import urllib3

from obitus.store.database import Reader
from obitus.store.days.reading import DayReaders
from tests import kept
from tests.client.programs import free_port
from tests.conftest import failure, raised_in

REPORTS = 5000
BATCH = 25
SENDERS = 4


def serve(data: Path, port: int) -> subprocess.Popen[str]:
    command = [sys.executable, "-m", "obitus", "serve", "--data", str(data), "--port", str(port)]
    started = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True, env=os.environ | {"PYTHONUNBUFFERED": "1"})  # fmt: skip
    for _ in range(1200):
        try:
            if urllib3.request("GET", f"http://127.0.0.1:{port}/health", retries=False, timeout=1).status == 200:
                return started
        except urllib3.exceptions.HTTPError:
            time.sleep(0.05)
    raise AssertionError("the service did not start")


def stop(service: subprocess.Popen[str], how: signal.Signals) -> None:
    service.send_signal(how)
    service.wait(60)
    assert service.stdout is not None
    service.stdout.close()


def test_kill_in_the_middle_of_a_load(tmp_path: Path) -> None:
    """kill -9 during 5,000 reports from four senders, a restart, and all of it sent again: none lost, none doubled."""
    data, port = tmp_path / "data", free_port()
    service = serve(data, port)
    assert service.stdout is not None
    link = next(found for line in service.stdout if (found := re.search(r"http://\S+#(\S+)", line)))
    base = f"http://127.0.0.1:{port}"
    token = urllib3.request(
        "POST", base + "/api/sign-in", json={"link": link[1], "token_label": "t"}, timeout=150
    ).json()["token"]
    key = urllib3.request("POST", base + "/api/apps", json={"name": "sailings"}, headers={"Authorization": f"Bearer {token}"}, timeout=150).json()["key"]  # fmt: skip

    reports = [failure(exceptions=raised_in("m", f"f{i % 50}", message=str(i))) for i in range(REPORTS)]
    batches = [reports[i : i + BATCH] for i in range(0, REPORTS, BATCH)]
    acknowledged: set[str] = set()
    unanswered: list[list[dict[str, object]]] = []
    enough = threading.Event()

    def send(batch: list[dict[str, object]], pool: urllib3.PoolManager) -> bool:
        body = "\n".join(json.dumps(report) for report in batch).encode()
        try:
            answer = pool.request(
                "POST", base + "/reports", body=body, headers={"Authorization": f"Bearer {key}"}, timeout=10
            )
        except urllib3.exceptions.HTTPError:
            return False
        if answer.status != 200:
            return False
        acknowledged.update(line["id"] for line in answer.json()["lines"] if line["verdict"] != "refused")
        if len(acknowledged) > REPORTS // 4:
            enough.set()
        return True

    def sender(number: int) -> None:
        pool = urllib3.PoolManager(retries=False)
        for batch in batches[number::SENDERS]:
            if not send(batch, pool):
                unanswered.append(batch)

    threads = [threading.Thread(target=sender, args=(number,)) for number in range(SENDERS)]
    for thread in threads:
        thread.start()
    assert enough.wait(60)
    stop(service, signal.SIGKILL)
    for thread in threads:
        thread.join()
    assert unanswered and REPORTS // 4 < len(acknowledged) < REPORTS

    service = serve(data, port)
    before = set(acknowledged)
    counts = Reader(data / "obitus.sqlite3")
    days = DayReaders(data / "days", counts)
    there = set(kept.ids(days))
    assert {identifier.replace("-", "") for identifier in before} <= there
    pool = urllib3.PoolManager(retries=False)
    assert all(send(batch, pool) for batch in batches)
    assert len(acknowledged) == REPORTS
    there_now = kept.ids(days)
    assert (len(there_now), len(set(there_now))) == (REPORTS, REPORTS)
    sums = counts.one("SELECT SUM(failures) AS n, COUNT(*) AS issues FROM issues")
    assert (sums["n"], sums["issues"]) == (REPORTS, 50)
    assert counts.one("SELECT SUM(failures) AS n FROM issue_counts")["n"] == REPORTS
    assert counts.one("PRAGMA integrity_check")[0] == "ok"
    for known in days.known():
        assert days.rows(known.day, "PRAGMA integrity_check")[0][0] == "ok"
    days.close()
    counts.close()
    stop(service, signal.SIGINT)
