"""How long reports are kept: what goes, what stays all the same, what is said of it; and that nothing else is touched."""

from __future__ import annotations

import os
import subprocess
import uuid
from collections import Counter
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from obitus.core.days import day_text
from obitus.service.jobs import keeping
from obitus.store import reserve, retention
from obitus.store.backups.restoring import restore
from obitus.store.backups.taking import take
from obitus.store.backups.verifying import verify
from obitus.store.days import thinning
from obitus.store.errors import StoreFull
from tests.conftest import Running, raised_in, start, until
from tests.store.test_upgrades import restored

KINDS = {"logs": "logs", "runs": "runs", "failures": "failures"}


def reported(at: datetime, kind: str, **more: Any) -> dict[str, Any]:
    time_ms = int(at.timestamp() * 1000)
    return {
        "kind": kind,
        "id": str(uuid.UUID(int=time_ms << 80 | 7 << 76 | 2 << 62 | uuid.uuid4().int & (2**62 - 1))),
        "time": at.isoformat(),
    } | more


def failure_at(at: datetime, place: str) -> dict[str, Any]:
    return reported(at, "failure", exceptions=raised_in("sailings.tides", place, "Late"), release="1.0.0")


@pytest.fixture
def weeks(tmp_path: Path) -> Iterator[Running]:
    """A service with reports of one failure on five days: 100, 60, 20, 10 and 0 days ago."""
    service, running = start(tmp_path / "data")
    key = running.add_app()
    now = datetime.now(UTC)
    for ago in (100, 60, 20, 10, 0):
        at = now - timedelta(days=ago, minutes=1)
        reports = [
            failure_at(at, "depth_at"),
            *([failure_at(at, "depth_at")] if ago != 100 else []),
            reported(at, "log", severity="INFO", message=f"tide {ago} days ago", logger="tides"),
            reported(at, "run", run={"entry_point": "GET /tides", "outcome": "ok", "duration_ms": 5.0}),
            reported(at, "run", run={"entry_point": "GET /tides", "outcome": "failed", "duration_ms": 9.0}),
        ]
        answer = running.send(key, *reports)
        assert answer.status == 200 and answer.json()["refused"] == 0, answer.data
    yield running
    service.stop()


def held(running: Running) -> dict[str, int]:
    """Return how many records of each kind are found."""
    return {kind: len(running.get(f"/api/records/{kind}?window=400d&limit=200")["records"]) for kind in KINDS}


def keep(running: Running, **order: Any) -> Any:
    answer = running.ask("PUT", "/api/kept", order)
    assert answer.status == 200, answer.data
    return answer.json()


def test_by_age_and_kind(weeks: Running) -> None:
    """Logs and healthy runs go before failures; the first and latest failure of an open issue stay; counts, issues and searches go on."""
    assert held(weeks) == {"logs": 5, "runs": 10, "failures": 9}
    counted = weeks.issues(window="400d")[0]["failures"]
    steps = weeks.get("/api/kept/preview")["steps"]
    assert [step["why"] for step in steps] == [
        "failures after 90 days, logs after 14 days, healthy runs after 3 days, other runs after 90 days",
        "logs after 14 days, healthy runs after 3 days",
        "logs after 14 days, healthy runs after 3 days",
        "healthy runs after 3 days",
    ]
    assert steps[0]["failures_that_stay"] == 1 and held(weeks)["logs"] == 5
    done = weeks.service.keeping.look()
    assert len(done) == 4
    assert held(weeks) == {"logs": 2, "runs": 5, "failures": 9}
    assert weeks.issues(window="400d")[0]["failures"] == counted
    assert len(weeks.get("/api/records/logs?window=400d&question=tide")["records"]) == 2
    assert len(weeks.get("/api/records/failures?window=400d&question=Late")["records"]) == 9
    assert weeks.service.keeping.look() == [] and weeks.get("/api/kept/preview")["steps"] == []
    answer = weeks.get("/api/kept")
    assert [one["days"] for one in answer["kept"]] == [90, 14, 3, 90] and not any(one["said"] for one in answer["kept"])
    assert sum(one["rows"] for one in answer["removed"]) == 3 + 5 - 1 + 1
    acts = weeks.get("/api/acts?act=removed%20evidence")["acts"]
    assert len(acts) == 4 and "healthy runs after 3 days" in acts[0]["subject"]
    weeks.service.close()
    assert verify(weeks.service.settings.data) == []


def test_what_was_removed_is_said(weeks: Running) -> None:
    """A failure whose evidence is over its time says when and why; sent again it is known."""
    assert weeks.ask("POST", "/api/issues/1/settle", {"release": "1.0.0"}).status == 200
    (oldest, *_) = weeks.get("/api/records/failures?window=400d&sort=time")["records"]
    keep(weeks, kind="failures", days=50)
    weeks.service.keeping.look()
    found = weeks.ask("GET", f"/api/record/{oldest['number']}")
    assert found.status == 404 and "removed" in found.json()["detail"], found.data
    assert weeks.issues(window="400d", state="settled")[0]["failures"] == 9
    weeks.service.close()
    assert verify(weeks.service.settings.data) == []


