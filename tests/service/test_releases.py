"""Releases, deploys, settling, verdicts, comparisons, steps, revealed issues, likely changes: through the HTTP interface."""

from __future__ import annotations

import gzip
import json
import random
import uuid
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from tests import kept
from tests.conftest import Running, failure, raised_in

POINT = "POST /sailings/{id}/boardings"


def at(hours: float) -> str:
    """Return a time so many hours before now."""
    return (datetime.now(UTC) - timedelta(hours=hours)).isoformat(timespec="milliseconds")


def tally(release: str, runs: int, hours: float, point: str = POINT, outcome: str = "ok") -> dict[str, Any]:
    return {"kind": "tally", "id": str(uuid.uuid4()), "time": at(hours), "release": release, "entry_point": point, "outcome": outcome, "runs": runs}  # fmt: skip


def failed(
    release: str, hours: float, where: str = "sailings.tides", point: str = POINT, **changes: Any
) -> dict[str, Any]:
    run = {"id": str(uuid.uuid4()), "entry_point": point, "started": at(hours)}
    return failure(
        release=release, time=at(hours), run=run, exceptions=raised_in(where, "depth_at", "TideUnavailable"), **changes
    )


def send(running: Running, key: str, *reports: dict[str, Any]) -> list[int | None]:
    """Send reports, wait for what is found beside taking them, and return their issues."""
    answer = running.send(key, *reports).json()
    assert answer["refused"] == 0, answer
    running.service.runner.look("watching")
    return [line.get("issue") for line in answer["lines"]]


def since(running: Running, number: int | None) -> dict[str, Any]:
    found: dict[str, Any] = running.get(f"/api/issues/{number}/since")
    return found


def settle(running: Running, number: int | None, **order: str) -> None:
    answer = running.ask("POST", f"/api/issues/{number}/settle", order)
    assert answer.status == 200, answer.data


def state_of(running: Running, number: int | None) -> str:
    return str(running.get(f"/api/issues/{number}")["state"])


def test_a_deploy_and_since_when(running: Running) -> None:
    """A pipeline tells of a deploy with the app's own key; the issue says how long after it began, and what was before."""
    key = running.add_app(may_deploy=True)
    send(running, key, tally("2.9.1", 81_000, 60), tally("3.0.0", 2000, 10))
    order = {"release": "v3.0.0", "time": at(12)}
    answer = running.ask("POST", "/api/deploys", order, token=key)
    assert answer.status == 201 and answer.json()["release"] == "3.0.0" and answer.json()["reported_by"] == "pipeline"
    assert running.ask("POST", "/api/deploys", order, token=key).status == 201
    (number,) = send(running, key, failed("3.0.0", 12 - 14 / 60))
    found = since(running, number)
    assert (
        found["sentence"]
        == "First in 3.0.0, 14 minutes after its deploy to production; none in 2.9.1 over 81,000 runs."
    )
    assert [(one["release"], one["failures"], one["runs"], one["inferred"]) for one in found["lane"]] == [("2.9.1", 0, 81_000, True), ("3.0.0", 1, 2000, False)]  # fmt: skip
    assert [one["release"] for one in running.get("/api/deploys?window=7d")["deploys"]] == ["3.0.0", "2.9.1"]
    row = running.get("/api/releases?app=sailings")["releases"][0]
    assert (row["release"], row["new_issues"], row["places"][0]["runs"], row["places"][0]["live"]) == (
        "3.0.0",
        1,
        2000,
        True,
    )
    assert row["places"][0]["rate"]["low"] < 0.5 < row["places"][0]["rate"]["high"]


