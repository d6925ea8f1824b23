"""Quiet failures: found, made an issue of, collected once and for good; and what happened to one person."""

from __future__ import annotations

import hashlib
import uuid
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from obitus.service.jobs import quiet
from tests.conftest import Running, failure, start, until
from tests.service.test_now import at, tally
from tests.service.test_records import asked, log

POINT = "POST /sailings/{id}/boardings"
TRACE = "0af7651916cd43dd8448eb211c80319c"


def refused(minutes_ago: float, **more: Any) -> dict[str, Any]:
    """Make a run that was refused, sent whole."""
    attributes = more.pop("attributes", {"user.id": "p-102"})
    run = {"entry_point": POINT, "outcome": "refused", "duration_ms": 12.5, "kept": "refused"} | more.pop("run", {})
    answer = {"type": "application/problem+json", "json": {"title": "Height is missing"}}
    request = {"method": "POST", "url": "/sailings/SK-4012/boardings", "status": 422, "answer_body": answer}
    return {"kind": "run", "id": str(uuid.uuid4()), "time": at(minutes_ago), "release": "3.1.0", "attributes": attributes, "run": run, "request": request} | more  # fmt: skip


def rise(running: Running, key: str) -> None:
    """Let a release refuse ten times as much as the one before it."""
    before = [tally(980, 3000, POINT, release="3.0.0"), tally(20, 3000, POINT, release="3.0.0", outcome="refused")]
    now = [tally(80, 30, POINT), tally(20, 30, POINT, outcome="refused")]
    assert running.send(key, *before, *now).status == 200


def looked(running: Running) -> list[dict[str, Any]]:
    quiet.look(running.service.records, running.clock())
    found: list[dict[str, Any]] = running.get("/api/quiet")["quiet"]
    return found


def test_a_rise_is_found_and_explained(running: Running) -> None:
    """On the desk, with its numbers and a question that finds its runs; left, it is gone; over, it has ended."""
    key = running.add_app()
    rise(running, key)
    running.send(key, refused(20))
    (found,) = looked(running)
    assert (found["kind"], found["subject"], found["issue"]) == ("refused", POINT, None)
    assert "20 of 100 runs were refused (20.0%) in release 3.1.0" in found["reason"]
    assert "20 of 1,000 runs were refused (2.0%) in 3.0.0" in found["reason"]
    (on_desk,) = running.get("/api/desk?window=1h")["quiet"]
    assert on_desk["id"] == found["id"]
    rows = asked(running, "records/runs", window="1h", question=found["question"])["records"]
    assert [row["values"]["entry_point"] for row in rows] == [POINT]
    assert running.ask("POST", f"/api/quiet/{found['id']}/leave").status == 200
    assert running.get("/api/desk?window=1h")["quiet"] == []
    assert looked(running)[0]["left_by"] == "owner", "it is not told anew while it holds"
    assert running.ask("POST", f"/api/quiet/{found['id']}/leave").status == 404
    running.send(key, tally(20_000, 10, POINT))
    assert looked(running) == []


def test_warnings_that_are_new(running: Running) -> None:
    """Of a template, and of messages that say the same but for their values."""
    key = running.add_app()
    running.send(key, tally(4000, 3000, release="3.0.0"), tally(500, 30))
    more = {"severity": "WARN", "time": at(20), "logger": "sailings.tides", "release": "3.1.0"}
    running.send(key, *(log(f"berth {n} is taken by SK-{4000 + n}", 20, **more) for n in range(30)))
    running.send(key, *(log(f"asked {n} times", 20, template="asked %d times", **more) for n in range(30)))
    running.send(key, *(log("only now and then", 20, **more) for n in range(2)))
    found = {one["subject"]: one for one in looked(running)}
    assert set(found) == {"berth … is taken by …", "asked %d times"}
    assert found["asked %d times"]["kind"] == "warning" and "new" in found["asked %d times"]["reason"]
    for one in found.values():
        rows = asked(running, "records/logs", window="1h", question=one["question"])["records"]
        assert len(rows) == 30, one["question"]
    made = running.ask("POST", f"/api/quiet/{found['berth … is taken by …']['id']}/issue").json()["issue"]
    until(lambda: running.get(f"/api/issues/{made}?window=1h")["failures_in_all"] == 30)
    whole = running.get(f"/api/issues/{made}?window=1h")
    assert whole["title"] == "Warning in berth … is taken by …"
    assert whole["collects"] == "the log records that say “berth … is taken by …”"