def test_a_late_report_of_a_day_that_was_removed(
    weeks: Running, tmp_path: Path, caplog: pytest.LogCaptureFixture
) -> None:
    """It is stored in a new file, which is in backups; of what was there before it is still said when and why it went."""
    key = weeks.ask("POST", "/api/apps/sailings/keys", {"environment": "production"}).json()["key"]
    assert weeks.ask("POST", "/api/issues/1/settle", {"release": "1.0.0"}).status == 200
    (oldest, *_) = weeks.get("/api/records/failures?window=400d&sort=time")["records"]
    keep(weeks, kind="failures", days=50)
    keep(weeks, kind="other runs", days=50)
    weeks.service.keeping.look()
    day = weeks.ask("GET", f"/api/record/{oldest['number']}").json()["detail"]
    assert "failures after 50 days" in day
    late = failure_at(datetime.now(UTC) - timedelta(days=100), "late")
    assert weeks.send(key, late).json()["stored"] == 1
    assert weeks.ask("GET", f"/api/record/{oldest['number']}").json()["detail"] == day
    assert weeks.get(f"/api/failures/{late['id']}")["report"]["id"] == late["id"]
    assert not [record for record in caplog.records if record.levelname == "ERROR"]
    take(weeks.service.settings.data, tmp_path / "kept", weeks.clock())
    restore(tmp_path / "kept", tmp_path / "back")
    assert verify(tmp_path / "back") == []
    service, back = start(tmp_path / "back")
    try:
        assert back.get(f"/api/failures/{late['id']}")["report"]["id"] == late["id"]
    finally:
        back.http.clear()
        service.stop()


def test_said_for_one_app_and_for_ever(weeks: Running) -> None:
    """What was said of an app holds before what was said of all; 0 is for ever; taking it back makes it usual again."""
    key = weeks.add_app("gatekeeper")
    at = datetime.now(UTC) - timedelta(days=20)
    weeks.send(key, reported(at, "log", severity="INFO", message="gate", logger="gate"))
    keep(weeks, kind="logs", days=0)
    keep(weeks, kind="healthy runs", days=0)
    keep(weeks, kind="logs", app="gatekeeper", days=5)
    keep(weeks, kind="failures", days=0)
    keep(weeks, kind="other runs", days=0)
    assert [step["why"] for step in weeks.get("/api/kept/preview")["steps"]] == ["logs after 5 days"]
    weeks.service.keeping.look()
    assert held(weeks) == {"logs": 5, "runs": 10, "failures": 9}
    assert weeks.get("/api/records/logs?window=400d&question=app%3Dgatekeeper")["records"] == []
    tried = weeks.get("/api/kept/preview?kind=logs&days=14")["steps"]
    assert len(tried) == 3 and held(weeks)["logs"] == 5
    assert len(keep(weeks, kind="logs", app="gatekeeper", days=None)["kept"]) == 4


@pytest.mark.parametrize("is_over", [False, True], ids=["at once", "after a day"])
def test_after_a_long_silence(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, is_over: bool) -> None:
    """A machine that starts with a clock far ahead removes nothing by age for a day, which is time to set it right."""
    service, running = start(tmp_path / "data")
    key, now = running.add_app(), datetime.now(UTC)
    for ago in (100, 10):
        at = now - timedelta(days=ago)
        running.send(key, failure_at(at, "depth_at"), reported(at, "log", severity="INFO", message="tide"))
    assert running.get("/api/kept")["held"] == ""
    running.http.clear()
    service.stop()
    if is_over:
        monkeypatch.setattr(keeping, "HELD_S", 0.0)
    service, running = start(tmp_path / "data")
    try:
        held_by_clock = running.get("/api/kept")["held"]
        days = [step.day for step in running.service.keeping.look()]
        if is_over:
            assert held_by_clock == "" and len(days) == 1
        else:
            assert held_by_clock.startswith("There was no report for 10 days before this start.") and not days
            assert len(running.get("/api/kept/preview")["steps"]) == 1
            running.service.records.writer.run(lambda c: retention.keep_within(c, 10))
            assert len(running.service.keeping.look()) == 2, "the bound of the room holds all the same"
    finally:
        running.http.clear()
        service.stop()


def test_by_room(weeks: Running) -> None:
    """Beyond the room that was said the oldest days go, whatever their kinds; today and yesterday stay."""
    for kind in thinning.KINDS:
        keep(weeks, kind=kind, days=0)
    steps = weeks.get("/api/kept/preview?most_bytes=10000000")["steps"]
    assert steps == []
    weeks.service.keeping._room = lambda: 1  # type: ignore[method-assign]
    done = weeks.service.keeping.look()
    assert [step.whole for step in done] == [False, True, True, True]
    assert held(weeks) == {"logs": 1, "runs": 2, "failures": 3}
    assert weeks.issues(window="400d")[0]["failures"] == 9


