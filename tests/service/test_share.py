"""A key that has had more than its share, and an address that is turned away again and again, wait; others do not."""

from __future__ import annotations

import asyncio
import os
import threading
import time
from dataclasses import replace
from pathlib import Path

import pytest

from obitus.service.intake.bodies import Gate
from obitus.service.problems import Problem
from obitus.service.refusal_delays import WAIT_S, Patience
from obitus.service.settings import Limits
from tests.conftest import failure, start
from tests.service.test_tracepoints import added, hit


def test_a_key_has_its_share(monkeypatch: pytest.MonkeyPatch) -> None:
    """Alone a key may have all; while others send, what is beyond its burst is paid back first."""
    limits = Limits()
    gate, now = Gate(limits), [100.0]
    monkeypatch.setattr(time, "monotonic", lambda: now[0])

    async def enter(key: int, work_s: float) -> bool:
        try:
            async with gate.entered(key) as held:
                held.spend(work_s)
        except Problem as problem:
            assert problem.slug == "too-busy" and problem.retry_after_s is not None and 1 <= problem.retry_after_s <= 30
            return False
        return True

    def entered(key: int, work_s: float) -> bool:
        return asyncio.run(enter(key, work_s))

    for _ in range(5):
        assert entered(1, 2.0)
    assert entered(2, 0.01) and not entered(1, 2.0) and entered(2, 0.01)
    now[0] += 10 / limits.share_of_a_key
    assert entered(2, 0.01) and entered(1, 2.0)
    now[0] += 3.5
    # Nobody else has sent for a while.
    assert entered(1, 2.0)
    assert gate.requests == 0 and gate.bytes == 0


def test_who_is_turned_away_again_and_again_waits(tmp_path: Path) -> None:
    """The answers to many refused requests come late; those that are taken, from the same address, do not."""
    thread, running = start(tmp_path, limits=replace(Limits(), refusals_at_once=3, refusals_a_second=0.01))
    try:
        key = running.add_app()
        took = []
        for _ in range(5):
            started = time.monotonic()
            assert running.ask("GET", "/api/me", token="otok_guess").status == 401
            took.append(time.monotonic() - started)
        assert took[-1] >= WAIT_S * 0.9 and took[0] < took[-1]
        assert running.send(key, failure()).json()["stored"] == 1
    finally:
        running.http.clear()
        thread.stop()


def test_patience_is_bounded() -> None:
    """However many addresses are turned away, only the latest are remembered."""
    patience = Patience(Limits())

    async def many() -> None:
        for n in range(11_000):
            await patience.wait(f"10.0.{n // 256}.{n % 256}")

    asyncio.run(many())
    assert len(patience._turned_away) == 10_000


def test_what_takes_long_for_people_holds_no_report_up(tmp_path: Path) -> None:
    """While all threads that the event loop lends wait for something, reports are taken and people are let in."""
    thread, running = start(tmp_path)
    done, held = threading.Event(), threading.Semaphore(0)

    def hold() -> None:
        held.release()
        done.wait(60)

    try:
        key, loop = running.add_app(), running.service.live._loop
        assert loop is not None
        point = added(running, hits=1)["id"]
        for _ in range(64):
            loop.call_soon_threadsafe(loop.run_in_executor, None, hold)
        # As many as an executor has that nobody gave a number (``concurrent.futures``).
        assert all(held.acquire(timeout=120) for _ in range(min(32, (os.cpu_count() or 1) + 4)))
        assert running.send(key, failure()).json()["stored"] == 1
        log = {"timeUnixNano": str(time.time_ns()), "severityNumber": 17, "body": {"stringValue": "no berth"}}
        exported = {"resourceLogs": [{"scopeLogs": [{"logRecords": [log]}]}]}
        headers = {"Authorization": f"Bearer {key}"}
        answer = running.http.request("POST", running.url + "/v1/logs", json=exported, headers=headers)
        assert (answer.status, answer.json()) == (200, {})
        assert len(running.get("/api/issues")["issues"]) == 1
        assert running.send(key, hit(point)).json()["stored"] == 1
        assert not running.get(f"/api/tracepoints/{point}")["tracepoint"]["active"]
        assert running.ask("GET", "/api/me", token="otok_guess").status == 401
        assert running.ask("GET", "/health", token="").status == 200
    finally:
        done.set()
        thread.stop()
