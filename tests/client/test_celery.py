"""Celery with a real worker and a real queue: each task is a run of the trace that gave it."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from tests import kept
from tests.client.places.matrix import note
from tests.client.programs import environment_for, run, write
from tests.conftest import Running

APP = """
    import obitus
    obitus.watch()
    from celery import Celery
    app = Celery("gatekeeper", broker="filesystem://", broker_transport_options={
        "data_folder_in": "queue", "data_folder_out": "queue", "control_folder": "control"})
    app.conf.task_default_retry_delay = 0
    app.conf.worker_hijack_root_logger = False

    @app.task(name="gatekeeper.print_pass")
    def print_pass(passenger):
        obitus.mark(f"printing for {passenger}")
        raise LookupError(passenger)

    @app.task(name="gatekeeper.heartbeat")
    def heartbeat(): return 1

    @app.task(name="gatekeeper.flaky", bind=True, max_retries=1)
    def flaky(self):
        if self.request.retries == 0:
            raise self.retry(countdown=0)
"""
GIVE = """
    import obitus
    import gatekeeper
    from obitus.client import runs
    with obitus.run("POST /passes"):
        for name in ("p-101", "p-102"): gatekeeper.print_pass.delay(name)
        gatekeeper.heartbeat.delay()
        gatekeeper.flaky.delay()
        print(runs.current.get().trace_id)
"""


@pytest.mark.parametrize("pool", ["solo", "prefork"])
def test_tasks(running: Running, tmp_path: Path, pool: str) -> None:
    """A task that raises is a failure of its own run, in the trace of whoever gave it; all tasks are counted."""
    key = running.add_app()
    for folder in ("queue", "control"):
        (tmp_path / folder).mkdir()
    write(tmp_path, APP, "gatekeeper.py")
    given = run(running, key, tmp_path, GIVE, PYTHONPATH=str(tmp_path))
    assert given.returncode == 0, given.stderr
    trace = given.stdout.strip()
    worker = subprocess.Popen(
        [sys.executable, "-m", "celery", "-A", "gatekeeper", "worker", "-P", pool, "-c", "2", "-l", "WARNING", "--without-mingle", "--without-gossip"],
        cwd=tmp_path, env=environment_for(running, key), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        for _ in range(400):
            rows = running.service.records.reader.rows(
                "SELECT SUM(runs) AS n FROM run_counts WHERE entry_point LIKE 'job %'"
            )
            if (rows[0]["n"] or 0) >= 5:
                break
            time.sleep(0.1)
    finally:
        worker.terminate()
        worker.wait(30)
    rows = running.service.records.reader.rows(
        "SELECT entry_point, outcome, SUM(runs) AS n FROM run_counts GROUP BY 1, 2"
    )
    counted = {(row["entry_point"], row["outcome"]): row["n"] for row in rows}
    assert counted["job gatekeeper.print_pass", "failed"] == 2 and counted["job gatekeeper.heartbeat", "ok"] == 1
    assert counted["job gatekeeper.flaky", "failed"] == 1 and counted["job gatekeeper.flaky", "ok"] == 1
    reports = kept.reports(running.service, "failure")
    assert sorted(report["exceptions"][0]["message"] for report in reports) == ["p-101", "p-102"]
    for report in reports:
        name = report["exceptions"][0]["message"]
        assert report["captured_by"] == "celery" and report["handled"] is False
        assert report["run"]["entry_point"] == "job gatekeeper.print_pass" and report["trace_id"] == trace
        assert [crumb["message"] for crumb in report["trail"]] == [f"printing for {name}"]
    # Each of these was asserted above, for two tasks that fail and three that do not.
    note(
        f"Celery, {pool}",
        "jobs",
        dict.fromkeys(("reported once", "route", "request", "unhandled", "app unchanged"), True),
    )


HARD = """
    import obitus
    obitus.watch()
    import os, sys, threading, time
    from celery import Celery
    app = Celery("gate", broker="filesystem://", backend="file://" + os.getcwd() + "/results", broker_transport_options={
        "data_folder_in": "queue", "data_folder_out": "queue", "control_folder": "control"})

    @app.task(name="gate.hard", time_limit=5)
    def hard():
        obitus.mark("printing")
        time.sleep(60)

    @app.task(name="gate.soft", soft_time_limit=3)
    def soft(): time.sleep(60)

    @app.task(name="gate.killed")
    def killed():
        obitus.mark("about to go")
        time.sleep(1.2)
        os.kill(os.getpid(), 9)

    @app.task(name="gate.leaves")
    def leaves(): sys.exit(3)

    @app.task(name="gate.expected", throws=(KeyError,))
    def expected(): raise KeyError("no berth, as so often")

    @app.task(name="gate.member")
    def member(n):
        if n: raise ValueError(f"member {n}")

    @app.task(name="gate.total")
    def total(results): return results

    @app.task(name="gate.thread")
    def thread():
        inner = threading.Thread(target=lambda: 1 / 0)
        inner.start(); inner.join()