def test_a_key_tells_of_its_own_app_only(running: Running) -> None:
    """A reporting key is for one app and environment; a deploy ahead of now, or of nothing, is refused in words."""
    key = running.add_app(may_deploy=True)
    for order, slug, status in [
        ({"release": "3.0.0", "app": "gatekeeper"}, "not-this-key", 403),
        ({"release": "3.0.0", "environment": "staging"}, "not-this-key", 403),
        ({"release": "3.0.0", "time": at(-1)}, "deploy-ahead", 422),
        ({"release": "3.0.0", "time": "2026-11-25T10:00:00"}, "bad-field", 422),
        ({"release": " "}, "bad-field", 422),
        ({"release": "3.0\u0000.0"}, "bad-field", 422),
        ({}, "bad-field", 422),
    ]:
        answer = running.ask("POST", "/api/deploys", order, token=key)
        assert (answer.json()["slug"], answer.status) == (slug, status), order
    assert running.ask("POST", "/api/deploys", {"release": "3.0.0"}, token="okey_nobodys").status == 401
    assert running.ask("POST", "/api/deploys", {"release": "3.0.0"}).json()["slug"] == "bad-field"
    # A pipeline's clock that is an hour ahead is put right when the sender says what time it has.
    ahead = (datetime.now(UTC) + timedelta(hours=1)).isoformat()
    answer = running.ask(
        "POST", "/api/deploys", {"release": "3.0.0", "time": ahead}, token=key, headers={"Obitus-Clock": ahead}
    )
    assert answer.status == 201 and answer.json()["time"] < ahead


def test_a_told_deploy_takes_the_place_of_the_inferred_one(running: Running) -> None:
    """The first report stands for the deploy until somebody tells it; a rollback is a deploy of its own."""
    key = running.add_app(may_deploy=True)
    send(running, key, failed("3.0.0", 5), failed("2.9.0", 9))
    assert [one["inferred"] for one in running.get("/api/deploys?window=7d")["deploys"]] == [True, True]
    for release, hours in (("3.0.0", 5.1), ("2.9.0", 2)):
        assert running.ask("POST", "/api/deploys", {"release": release, "time": at(hours)}, token=key).status == 201
    found = [(one["release"], one["inferred"]) for one in running.get("/api/deploys?window=7d")["deploys"]]
    assert found == [("2.9.0", False), ("3.0.0", False), ("2.9.0", True)]


def test_settled_now_next_and_in_one_environment(running: Running) -> None:
    """Each way of settling, with reports that come late, from old releases, and from elsewhere."""
    key = running.add_app(may_deploy=True)
    staging = running.ask("POST", "/api/apps/sailings/keys", {"environment": "staging"}).json()["key"]
    now, nxt, own = (
        send(running, key, failed("3.0.0", 5, where))[0] for where in ("sailings.a", "sailings.b", "sailings.c")
    )
    settle(running, now, how="now")
    settle(running, nxt, how="coming")
    settle(running, own, release="3.1.0", environment="production")
    send(running, key, failed("3.0.0", 1, "sailings.a"), failed("2.9.0", 1, "sailings.b"))
    assert [state_of(running, n) for n in (now, nxt, own)] == ["settled"] * 3
    assert running.get(f"/api/issues/{nxt}")["from_older_releases"] == 1
    send(running, staging, failed("3.1.0", -0.02, "sailings.c"))
    assert state_of(running, own) == "settled" and since(running, own)["verdicts"][0]["environment"] == "production"
    settled = running.get(f"/api/issues/{nxt}")
    assert settled["settled_in"] == "3.1.0" and "The coming release is here: 3.1.0" in settled["history"][-1]["reason"]
    send(running, key, failed("3.0.0", -0.02, "sailings.b"), failed("3.1.0", -0.02, "sailings.b"))
    assert state_of(running, nxt) == "regressed"
    send(running, key, failed("2.9.0", -0.03, "sailings.a"))
    assert state_of(running, now) == "regressed"
    for order in ({"how": "now", "release": "3.0.0"}, {"how": "soon"}):
        assert running.ask("POST", f"/api/issues/{own}/settle", order).status == 422


