"""Timelines over HTTP: three apps and three clocks in one story; of a failure, a run, a trace, a person; and what happened around it."""

from __future__ import annotations

import json
import uuid
from datetime import UTC, datetime, timedelta
from typing import Any

from tests.conftest import Running, failure, raised_in

TRACE = "4bf92f3577b34da6a3ce929d0e0e4736"
START = datetime.now(UTC).replace(microsecond=0) - timedelta(minutes=20)


def at(ms: float, ahead_s: float = 0) -> str:
    return (START + timedelta(milliseconds=ms, seconds=ahead_s)).isoformat(timespec="milliseconds")


def step(kind: str, message: str, ms: float, ahead_s: float = 0, **more: Any) -> dict[str, Any]:
    attributes = more.pop("attributes", {})
    return {"kind": kind, "time": at(ms, ahead_s), "message": message, "attributes": attributes} | more


def story(running: Running, gate_ahead_s: float = -40) -> tuple[str, dict[str, str]]:
    """A kiosk asks sailings for a pass, sailings asks the gate, whose clock is 40 s behind and which has no paper."""
    keys = {app: running.add_app(app) for app in ("pierboard", "sailings", "gatekeeper")}
    runs = {app: str(uuid.uuid4()) for app in keys}
    spans = {"pierboard": "a" * 16, "sailings": "b" * 16, "gatekeeper": "c" * 16}
    host = {"pierboard": "kiosk-1", "sailings": "pier-1", "gatekeeper": "gate-1"}

    def whole(app: str, entry_point: str, ms: float, took: float, trail: list[dict[str, Any]], *, ahead_s: float = 0, parent: str = "", outcome: str = "failed", **more: Any) -> dict[str, Any]:  # fmt: skip
        run = {
            "id": runs[app],
            "entry_point": entry_point,
            "started": at(ms, ahead_s),
            "duration_ms": took,
            "outcome": outcome,
        }
        if parent:
            run["parent_span_id"] = parent
        about = {"host.name": host[app], "user.id": "p-118"}
        return {"kind": "run", "id": str(uuid.uuid4()), "time": at(ms + took, ahead_s), "run": run, "trail": trail, "trace_id": TRACE, "span_id": spans[app], "attributes": about} | more  # fmt: skip

    asked = {"url.full": "https://sailings.skerry.example/passes", "duration_ms": 150}
    board = whole("pierboard", "page /pass", 0, 200, [step("mark", "pressed Print my pass", 5), step("http", "POST sailings.skerry.example/passes → 500", 170, severity="ERROR", attributes=asked)])  # fmt: skip
    at_gate = {"messaging.destination.name": "print-pass", "duration_ms": 80}
    trail = [step("statement", "SELECT in 2 ms", 62, attributes={"db.query.text": "SELECT ?", "duration_ms": 2}), step("log", "pass for p-118", 65), step("mark", "gate asked for a pass", 70, attributes=at_gate)]  # fmt: skip
    sailings = whole("sailings", "POST /passes", 30, 130, trail, parent=spans["pierboard"], request={"method": "POST", "url": "https://sailings.skerry.example/passes", "status": 500})  # fmt: skip
    died = raised_in("gatekeeper.passes", "render", "OutOfPaper", "40 mm of paper left")
    no_paper = failure(id=str(uuid.uuid4()), time=at(110, gate_ahead_s), exceptions=died, trail=[step("mark", "pass laid out", 100, gate_ahead_s)], trace_id=TRACE, run={"id": runs["gatekeeper"], "entry_point": "job print-pass"}, attributes={"host.name": "gate-1"})  # fmt: skip
    gate = whole("gatekeeper", "job print-pass", 80, 40, [step("mark", "pass laid out", 100, gate_ahead_s)], ahead_s=gate_ahead_s, parent=spans["sailings"])  # fmt: skip
    said = {"kind": "log", "id": str(uuid.uuid4()), "time": at(66), "severity": "INFO", "logger": "sailings", "message": "pass for p-118", "trace_id": TRACE, "run": {"id": runs["sailings"], "entry_point": "POST /passes"}, "attributes": {"host.name": "pier-1"}}  # fmt: skip
    for app, reports in (("gatekeeper", [no_paper, gate]), ("sailings", [said, sailings]), ("pierboard", [board])):
        answer = running.send(keys[app], *reports).json()
        assert answer["refused"] == 0, answer
    return no_paper["id"], runs


def asked(running: Running, query: str) -> dict[str, Any]:
    return running.get(f"/api/timeline?{query}")


