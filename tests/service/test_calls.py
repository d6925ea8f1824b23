"""Who calls whom: from runs that were sent whole, which stand for all, and from traces, whichever side comes first."""

from __future__ import annotations

import itertools
import uuid
from typing import Any

import pytest

from obitus.store import calling
from tests.conftest import Running
from tests.service.test_now import at, tally

TRACE = uuid.uuid4().hex


def called(url: str, took_ms: float = 8, severity: str = "INFO") -> dict[str, Any]:
    about = {"url.full": url, "duration_ms": took_ms}
    return {"kind": "http", "time": at(3), "severity": severity, "message": "x", "attributes": about}


def statement(took_ms: float = 1) -> dict[str, Any]:
    about = {"db.system.name": "sqlite", "db.query.text": "SELECT ?", "duration_ms": took_ms}
    return {"kind": "statement", "time": at(3), "message": "x", "attributes": about}


def whole(entry_point: str, *trail: dict[str, Any], ms: float = 40, outcome: str = "ok", **more: Any) -> dict[str, Any]:
    run = {"id": str(uuid.uuid4()), "entry_point": entry_point, "outcome": outcome, "duration_ms": ms} | more.pop(
        "run", {}
    )
    report = {
        "kind": "run",
        "id": str(uuid.uuid4()),
        "time": at(2),
        "release": "3.1.0",
        "run": run,
        "trail": list(trail),
    }
    return report | more


def asked(running: Running, query: str = "window=30m") -> dict[str, Any]:
    return running.get(f"/api/calls?{query}")


def line(answer: dict[str, Any], target: str) -> dict[str, Any]:
    (found,) = [one for one in answer["lines"] if one["target"] == target]
    return found


def test_each_run_stands_for_those_that_ended_like_it(running: Running) -> None:
    """Of 100 healthy runs two were sent whole, of 4 failed ones all."""
    key = running.add_app()
    tides = "https://tides.example/depth"
    healthy = [whole("GET /fares", called(tides, 8), statement(), ms=20) for _ in range(2)]
    bad = [whole("GET /fares", called(tides, 2600, "ERROR"), ms=2700, outcome="failed") for _ in range(4)]
    running.send(key, tally(100, 2), tally(4, 2, outcome="failed", status=500), *healthy, *bad)
    # The same once more: sent twice, counted once.
    running.send(key, *healthy, *bad)
    answer = asked(running)
    assert (answer["runs"], answer["whole"]) == (104, 6)
    found = line(answer, "tides.example")
    assert (found["calls"], found["failed"], found["median_below_ms"], found["p95_below_ms"]) == (104, 4, 10, 10)
    assert (found["kind"], found["to_app"]) == ("http", None)
    assert line(answer, "sqlite")["calls"] == 100
    (point,) = answer["points"]
    assert point["runs"] == 104 and point["mean_ms"] == pytest.approx((100 * 20 + 4 * 2700) / 104, abs=0.001)
    shares = {one["target"]: one["share"] for one in point["spent_with"]}
    took = 100 * 20 + 4 * 2700
    assert shares == {"tides.example": round((100 * 8 + 4 * 2600) / took, 4), "sqlite": round(100 / took, 4)}
    # Every line leads to its runs.
    query = 'app=sailings calls~"http tides.example"'
    assert len(running.get(f"/api/records/runs?question={query.replace(' ', '%20')}")["records"]) == 6
    assert asked(running, "window=30m&environment=staging")["lines"] == []
    assert asked(running, "window=30m&release=9.9")["lines"] == []
    (now,) = [one for one in running.get("/api/now?window=30m")["called"] if one["target"] == "tides.example"]
    assert (now["calls"], now["failed"], now["calls_before"], now["p95_below_ms_before"]) == (104, 4, 0, None)


def test_a_host_that_is_one_of_our_apps(running: Running) -> None:
    """What an app answers at is that app, wherever it is called from."""
    board, sailings = running.add_app("pierboard"), running.add_app("sailings")
    running.send(board, whole("page /board", called("https://sailings.example/timetable")))
    running.send(sailings, whole("GET /timetable", request={"method": "GET", "url": "https://sailings.example/timetable", "status": 200}))  # fmt: skip
    answer = asked(running)
    (found,) = answer["lines"]
    assert (found["app"], found["kind"], found["to_app"]) == ("pierboard", "http", "sailings")
    assert [one["app"] for one in answer["apps"]] == ["pierboard", "sailings"]


@pytest.mark.parametrize("caller_first", [True, False])
@pytest.mark.parametrize("by_step", [True, False])
def test_one_trace_across_apps(running: Running, caller_first: bool, by_step: bool) -> None:
    """The span that called is the caller's run, or one of its steps; either side may come first, and twice."""
    sailings, gatekeeper = running.add_app("sailings"), running.add_app("gatekeeper")
    steps = [{"kind": "mark", "time": at(3), "message": "put", "attributes": {"span_id": "b" * 16}}] if by_step else []
    caller = whole("POST /boardings", *steps, trace_id=TRACE, span_id="a" * 16)
    parent = {"parent_span_id": ("b" if by_step else "a") * 16}
    jobs = [whole("job print-pass", outcome=outcome, trace_id=TRACE, run=parent) for outcome in ("ok", "failed")]
    own = whole("job tidy", trace_id=TRACE, run={"parent_span_id": "a" * 16})
    sends = [(sailings, caller, own), (gatekeeper, *jobs)]
    for key, *reports in itertools.chain(sends if caller_first else reversed(sends), sends):
        assert running.send(key, *reports).json()["refused"] == 0
    (found,) = asked(running)["lines"]
    assert (found["app"], found["kind"], found["to_app"]) == ("sailings", "app", "gatekeeper")
    assert (found["calls"], found["failed"], found["p95_below_ms"]) == (2, 1, 50)
    assert asked(running, "window=30m&app=gatekeeper")["lines"] == [found]
    # Nobody waits for ever.
    writer = running.service.records.writer
    later = running.clock() + calling.SPANS_KEPT_MS + 1000
    assert writer.run(lambda c: calling.prune_spans(c, later)) > 0
    assert writer.run(lambda c: calling.prune_spans(c, later)) == 0


def test_hosts_without_end(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """Of so many hosts some are kept apart; the others are counted together, and a host that is said to be ours is not kept."""
    monkeypatch.setattr("obitus.store.names.MOST_TARGETS", 3)
    key = running.add_app()
    running.send(key, *(whole("GET /fares", called(f"http://h{number}/")) for number in range(10)))
    made_up = [
        whole("GET /", request={"method": "GET", "url": f"http://x{number}/", "status": 200}) for number in range(10)
    ]
    running.send(key, *made_up)
    answer = asked(running)
    assert len(answer["lines"]) == 4 and line(answer, "…")["calls"] == 7
    assert len(running.service.records.reader.rows("SELECT * FROM answered_at")) <= 4


def test_an_app_that_is_removed(running: Running) -> None:
    """Nothing is left of it."""
    sailings, gatekeeper = running.add_app("sailings"), running.add_app("gatekeeper")
    running.send(sailings, whole("GET /fares", called("http://h/"), span_id="a" * 16, request={"method": "GET", "url": "http://s/"}))  # fmt: skip
    running.send(gatekeeper, whole("job x", run={"parent_span_id": "a" * 16}))
    assert len(asked(running)["lines"]) == 2
    assert running.ask("DELETE", "/api/apps/sailings?name=sailings").status in (200, 204)
    assert asked(running)["lines"] == []