"""
GIVE_HARD = """
    import gate
    from celery import chord
    for task in (gate.thread, gate.soft, gate.hard, gate.expected, gate.leaves, gate.killed): task.delay()
    chord([gate.member.s(0), gate.member.s(1)])(gate.total.s())
"""


@pytest.mark.timeout(600)
def test_hard_ends_of_tasks(running: Running, tmp_path: Path) -> None:
    """Time limits, a lost worker, an exit, an expected exception, a failed chord, a failing thread: one failure each, on its own task's run.

    After all that the worker ends by a warm shutdown as it should.
    """
    key = running.add_app()
    for folder in ("queue", "control", "results"):
        (tmp_path / folder).mkdir()
    write(tmp_path, HARD, "gate.py")
    given = run(running, key, tmp_path, GIVE_HARD, PYTHONPATH=str(tmp_path))
    assert given.returncode == 0, given.stderr
    wanted = {
        ("job gate.thread", "division by zero"),
        ("job gate.soft", "SoftTimeLimitExceeded()"),
        ("job gate.hard", "TimeLimitExceeded(5,)"),
        ("job gate.leaves", "3"),
        ("job gate.member", "member 1"),
    }

    def found() -> list[dict[str, Any]]:
        reports = kept.reports(running.service, "failure")
        return [report for report in reports if report["run"]["entry_point"].startswith("job ")]

    worker = subprocess.Popen(
        [sys.executable, "-m", "celery", "-A", "gate", "worker", "-P", "prefork", "-c", "2", "-l", "INFO", "--without-mingle", "--without-gossip"],
        cwd=tmp_path, env=environment_for(running, key), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
    )  # fmt: skip
    try:
        ends = time.monotonic() + 240
        while time.monotonic() < ends and len(found()) < len(wanted) + 1:
            time.sleep(0.2)
    finally:
        worker.terminate()
        try:
            left = worker.wait(60)
        except subprocess.TimeoutExpired:
            left = "did not end"
            os.killpg(worker.pid, signal.SIGKILL)
            worker.wait(30)
    assert left == 0
    run(running, key, tmp_path, "import obitus\nobitus.watch()\nobitus.flush(60)")
    told = {(report["run"]["entry_point"], report["exceptions"][0]["message"]): report for report in found()}
    lost = [point for point, message in told if message.startswith("Worker exited prematurely")]
    assert (lost, len(found())) == (["job gate.killed"], len(wanted) + 1), [
        (r["run"]["entry_point"], r["exceptions"][0]["message"], r["captured_by"]) for r in found()
    ]
    assert wanted <= set(told), set(told)
    assert not any(report["handled"] for report in told.values())
    assert [crumb["message"] for crumb in told["job gate.hard", "TimeLimitExceeded(5,)"]["trail"]][-1] == "printing"
    rows = running.service.records.reader.rows(
        "SELECT entry_point, outcome, SUM(runs) AS n FROM run_counts GROUP BY 1, 2"
    )
    counted = {(row["entry_point"], row["outcome"]): row["n"] for row in rows}
    assert counted["job gate.expected", "refused"] == 1
    for name in ("soft", "hard", "leaves", "killed", "member"):
        assert counted[f"job gate.{name}", "failed"] == 1, counted
    assert len(kept.numbers(running.service.records.days, "log")) < 30