def test_an_announced_release_is_the_next(running: Running) -> None:
    """A release that was made known before it came is what an issue fixed from the coming release on waits for."""
    key = running.add_app(may_deploy=True)
    (number,) = send(running, key, failed("3.0.0", 5))
    assert running.ask("POST", "/api/apps/sailings/releases", {"release": "3.1.0"}).status == 201
    settle(running, number, how="coming")
    send(running, key, failed("3.0.0", 1))
    assert state_of(running, number) == "settled" and running.get(f"/api/issues/{number}")["settled_in"] is None
    (held,) = since(running, number)["verdicts"]
    assert held["verdict"] == "too early to say" and held["reason"].startswith("The coming release has not come yet")
    running.ask("POST", "/api/deploys", {"release": "3.1.0"}, token=key)
    assert running.get(f"/api/issues/{number}")["settled_in"] == "3.1.0"
    settle(running, number)
    assert running.get(f"/api/issues/{number}")["settled_in"] == "3.1.0"


def test_late_reports_are_judged_by_when_they_happened(running: Running) -> None:
    """A spool that is emptied after the settling wakes nothing that was settled as of then, and says that it came late."""
    key = running.add_app(may_deploy=True)
    (number,) = send(running, key, failed("main", 9))
    settle(running, number, how="now")
    send(running, key, failed("main", 3))
    assert state_of(running, number) == "settled"
    (other,) = send(running, key, failed("3.0.0", 9, "sailings.b"))
    settle(running, other, release="3.1.0")
    send(running, key, failed("3.1.0", 30, "sailings.b"))
    last = running.get(f"/api/issues/{other}")["history"][-1]
    assert last["to_state"] == "regressed" and "was reported only now" in last["reason"]


@pytest.mark.parametrize(
    ("since_runs", "since_failures", "verdict"),
    [(20_000, 0, "held"), (900, 0, "too early to say"), (60_000, 3, "still there but rarer"), (1500, 6, "regressed")],
)
def test_did_it_hold(running: Running, since_runs: int, since_failures: int, verdict: str) -> None:
    """The verdict follows from traffic: 20 failures in 10,000 runs before, and so many since."""
    key = running.add_app(may_deploy=True)
    (number, *_) = send(running, key, *(failed("3.0.0", 50 - i) for i in range(20)), tally("3.0.0", 10_000, 49))
    settle(running, number, release="3.1.0")
    send(running, key, tally("3.1.0", since_runs, 1), *(failed("3.1.0", 0.5) for _ in range(since_failures)))
    (held,) = since(running, number)["verdicts"]
    assert held["verdict"] == verdict, held
    assert held["expected"] == pytest.approx(since_runs / 500) and held["failures"] == since_failures
    assert (held["ready"] is not None) == (verdict == "too early to say")
    if verdict == "held":
        assert held["confidence"] > 0.999


@pytest.mark.parametrize(
    ("runs", "since_runs", "since_failures", "verdict"),
    [
        (10_000, 20_000, 0, "held"),
        (10_000, 900, 0, "too early to say"),
        (10_000, 60_000, 3, "still there but rarer"),
        (10_000, 1500, 6, "regressed"),
        (0, 0, 0, "held"),
        (0, 0, 9, "regressed"),
    ],
)
def test_did_a_fix_of_the_moment_hold(
    running: Running, runs: int, since_runs: int, since_failures: int, verdict: str
) -> None:
    """Settled ten hours ago by something done then: the same by time, whatever the release; by hours where no runs are counted."""
    key = running.add_app(may_deploy=True)
    (number, *_) = send(running, key, *(failed("3.0.0", 50 - i) for i in range(20)))
    if runs:
        send(running, key, tally("3.0.0", runs, 49))
    settle(running, number, how="now")
    running.service.records.writer.run(lambda c: c.execute("UPDATE settlings SET time_ms = time_ms - 36000000"))
    if since_runs:
        send(running, key, tally("3.0.0", since_runs, 1))
    send(running, key, *(failed("3.0.0", 0.5) for _ in range(since_failures)))
    (held,) = since(running, number)["verdicts"]
    assert held["verdict"] == verdict and held["failures"] == since_failures, held
    assert "settled on" in held["reason"]
    wanted = since_runs / 500 if runs else 20 / 40 * 10
    assert held["expected"] == pytest.approx(wanted, rel=0.05)