def test_three_apps_and_a_clock_that_is_off(running: Running) -> None:
    """In the order of cause and effect, each once; the correction with its reason; the failure as its end, the last good step named."""
    id, _ = story(running)
    found = asked(running, f"failure={id}")
    lines = [(entry["app"], entry["kind"], entry["said"].split(" → ")[0]) for entry in found["entries"]]
    assert lines == [
        ("pierboard", "run", "page /pass"), ("pierboard", "mark", "pressed Print my pass"), ("pierboard", "http", "POST sailings.skerry.example/passes"),
        ("sailings", "run", "POST /passes"), ("sailings", "statement", "SELECT in 2 ms"), ("sailings", "log", "pass for p-118"), ("sailings", "mark", "gate asked for a pass"),
        ("gatekeeper", "run", "job print-pass"), ("gatekeeper", "mark", "pass laid out"), ("gatekeeper", "failure", "OutOfPaper: 40 mm of paper left"),
    ]  # fmt: skip
    (correction,) = found["corrections"]
    assert correction["host"] == "gate-1" and 39_900 < correction["by_ms"] < 40_000 and correction["certain"]
    assert "The clock of gate-1 is 39.9" in correction["reason"] and "behind that of pier-1" in correction["reason"]
    depths = {entry["said"].split(" → ")[0]: entry["depth"] for entry in found["entries"]}
    assert [depths[said] for said in ("page /pass", "POST sailings.skerry.example/passes", "POST /passes", "gate asked for a pass", "job print-pass", "OutOfPaper: 40 mm of paper left")] == [0, 1, 2, 3, 4, 5]  # fmt: skip
    end = found["entries"][-1]
    assert found["ends_with"] == end["key"] and end["failure"] == id and end["issue"] == 1 and end["reports"] == 1
    reports = {entry["said"]: entry["reports"] for entry in found["entries"]}
    assert reports["pass for p-118"] == reports["pass laid out"] == 2, (
        "a record and its breadcrumb, a run's step and its failure's"
    )
    assert found["worked"]["key"] == found["entries"][-2]["key"]
    assert found["apps"] == ["pierboard", "sailings", "gatekeeper"] and found["notes"] == []
    assert all(entry["since_ms"] >= 0 for entry in found["entries"]) and found["entries"][0]["since_ms"] == 0


def test_of_a_run_a_trace_a_person_and_a_host(running: Running) -> None:
    """The same story from each of its ends."""
    id, runs = story(running)
    whole = asked(running, f"failure={id}")["entries"]
    assert asked(running, f"trace={TRACE}")["entries"] == whole
    of_gate = asked(running, f"run={runs['gatekeeper']}")
    assert [entry["kind"] for entry in of_gate["entries"]] == ["run", "mark", "failure"]
    assert "1 caller is named that nothing was reported of" in of_gate["notes"][0]
    when = START.isoformat().replace("+", "%2B")
    person = asked(running, f"user=p-118&at={when}&around=10m")
    assert {"page /pass", "POST /passes"} <= {entry["said"] for entry in person["entries"] if entry["kind"] == "run"}
    assert asked(running, f"host=gate-1&at={when}&around=10m")["title"] == "Host gate-1"
    for query, status in ((f"run={uuid.uuid4()}", 404), ("", 400), (f"run={uuid.uuid4()}&trace={TRACE}", 400), (f"failure={id}&around=soon", 400), ("user=" + "x" * 10_000, 400)):  # fmt: skip
        assert running.ask("GET", f"/api/timeline?{query}").status in (status, 422), query


def test_what_else_happened_then(running: Running) -> None:
    """Deploys, issues that began, decisions and notes around it, in the same order."""
    id, _ = story(running, 0)
    running.ask(
        "POST",
        "/api/deploys",
        {"app": "sailings", "release": "3.2.0", "environment": "production", "time": at(-60_000)},
    )
    running.ask("POST", "/api/issues/1/accept")
    running.ask("POST", "/api/issues/1/notes", {"looked_at": "disk has room", "found": "ruled out"})
    found = asked(running, f"failure={id}&around=3h")
    kinds = [entry["kind"] for entry in found["entries"]]
    assert kinds[0] == "deploy" and kinds.count("issue") == 1 and kinds[-2:] == ["decision", "note"]
    note = found["entries"].pop()
    assert note["said"] == "owner on issue 1: disk has room: ruled out" and note["issue"] == 1
    assert found["entries"][0]["said"] == "sailings 3.2.0 was deployed in production"
    assert found["entries"][-1]["said"] == "Issue 1: owner accepted it." and found["entries"][-1]["issue"] == 1
    assert {entry["kind"] for entry in asked(running, f"failure={id}&around=1m")["entries"]}.isdisjoint(
        {"decision", "note"}
    )


def test_what_is_dull_is_folded_and_what_is_odd_is_taken(running: Running) -> None:
    """Forty statements alike, markup, control characters, negative durations, a run without an end, parents in a circle."""
    key = running.add_app()
    run = str(uuid.uuid4())
    crumbs = [
        step("statement", f"SELECT in {number} ms", number, attributes={"duration_ms": 1}) for number in range(40)
    ]
    crumbs += [step("log", "<img src=x>\x1b[31m\x00", 50, attributes={"duration_ms": -5}), step("http", "GET x → 200", 60, attributes={"url.full": 7, "duration_ms": "long"})]  # fmt: skip
    endless = {"kind": "run", "id": str(uuid.uuid4()), "time": at(1), "run": {"id": run, "entry_point": "GET /berths", "parent_span_id": "d" * 16}, "trail": crumbs, "span_id": "d" * 16, "trace_id": TRACE}  # fmt: skip
    assert running.send(key, endless).json()["refused"] == 0
    found = asked(running, f"run={run}")
    (fold,) = found["folds"]
    assert fold["entries"] == 40 and "say the same but for their values" in fold["reason"]
    assert len(found["entries"]) == 43 and found["ends_with"] is None and found["worked"] is None
    assert any("<img src=x>" in entry["said"] for entry in found["entries"]) and json.dumps(found)