def test_a_job_that_did_not_run(running: Running) -> None:
    """Each night for nine days, and then no more; an issue of it fails once for each time that it stays away."""
    key = running.add_app()
    hours = [int(24 * n) for n in range(11, 1, -1)]
    running.send(key, *(tally(1, 60 * hour, "job nightly-manifest", status=None, duration_ms_below=None) | {"status": 0} for hour in hours))  # fmt: skip
    (found,) = looked(running)
    assert (found["kind"], found["subject"]) == ("silent", "job nightly-manifest")
    assert "It last ran 2 days ago" in found["reason"]
    made = running.ask("POST", f"/api/quiet/{found['id']}/issue").json()["issue"]
    collecting = running.service.collecting
    for _ in range(3):
        collecting.add_silent(quiet.look(running.service.records, running.clock()))
    whole = running.get(f"/api/issues/{made}?window=14d")
    assert whole["failures_in_all"] == 1 and whole["title"] == "Did not run in job nightly-manifest"
    assert whole["latest"]["report"]["exceptions"][0]["message"].startswith("It last ran 2 days ago")


def test_an_issue_collects_what_is_kept_and_what_comes(running: Running) -> None:
    """Each run once, with all that it had; settled, it regresses with the next; stopped, it gets no more."""
    key = running.add_app()
    rise(running, key)
    running.send(key, *(refused(n, trace_id=TRACE) for n in range(2, 30)))
    (found,) = looked(running)
    made = running.ask("POST", f"/api/quiet/{found['id']}/issue").json()["issue"]
    assert running.ask("POST", f"/api/quiet/{found['id']}/issue").json()["issue"] == made
    issue = lambda: running.get(f"/api/issues/{made}?window=14d")  # noqa: E731
    until(lambda: issue()["failures_in_all"] == 28)
    whole = issue()
    assert whole["title"] == f"Refused in {POINT}" and whole["state"] == "untriaged"
    report = whole["latest"]["report"]
    assert report["exceptions"][0]["message"] == "422 POST /sailings/SK-4012/boardings: Height is missing"
    assert report["handled"] and report["trace_id"] == TRACE and report["attributes"]["user.id"] == "p-102"
    assert whole["why"][0]["parts"][0]["reason"].startswith("somebody had the refused runs")
    assert running.get("/api/desk?window=1h")["quiet"] == [], "it is decided on"
    running.ask("POST", f"/api/issues/{made}/settle", {"how": "now"})
    running.send(key, refused(-0.01))
    until(lambda: issue()["state"] == "regressed")
    assert issue()["failures_in_all"] == 29
    assert running.ask("DELETE", f"/api/issues/{made}/collecting").status == 200
    running.send(key, refused(0.01))
    running.service.runner.look("collecting")
    assert issue()["failures_in_all"] == 29 and issue()["collects"] is None
    assert running.ask("DELETE", f"/api/issues/{made}/collecting").status == 404
    acts = [act["act"] for act in running.get("/api/acts")["acts"]]
    assert {"made an issue of a quiet failure", "stopped collecting"} <= set(acts)


def test_collecting_goes_on_after_a_restart(tmp_path: Path) -> None:
    """From where it stood, and what it looks at twice it adds once."""
    thread, running = start(tmp_path / "data")
    key = running.add_app()
    rise(running, key)
    running.send(key, *(refused(n) for n in range(2, 12)))
    (found,) = looked(running)
    made = running.ask("POST", f"/api/quiet/{found['id']}/issue").json()["issue"]
    until(lambda: running.get(f"/api/issues/{made}?window=14d")["failures_in_all"] == 10)
    running.service.records.writer.run(lambda c: c.execute("DELETE FROM collected_to"))
    running.http.clear()
    thread.stop()
    thread, running = start(tmp_path / "data")
    running.send(key, refused(1))
    until(lambda: running.get(f"/api/issues/{made}?window=14d")["failures_in_all"] == 11)
    running.http.clear()
    thread.stop()