def test_failures_of_older_releases_do_not_count_against_a_fix(running: Running) -> None:
    """What an old release goes on failing with is no sign that the fix did not hold."""
    key = running.add_app(may_deploy=True)
    (number, *_) = send(running, key, *(failed("3.0.0", 50 - i) for i in range(20)), tally("3.0.0", 10_000, 49))
    settle(running, number, release="3.1.0")
    send(running, key, tally("3.1.0", 20_000, 1), *(failed("3.0.0", 0.5) for _ in range(9)), tally("3.0.0", 4000, 1))
    (held,) = since(running, number)["verdicts"]
    assert held["verdict"] == "held" and held["failures"] == 0
    assert running.get(f"/api/issues/{number}")["from_older_releases"] == 9


def test_two_releases_compared(running: Running) -> None:
    """New, regressed, gone, worse, better, unchanged, and what the numbers cannot tell; by rates, not by counts."""
    key = running.add_app(may_deploy=True)
    before = {"worse": 20, "better": 80, "gone": 30, "same": 300, "few": 1, "regressed": 2}
    after = {"worse": 90, "better": 20, "gone": 0, "same": 570, "few": 2, "regressed": 3, "new": 7}
    reports = [failed("3.0.0", 30, f"sailings.{name}") for name, n in before.items() for _ in range(n)]
    issues = dict(
        zip([name for name, n in before.items() for _ in range(n)], send(running, key, *reports), strict=True)
    )
    send(running, key, tally("3.0.0", 20_000, 30), tally("3.0.0", 100, 30, outcome="failed"))
    settle(running, issues["regressed"], release="3.1.0")
    send(running, key, *(failed("3.1.0", 10, f"sailings.{name}") for name, n in after.items() for _ in range(n)))
    send(running, key, tally("3.1.0", 40_000, 10), tally("3.1.0", 900, 10, outcome="failed"))
    answer = running.get("/api/compare?app=sailings&before=3.0.0&now=3.1.0")
    found = {one["issue"]["title"].split("sailings.")[1].split(".")[0]: one["kind"] for one in answer["issues"]}
    assert found == {"worse": "worse", "better": "better", "gone": "gone", "same": "unchanged", "few": "cannot tell", "regressed": "regressed", "new": "new"}  # fmt: skip
    assert all(one["reason"] for one in answer["issues"])
    (point,) = answer["entry_points"]
    assert point["kind"] == "worse" and point["before"] == {
        "failures": 100,
        "runs": 20_100,
        "rate": point["before"]["rate"],
    }
    assert answer["sentence"].startswith("3.1.0 against 3.0.0: 1 new, 1 regressed, 1 worse, 1 gone, 1 better")
    page = running.get("/api/apps/sailings/releases/3.1.0")
    assert page["previous"] == "3.0.0" and [one["title"] for one in page["first_here"]] == [
        "TideUnavailable in sailings.new.depth_at"
    ]
    assert [one["number"] for one in page["regressed_here"]] == [issues["regressed"]]
    for wrong in ("before=3.0.0&now=3.0.0", "before=2.0.0&now=3.0.0"):
        answer = running.ask("GET", f"/api/compare?app=sailings&{wrong}")
        assert (answer.status in (404, 422) and "3.0.0" in answer.json()["detail"]) or answer.status == 422