def test_a_span_that_nobody_reported(running: Running) -> None:
    """A proxy's, between the kiosk and sailings: the call that names what sailings answers at is its cause."""
    keys = {app: running.add_app(app) for app in ("pierboard", "sailings")}
    asked_for = {"url.full": "https://sailings.skerry.example/passes", "duration_ms": 150}
    board = {"kind": "run", "id": str(uuid.uuid4()), "time": at(200), "run": {"id": str(uuid.uuid4()), "entry_point": "page /pass", "started": at(0), "duration_ms": 200}, "trail": [step("http", "POST x → 201", 170, attributes=asked_for)], "trace_id": TRACE}  # fmt: skip
    answered = {"kind": "run", "id": str(uuid.uuid4()), "time": at(150), "run": {"id": str(uuid.uuid4()), "entry_point": "POST /passes", "started": at(60), "duration_ms": 50, "parent_span_id": "9" * 16}, "request": {"method": "POST", "url": "https://sailings.skerry.example/passes"}, "trace_id": TRACE}  # fmt: skip
    running.send(keys["sailings"], answered)
    running.send(keys["pierboard"], board)
    found = asked(running, f"trace={TRACE}")
    assert [(entry["said"], entry["depth"]) for entry in found["entries"]] == [
        ("page /pass", 0),
        ("POST x → 201", 1),
        ("POST /passes", 2),
    ]
    assert found["notes"] == []


def answered(path: str, ms: float, status: int, detail: str = "") -> dict[str, Any]:
    """Make a request as it is read from an access log."""
    number = str(uuid.uuid4())
    run = {"id": number, "entry_point": f"GET {path}", "outcome": "ok" if status < 400 else "failed", "duration_ms": 30, "started": at(ms)}  # fmt: skip
    attributes = {"access_log.name": "u_ex261127.log"} | ({"http.response.detail_code": detail} if detail else {})
    return {"kind": "run", "id": number, "time": at(ms), "run": run, "request": {"method": "GET", "url": path, "status": status}, "attributes": attributes}  # fmt: skip


def test_a_request_that_died_in_the_web_server(running: Running) -> None:
    """Its code in words, that no app knows it though one answers there, and when the same path was last answered well."""
    front, sailings = running.add_app("front"), running.add_app("sailings")
    well, odd, died = (
        answered("/fares", 0, 200),
        answered("/berths", 900, 200),
        answered("/fares", 60_000, 500, "500.19.5"),
    )
    running.send(front, well, odd, died)
    own = {"id": str(uuid.uuid4()), "entry_point": "GET /fares", "outcome": "ok", "duration_ms": 20}
    running.send(sailings, {"kind": "run", "id": str(uuid.uuid4()), "time": at(10), "run": own, "request": {"method": "GET", "url": "https://skerry.example/fares?class=car"}})  # fmt: skip
    found = asked(running, f"run={died['run']['id']}")
    assert found["notes"][0].startswith("500.19.5: the configuration file cannot be used")
    assert found["notes"][1].startswith("No run of an app is known for it, though sailings answers at /fares")
    assert found["well_before"] == {"run": well["run"]["id"], "time": found["well_before"]["time"], "status": 200, "said": "GET /fares"}  # fmt: skip
    (entry,) = found["entries"]
    assert entry["data"]["detail code"] == "500.19.5" and "section twice" in entry["data"]["which means"]


def test_a_request_that_an_app_ran(running: Running) -> None:
    """What the app did stands on the line of the access log, found by path and time."""
    front, sailings = running.add_app("front"), running.add_app("sailings")
    line = answered("/fares", 1000, 502)
    running.send(front, line)
    ran = {
        "id": str(uuid.uuid4()),
        "entry_point": "GET /fares",
        "outcome": "failed",
        "duration_ms": 20,
        "started": at(995),
    }
    far = ran | {"id": str(uuid.uuid4())}
    trail = [step("statement", "SELECT berth", 1001)]
    for run, ms in ((ran, 1015), (far, 9000)):
        running.send(sailings, {"kind": "run", "id": str(uuid.uuid4()), "time": at(ms), "run": run, "trail": trail, "request": {"method": "GET", "url": "http://skerry.example/fares"}})  # fmt: skip
    found = asked(running, f"run={line['run']['id']}")
    assert {entry["run"] for entry in found["entries"]} == {line["run"]["id"], ran["id"]}
    assert found["apps"] == ["sailings", "front"] and "sailings ran it" in found["notes"][1]
    assert found["well_before"] is None