def test_nothing_kept_is_said(running: Running) -> None:
    """Where runs were counted and none was sent whole, there is nothing that an issue could show."""
    key = running.add_app()
    rise(running, key)
    (found,) = looked(running)
    answer = running.ask("POST", f"/api/quiet/{found['id']}/issue")
    assert (answer.status, answer.json()["slug"]) == (409, "nothing-kept")
    assert running.ask("POST", "/api/quiet/99/issue").status == 404


def test_regrouping_keeps_what_was_collected_together(running: Running) -> None:
    """The recipe, asked again, says the same of it."""
    key = running.add_app()
    rise(running, key)
    running.send(key, *(refused(n) for n in range(2, 6)))
    (found,) = looked(running)
    made = running.ask("POST", f"/api/quiet/{found['id']}/issue").json()["issue"]
    until(lambda: running.get(f"/api/issues/{made}?window=14d")["failures_in_all"] == 4)
    preview = running.ask("POST", "/api/regroupings/preview", {"app": "sailings"}).json()
    assert preview["moving"] == 0 and preview["looked_at"] == 4


def test_what_one_person_met(running: Running) -> None:
    """Across apps and in order, refused and failed ones marked; found by id, session and the hash of an address."""
    sailings, kiosk = running.add_app(), running.add_app("pierboard")
    address = "Ida@skerry.example"
    hashed = hashlib.sha256(address.lower().encode()).hexdigest()
    page = refused(12.1, run={"entry_point": "page /board", "outcome": "ok"}, trace_id=TRACE, attributes={"user.id": "p-102", "session.id": "s-1"}) | {"request": {}}  # fmt: skip
    running.send(kiosk, page)
    running.send(sailings, refused(12, trace_id=TRACE), refused(500), refused(10, attributes={"user.id": "p-7", "user.hash": hashed}))  # fmt: skip
    running.send(sailings, failure(time=at(11), attributes={"user.id": "p-102"}))
    running.send(sailings, log("no place", 600, severity="WARN", attributes={"user.id": "p-102"}), log("fine", 600, attributes={"user.id": "p-102"}))  # fmt: skip
    met = running.get("/api/person?who=p-102")
    assert [(one["app"], one["kind"], one["outcome"]) for one in met["met"]] == [
        ("pierboard", "run", "ok"), ("sailings", "run", "refused"), ("sailings", "failure", "failed"), ("sailings", "log", "warned"),
    ]  # fmt: skip
    assert (met["found_by"], met["refused"], met["apps"]) == (["user.id"], 1, ["pierboard", "sailings"])
    assert met["met"][1]["status"] == 422 and met["met"][1]["trace"] == TRACE and met["met"][2]["issue"] == 1
    assert running.get("/api/person?who=s-1")["found_by"] == ["session.id"]
    by_address = running.get(f"/api/person?who={address}")
    assert (by_address["found_by"], len(by_address["met"])) == (["user.hash"], 1)
    then = (datetime.now(UTC) - timedelta(minutes=500)).strftime("%Y-%m-%dT%H:%M:%SZ")
    assert len(running.get(f"/api/person?who=p-102&at={then}")["met"]) == 1
    nobody = running.get("/api/person?who=nobody")
    assert nobody["met"] == [] and "Nothing is kept of them" in nobody["notes"][0]


@pytest.mark.parametrize("query", ["who=", "who=" + "x" * 301, "who=%20", "who=a&around=9d", "who=a&at=ten"])
def test_bad_questions_about_a_person(running: Running, query: str) -> None:
    assert running.ask("GET", f"/api/person?{query}").status == 422