def test_a_canary_is_compared_with_what_ran_beside_it(running: Running) -> None:
    """Only the hours count in which both were live: a bad hour of the stable release before is not held against it."""
    key = running.add_app(may_deploy=True)
    send(running, key, tally("3.0.0", 5000, 30), *(failed("3.0.0", 30) for _ in range(60)))
    send(running, key, tally("3.0.0", 9000, 2), *(failed("3.0.0", 2) for _ in range(9)))
    running.ask("POST", "/api/deploys", {"release": "3.1.0", "canary": True, "time": at(2.4)}, token=key)
    send(running, key, tally("3.1.0", 1000, 2), *(failed("3.1.0", 2) for _ in range(15)))
    answer = running.get("/api/compare?app=sailings&before=3.0.0&now=3.1.0")
    assert answer["same_time"] and answer["hours"] == 1 and answer["before"]["runs"] == 9000
    assert answer["issues"][0]["kind"] == "worse" and answer["issues"][0]["before"]["failures"] == 9
    whole = running.get("/api/compare?app=sailings&before=3.0.0&now=3.1.0&same_time=false")
    assert not whole["same_time"] and whole["before"]["runs"] == 14_000
    assert running.get("/api/apps/sailings/releases/3.1.0")["beside"] == "3.0.0"


def test_a_rate_regression_is_marked(running: Running) -> None:
    """An issue that was there before, and an entry point, are marked when they fail more with a release; and not for ever."""
    key = running.add_app(may_deploy=True)
    reports = [tally(release, 10_000, hours) for release, hours in (("2.8.0", 90), ("2.9.0", 60), ("3.0.0", 10))]
    reports += [
        tally(release, n, hours, outcome="failed")
        for release, hours, n in (("2.8.0", 90, 20), ("2.9.0", 60, 22), ("3.0.0", 10, 70))
    ]
    counts = (("2.8.0", 90, 20), ("2.9.0", 60, 22), ("3.0.0", 10, 70))
    reports += [failed(release, hours) for release, hours, n in counts for _ in range(n)]
    number = send(running, key, *reports)[-1]
    (rate,) = since(running, number)["rate_regressions"]
    assert rate["release"] == "3.0.0" and rate["factor"] == pytest.approx(3.3, abs=0.3) and "2.8.0" in rate["reason"]
    page = running.get("/api/apps/sailings/releases/3.0.0")
    assert {one["entry_point"] or one["issue"]["number"] for one in page["rate_regressions"]} == {POINT, number}
    assert running.get("/api/releases?app=sailings")["releases"][0]["failing_more_often"] == 2
    send(running, key, tally("3.0.0", 30_000, 8), tally("3.0.0", 10, 8, outcome="failed"))
    assert since(running, number)["rate_regressions"] == []


def test_a_fix_reveals_the_next_fault(running: Running) -> None:
    """A new issue further down in the same function, after the fix of the one before it, says so; one elsewhere does not."""
    key = running.add_app(may_deploy=True)

    def stopped(release: str, hours: float, line: int, code: str, function: str = "board") -> dict[str, Any]:
        frames = [{"function": "serve", "module": "sailings.app", "file": "/srv/sailings/app.py", "line": 9},
                  {"function": function, "module": "sailings.boardings", "file": "/srv/sailings/boardings.py", "line": line, "source": {"line": code}}]  # fmt: skip
        return failed(release, hours) | {"exceptions": [{"type": f"E{line}", "message": "no", "frames": frames}]}

    (first,) = send(running, key, stopped("3.0.0", 9, 20, "height = body['height']"))
    settle(running, first, release="3.1.0")
    (second,) = send(running, key, stopped("3.1.0", -0.02, 31, "deck = decks[height]"))
    (apart,) = send(running, key, stopped("3.1.0", -0.02, 77, "return fares[kind]", "surcharge"))
    assert len({first, second, apart}) == 3
    found = since(running, second)["revealed_by"]
    assert (
        found["issue"]["number"] == first
        and found["entry_point"] == POINT
        and "got past it to line 31" in found["reason"]
    )
    assert [one["issue"]["number"] for one in since(running, first)["revealed"]] == [second]
    assert since(running, apart)["revealed_by"] is None
    assert "Revealed by the fix of issue" in running.get(f"/api/issues/{second}")["history"][-1]["reason"]


