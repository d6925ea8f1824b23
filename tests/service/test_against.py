"""Failing runs against healthy ones over HTTP and on the command line: the turning point, and what failing runs have in common."""

from __future__ import annotations

import json
import uuid
from typing import Any

from tests.cli.test_grouping import obitus
from tests.conftest import Running, failure, raised_in
from tests.service.test_now import tally
from tests.service.test_timeline import at, step


def whole(number: int, *, outcome: str = "ok", host: str = "pier-1", rows: int = 1, run: str = "") -> dict[str, Any]:
    """One run: a berth is looked up, the tide service asked, the fare written."""
    found = {"db.query.text": "select berth where pier = ?", "duration_ms": 2, "db.response.returned_rows": rows}
    depth = {"url.full": "https://tides.example/depth", "http.response.status_code": 200, "duration_ms": 40}
    trail = [
        step("statement", "SELECT in 2 ms", 10, attributes=found),
        step("http", "GET tides.example/depth → 200", 60, attributes=depth),
    ]
    if outcome == "ok":
        trail.append(step("log", f"fare {number} written", 70, attributes={"logger": "fares"}))
    about = {
        "id": run or str(uuid.uuid4()),
        "entry_point": "GET /fares",
        "started": at(0),
        "duration_ms": 80,
        "outcome": outcome,
    }
    return {"kind": "run", "id": str(uuid.uuid4()), "time": at(80 + number), "run": about, "trail": trail, "attributes": {"host.name": host, "user.id": f"p-{number}"}}  # fmt: skip


def fill(running: Running, healthy: int = 40, failing: int = 12) -> str:
    """Failing runs find no berth, all on pier-3; healthy ones run on five hosts. Return the id of one failure."""
    key = running.add_app()
    reports: list[dict[str, Any]] = [whole(number, host=f"pier-{number % 5}") for number in range(healthy)]
    reports.append(tally(400, 15, "GET /fares"))
    first = ""
    for number in range(failing):
        run = str(uuid.uuid4())
        died = failure(
            time=at(75 + number), exceptions=raised_in("sailings.fares", "quote", "NoBerth", "no berth"),
            run={"id": run, "entry_point": "GET /fares"}, attributes={"host.name": "pier-3"},
        )  # fmt: skip
        reports += [whole(100 + number, outcome="failed", host="pier-3", rows=0, run=run), died]
        first = first or died["id"]
    assert running.send(key, *reports).json()["refused"] == 0
    return first


def test_the_turning_point(running: Running) -> None:
    """Named in a sentence with its evidence; both runs side by side; on the command line the same."""
    id = fill(running)
    found = running.get(f"/api/failures/{id}/turning")
    said = "In 40 of 40 healthy runs `statement select berth where pier = ?` gave 1 row; here it gave 0 rows."
    assert found["found"] and found["said"] == said and found["healthy"] == 40
    assert [(one["kind"], one["step"]) for one in found["differences"]] == [("otherwise", 0), ("missing", 2)]
    assert [line["differs"] for line in found["side_by_side"]] == [True, False, True]
    assert found["side_by_side"][2]["here"] is None and found["side_by_side"][2]["healthy"]["said"].startswith("fare ")
    uuid.UUID(found["nearest"])
    printed = obitus(running, "turning", "1").splitlines()
    assert printed[0].startswith("Turning point: In 40 of 40 healthy runs") and "this one ended before it" in "".join(
        printed[1:5]
    )
    assert json.loads(obitus(running, "turning", id, "--json"))["said"] == said
    assert running.ask("GET", f"/api/failures/{uuid.uuid4()}/turning").status == 404


def test_what_they_have_in_common(running: Running) -> None:
    """Strongest first, with shares of both; of an issue, or of any question; healthy runs stand for those that were not sent."""
    fill(running)
    found = running.get("/api/in-common?issue=1&window=24h")
    assert found["failing"] == 12 and found["healthy"] == 40
    told = {(one["name"], one["value"]): one for one in found["found"]}
    host = next(
        one for one in found["found"] if "host.name pier-3" in (f"{one['name']} {one['value']}", *one["with_it"])
    )
    assert ("step", "statement select berth where pier = ? gave 0 rows") in told or host["with_it"]
    assert found["said"].startswith("All 12 failing runs have ")
    assert running.get("/api/in-common?question=host.name%3Dpier-3&window=24h")["failing"] == 12
    printed = obitus(running, "common", "1", "--window", "24h")
    assert (
        "All 12 failing runs have" in printed
        and "100%" in printed
        and "12 failing runs against 40 healthy ones" in printed
    )
    assert "needed" in obitus(running, "common", "host.name=nowhere", "--window", "24h")
    assert running.ask("GET", "/api/in-common?issue=99").status == 404
    assert running.ask("GET", "/api/in-common?question=severity%3ELOUD").status == 422


def test_with_too_few_it_says_so(running: Running) -> None:
    """How many healthy runs are kept, and how many are needed."""
    id = fill(running, healthy=7, failing=3)
    assert (
        running.get(f"/api/failures/{id}/turning")["said"]
        == "Cannot tell: 7 healthy runs of this entry point are kept whole, and 19 are needed."
    )
    assert running.get("/api/in-common?issue=1&window=24h")["said"].startswith(
        "Cannot tell: 3 failing and 7 healthy runs"
    )
