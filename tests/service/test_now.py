"""What is happening now: each figure agrees with the reports behind it, in its window and in the one before."""

from __future__ import annotations

import uuid
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from obitus.core.clock import DAY_MS, MINUTE_MS
from obitus.store import now as store
from obitus.store.calling import SLOTS_KEPT_MS
from tests.conftest import Running, failure, raised_in
from tests.service.test_records import log


def at(minutes_ago: float) -> str:
    return (datetime.now(UTC) - timedelta(minutes=minutes_ago)).isoformat(timespec="milliseconds")


def tally(runs: int, minutes_ago: float, entry_point: str = "GET /fares", **more: Any) -> dict[str, Any]:
    report = {
        "kind": "tally",
        "id": str(uuid.uuid4()),
        "time": at(minutes_ago),
        "entry_point": entry_point,
        "runs": runs,
    }
    return report | {"outcome": "ok", "release": "3.1.0", "status": 200, "duration_ms_below": 25} | more


def failed(minutes_ago: float, kind: str = "KeyError", **more: Any) -> dict[str, Any]:
    return failure(
        time=at(minutes_ago), release="3.1.0", exceptions=raised_in("sailings.fares", kind.lower(), kind), **more
    )


def test_agrees_with_what_was_reported(running: Running) -> None:
    """Runs, failed runs, failures, durations, codes, types; by entry point; beside the half hour before."""
    key = running.add_app()
    reports = [
        tally(80, 11), tally(15, 11, duration_ms_below=250), tally(5, 11, outcome="failed", status=500, duration_ms_below=5000),
        tally(40, 47), tally(3, 47, outcome="refused", status=422), tally(7, 12, "job manifest", status=None, duration_ms_below=None),
        tally(1000, 3000), *(failed(number) for number in (10, 12, 14, 45)), failed(11, "ValueError"), failed(9000),
        log("quiet", 600), *(log("no confirmation", 600, severity="WARN", logger="sailings.mail") for _ in range(3)),
    ]  # fmt: skip
    reports[5].pop("status"), reports[5].pop("duration_ms_below")
    assert running.send(key, *reports).json()["refused"] == 0
    seen = running.get("/api/now?window=30m")
    assert (seen["runs"]["now"], seen["runs"]["before"]) == (107, 43)
    assert (seen["failed"]["now"], seen["failed"]["before"]) == (5, 0)
    assert (seen["failures"]["now"], seen["failures"]["before"]) == (4, 1)
    for name in ("runs", "failed", "failures"):
        assert (
            sum(seen[name]["over_time"]) == seen[name]["now"]
            and sum(seen[name]["over_time_before"]) == seen[name]["before"]
        )
        assert len(seen[name]["over_time"]) == len(seen[name]["over_time_before"]) == len(seen["slices"])
    assert seen["slice_ms"] == 5 * MINUTE_MS and seen["unfinished"] == 1
    fares, manifest = seen["points"]
    assert fares == {
        "app": "sailings", "entry_point": "GET /fares", "runs": 100, "failed": 5, "refused": 0, "runs_before": 43, "failed_before": 0,
        "median_below_ms": 25, "p95_below_ms": 250, "p95_below_ms_before": 25,
    }  # fmt: skip
    assert (manifest["entry_point"], manifest["runs"], manifest["p95_below_ms"]) == ("job manifest", 7, None)
    assert [(one["type"], one["failures"], one["before"]) for one in seen["types"]] == [
        ("KeyError", 3, 1),
        ("ValueError", 1, 0),
    ]
    assert [(one["status"], one["runs"], one["before"]) for one in seen["statuses"]] == [
        (200, 95, 40),
        (422, 0, 3),
        (500, 5, 0),
    ]
    assert [one["title"] for one in seen["new"]] == ["ValueError in sailings.fares.valueerror"]
    assert seen["loggers"] == [{"logger": "sailings.mail", "records": 3}]


def test_long_windows_and_narrowed_ones(running: Running) -> None:
    """By hours where a window is long; of one app, environment and release alone."""
    key = running.add_app()
    other = running.add_app("gatekeeper", "staging")
    running.send(key, tally(10, 60), tally(4, 60 * 24 * 6), failed(60), failed(60 * 24 * 6))
    running.send(other, tally(2, 60, "job print-pass", release="2.0.0"), failed(60, "OSError"))
    week = running.get("/api/now?window=7d")
    assert week["slice_ms"] % 3_600_000 == 0 and week["runs"]["now"] == 16 and week["failures"]["now"] == 3
    assert sum(week["failures"]["over_time"]) == 3
    for query, runs, failures in (("app=gatekeeper", 2, 1), ("environment=production", 14, 2), ("release=2.0.0", 2, 0), ("app=nowhere", 0, 0)):  # fmt: skip
        for window in ("7d", "8d"):
            seen = running.get(f"/api/now?window={window}&{query}")
            assert (seen["runs"]["now"], seen["failures"]["now"]) == (runs, failures), query
            assert sum(one["failures"] for one in seen["types"]) == failures, query
    seen = running.get("/api/now?window=2h&app=sailings")
    assert (seen["runs"]["now"], seen["failures"]["now"]) == (10, 1)


def test_regressed_and_deployed(running: Running) -> None:
    """What came back in the window, and which release arrived in it."""
    key = running.add_app()
    running.send(key, failed(60 * 24))
    running.ask("POST", "/api/issues/1/settle", {"how": "now"})
    assert running.get("/api/now?window=30m")["regressed"] == []
    running.send(key, failed(0))
    seen = running.get("/api/now?window=30m")
    assert [(one["issue"], one["state"]) for one in seen["regressed"]] == [(1, "regressed")] and seen["new"] == []
    running.ask("POST", "/api/deploys", {"app": "sailings", "release": "3.2.0", "environment": "production"})
    assert [one["release"] for one in running.get("/api/now?window=30m")["deploys"]] == ["3.2.0"]


def test_nothing_yet(running: Running) -> None:
    seen = running.get("/api/now")
    assert seen["runs"]["now"] == 0 and seen["points"] == seen["types"] == seen["new"] == []
    assert running.ask("GET", "/api/now?window=soon").json()["slug"] == "bad-window"


@pytest.mark.parametrize("growing", [False, True], ids=["whole", "growing"])
def test_old_slots_go_and_hours_stay(running: Running, growing: bool) -> None:
    """Runs are counted by five minutes for some days; a tally that grows adds what is new of it, there too."""
    key = running.add_app()
    report = tally(3, 2, grows=growing)
    running.send(key, report)
    running.send(key, report | {"runs": 5})
    wanted = 5 if growing else 3
    assert running.get("/api/now?window=30m")["runs"]["now"] == wanted
    assert running.get("/api/now?window=10d")["runs"]["now"] == wanted
    writer, later = running.service.records.writer, running.clock() + SLOTS_KEPT_MS + DAY_MS
    assert writer.run(lambda c: store.prune(c, later)) == 1
    assert writer.run(lambda c: store.prune(c, later)) == 0
    assert running.get("/api/now?window=10d")["runs"]["now"] == wanted
    # What comes so late is counted by the hour alone.
    running.send(key, tally(4, 60 * 24 * 5))
    assert writer.run(lambda c: store.prune(c, running.clock())) == 0