def test_likely_changes(running: Running) -> None:
    """Commits of the release in which an issue began, ranked with reasons; none where nothing touches the stack."""
    key = running.add_app(may_deploy=True)
    commits = [
        {"id": "a" * 40, "time": at(30), "author": "Ida Moss", "subject": "Read the height of vehicles",
         "files": [{"path": "src/sailings/tides.py", "ranges": [[1, 9]], "names": ["depth_at"]}]},
        {"id": "b" * 40, "time": at(29), "author": "Per Lund", "subject": "Write about piers", "files": [{"path": "docs/piers.md", "ranges": [[1, 400]]}]},
        {"id": "c" * 40, "time": at(28), "author": "Per Lund", "subject": "Tidy", "files": [{"path": "src/sailings/tides.py", "ranges": [[90, 95]]}]},
    ]  # fmt: skip
    frames = [{"function": "depth_at", "module": "sailings.tides", "file": "/srv/sailings/tides.py", "line": 5}]
    (number,) = send(
        running, key, failed("3.0.0", 9) | {"exceptions": [{"type": "KeyError", "message": "1", "frames": frames}]}
    )
    (note,) = since(running, number)["changes"]
    assert note["commits"] == [] and "obitus release add 3.0.0 --app sailings --git PATH" in note["note"]
    body = gzip.compress(json.dumps({"revision": "c" * 40, "commits": commits}).encode())
    headers = {"Authorization": f"Bearer {running.token}", "Content-Encoding": "gzip"}
    for expected in ({"added": 3, "already_there": 0}, {"added": 0, "already_there": 3}):
        answer = running.http.request(
            "POST", f"{running.url}/api/apps/sailings/commits/3.0.0", body=body, headers=headers
        )
        assert answer.status == 201 and answer.json() == expected
    (found,) = since(running, number)["changes"]
    assert [one["commit"]["subject"] for one in found["commits"]] == ["Read the height of vehicles", "Tidy"]
    assert found["commits"][0]["reasons"][0] == "changed line 5 of tides.py, where it was raised"
    (other,) = send(running, key, failed("3.0.0", 8, "gatekeeper.passes"))
    (none,) = since(running, other)["changes"]
    assert none["commits"] == [] and none["note"] == "None of the 3 commits of 3.0.0 touches the failing stack."
    assert running.get("/api/apps/sailings/revisions")["releases"][0] == {"release": "3.0.0", "revision": "c" * 40}
    for wrong in (
        {"commits": [{"id": "not a hash", "time": at(1)}]},
        {"commits": [{"id": "d" * 40, "time": at(1), "patch": "x"}]},
        {},
    ):
        assert running.ask("POST", "/api/apps/sailings/commits/3.0.0", wrong).status == 422


def test_a_release_is_renamed_and_put_in_order(running: Running) -> None:
    """The old name goes on leading to it; the order can be corrected, and taken back; what makes no sense is refused."""
    key = running.add_app(may_deploy=True)
    send(
        running,
        key,
        failed("hotfix", 1),
        failed("3.0.0", 9),
        failed("3.1.0", 5),
        failed("v3.1.0", 5),
        failed(" 3.1.0", 5),
    )
    names = lambda: [row["release"] for row in running.get("/api/releases?app=sailings")["releases"]]  # noqa: E731
    assert names() == ["hotfix", "3.1.0", "3.0.0"]
    path = "/api/apps/sailings/releases/"
    assert running.ask("PATCH", path + "hotfix", {"after": "3.0.0"}).status == 200 and names() == [
        "3.1.0",
        "hotfix",
        "3.0.0",
    ]
    assert running.ask("PATCH", path + "3.0.0", {"after": "hotfix"}).status == 409
    assert running.ask("PATCH", path + "hotfix", {"in_order": True}).status == 200 and names()[0] == "hotfix"
    assert running.ask("PATCH", path + "hotfix", {"name": "3.1.1"}).status == 200 and names()[0] == "3.1.1"
    send(running, key, failed("hotfix", 0.5))
    assert names() == ["3.1.1", "3.1.0", "3.0.0"]
    assert running.get(path + "hotfix")["places"][0]["failures"] == 2
    assert running.ask("PATCH", path + "3.1.1", {"name": "3.1.0"}).status == 409
    assert running.ask("PATCH", path + "9.9.9", {"name": "4"}).status == 404
    assert running.ask("POST", "/api/apps/sailings/releases", {"release": "4.0.0"}).json()["first_seen"] is None
    assert names()[0] == "4.0.0"