def test_written_meanwhile(weeks: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """A late report that comes while a day is made anew is in the day afterwards."""
    key = weeks.ask("POST", "/api/apps/sailings/keys", {"environment": "production"}).json()["key"]
    at = datetime.now(UTC) - timedelta(days=20, minutes=1)
    made, late = thinning.make, [2]

    def and_then_one_comes(*given: Any) -> Any:
        found = made(*given)
        if late[0]:
            late[0] -= 1
            assert weeks.send(key, failure_at(at, "late")).json()["stored"] == 1
        return found

    monkeypatch.setattr(thinning, "make", and_then_one_comes)
    keep(weeks, kind="failures", days=0)
    weeks.service.keeping.look()
    assert held(weeks)["failures"] == 11 and held(weeks)["logs"] == 2


def test_records_that_are_there_stay_at_an_upgrade(tmp_path: Path) -> None:
    """Nobody loses anything by starting a newer version."""
    restored(21, tmp_path / "data")
    service, running = start(tmp_path / "data")
    try:
        assert [one["days"] for one in running.get("/api/kept")["kept"]] == [0, 0, 0, 0]
    finally:
        service.stop()


def test_who_may_and_what_is_refused(weeks: Running) -> None:
    """Only who administers; a kind that there is, of an app that there is."""
    assert weeks.ask("PUT", "/api/kept", {"kind": "tides", "days": 3}).status == 422
    assert weeks.ask("PUT", "/api/kept", {"kind": "logs", "days": -1}).status == 422
    assert weeks.ask("PUT", "/api/kept", {"kind": "logs", "app": "nobody", "days": 3}).status == 404
    paths = weeks.get("/api/openapi.json")["paths"]
    assert paths["/api/kept"]["put"]["x-needs"] == "administer" and paths["/api/kept"]["get"]["x-needs"] == "read"


@pytest.fixture
def small_disk(tmp_path: Path) -> Iterator[Path]:
    """A disk of 64 MB of its own."""
    folder = tmp_path / "disk"
    folder.mkdir()
    words = ["mount", "-t", "tmpfs", "-o", "size=64m", "none", str(folder)]
    if subprocess.run(words, capture_output=True).returncode != 0:
        pytest.skip("no disk can be mounted by this user")
    yield folder
    subprocess.run(["umount", "-l", str(folder)], check=True)


def test_a_disk_that_fills_up_frees_itself(small_disk: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """More is reported than the disk holds: the oldest days go, in their order, and the service is ready again without anybody's help.

    Whoever reads is answered all the time, and what was refused meanwhile (507) goes in when it is sent again.
    """
    monkeypatch.setattr(keeping, "DISK_EVERY_S", 0.2)
    service, running = start(small_disk / "data")
    key, now = running.add_app(), datetime.now(UTC)
    statuses: Counter[int] = Counter()
    for ago in range(12, 0, -1):
        for _ in range(6):
            # What cannot be compressed.
            reports = [
                reported(
                    now - timedelta(days=ago), "log", severity="INFO", message=os.urandom(9000).hex(), logger="tides"
                )
                for _ in range(60)
            ]

            def sent(reports: list[dict[str, Any]] = reports) -> bool:
                status = running.send(key, *reports).status
                statuses[status] += 1
                assert running.ask("GET", "/api/records/logs?window=1h").status == 200
                return status == 200

            until(sent)
    assert set(statuses) <= {200, 503, 507}
    known = [one.day for one in service.parts.records.days.known() if one.day]
    assert len(known) < 12 and max(known) == int(now.timestamp()) // 86400 - 1
    acts = [act["subject"] for act in running.get("/api/acts?act=removed%20evidence&limit=500")["acts"]]
    assert acts and all("what is beyond" in act for act in acts)
    days = [act[:10] for act in acts][::-1]
    assert days == sorted(days) and max(days) < day_text(min(known))
    until(lambda: running.ask("GET", "/health").status == 200)
    running.http.clear()
    service.stop()


def test_a_full_disk_is_emptied_with_the_room_that_was_kept(weeks: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """Where not even a removal can be written, the room that is kept for it is let go, and kept again afterwards."""
    data, removed = weeks.service.settings.data, retention.remove
    reserve.keep(data)
    assert (data / reserve.NAME).stat().st_size > 1_000_000
    tried: list[bool] = []

    def full(*given: Any) -> int:
        tried.append((data / reserve.NAME).exists())
        if tried[-1]:
            raise StoreFull("the disk is full")
        return removed(*given)

    monkeypatch.setattr(retention, "remove", full)
    keep(weeks, kind="logs", days=15)
    done = weeks.service.keeping.look()
    assert len(done) >= 2 and tried[:2] == [True, False]
    assert (data / reserve.NAME).exists()