def test_thousands_of_releases_in_a_day(running: Running) -> None:
    """A commit hash each: lists have pages, an issue's lane shows where something happened, and intake goes on."""
    key = running.add_app(may_deploy=True)
    dice = random.Random(7)
    hashes = [f"{dice.getrandbits(28):07x}" for _ in range(1500)]
    for start in range(0, 1500, 500):
        send(
            running, key, *(tally(one, 10, 20 - (start + i) / 100) for i, one in enumerate(hashes[start : start + 500]))
        )
    (number,) = send(running, key, failed(hashes[700], 20 - 7))
    page = running.get("/api/releases?app=sailings&limit=50")
    assert page["releases_in_all"] == len(set(hashes)) and len(page["releases"]) == 50 and page["next"]
    lane = [one["release"] for one in since(running, number)["lane"]]
    assert hashes[700] in lane and hashes[699] in lane and len(lane) <= 40
    settle(running, number, release=hashes[900])
    send(running, key, failed(hashes[800], 5))
    assert state_of(running, number) == "settled"
    send(running, key, failed(hashes[901], 5))
    assert state_of(running, number) == "regressed"


def test_a_tally_that_grows(running: Running) -> None:
    """Sent again with more runs it adds what is new, in every count, where it was first counted; with fewer, or without the word, nothing."""
    key = running.add_app(may_deploy=True)
    grows = tally("3.1.0", 5, 2) | {"grows": True}
    plain = tally("3.1.0", 7, 2)
    send(running, key, grows, plain)
    for runs, taken in ((9, 1), (9, 0), (4, 0), (12, 1)):
        answer = running.send(key, grows | {"runs": runs, "release": "3.2.0"}, plain | {"runs": runs + 7}).json()
        assert (answer["stored"], answer["already_there"]) == (taken, 2 - taken), runs
    assert [line["verdict"] for line in running.send(key, plain | {"runs": 99, "grows": True}).json()["lines"]] == ["already-there"]  # fmt: skip
    for count in (
        "SELECT SUM(runs) AS n FROM run_counts",
        "SELECT SUM(ok) AS n FROM release_runs JOIN releases ON releases.id = release_id WHERE version = '3.1.0'",
        "SELECT SUM(runs) AS n FROM release_hours JOIN releases ON releases.id = release_id WHERE version = '3.1.0'",
    ):
        assert running.service.records.reader.one(count)["n"] == 12 + 7, count
    assert kept.reports(running.service, "tally")[0]["runs"] == 12


def test_releases_without_end(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """Beyond the bound a report is taken all the same, its release is not kept apart, and that is said."""
    monkeypatch.setattr("obitus.store.releases.MOST_RELEASES", 20)
    key = running.add_app(may_deploy=True)
    answers = [running.send(key, failure(release=f"build-{n}")).json()["lines"][0] for n in range(40)]
    assert all(line["verdict"] == "stored" for line in answers)
    assert "notes" not in answers[0] and "as one without a release" in answers[-1]["notes"][0]
    assert len(running.get("/api/apps/sailings")["releases"]) <= 20
    assert "as one without a release" in running.get("/api/apps/sailings")["last_remark"]["reason"]
    for path, body in (("/api/deploys", {"release": "9.9.9", "app": "sailings"}), ("/api/apps/sailings/releases", {"release": "9.9.9"})):  # fmt: skip
        answer = running.ask("POST", path, body)
        assert (answer.status, answer.json()["slug"]) in ((409, "too-many"), (422, "bad-field")), answer.data
    assert running.send(key, failure(release="build-1")).json()["lines"][0].get("notes") is None
