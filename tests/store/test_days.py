"""Day files and the main file agree, whatever is killed, moved, removed or broken, and whenever a report comes."""

from __future__ import annotations

import json
import signal
import sqlite3
import subprocess
import sys
import uuid
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from obitus.core.clock import DAY_MS, to_text
from obitus.core.days import day_text
from obitus.store.backups.restoring import restore
from obitus.store.backups.taking import take
from obitus.store.backups.verifying import verify
from obitus.store.days import writing
from obitus.store.days.files import days_in
from obitus.store.errors import StoreError
from obitus.store.removing_days import remove_day
from tests import kept
from tests.conftest import Running, failure, start
from tests.store.test_rates import assert_same

# Prepares the reports of a file and writes them in one commit; it kills itself at one of the points between the files' commits.
CHILD = """
import json, os, signal, sys
from pathlib import Path
from obitus.service.intake.prepare import Preparer, Ready, Sender
from obitus.service.settings import Settings, system_clock_ms
from obitus.store.intake.taking import take
from obitus.store.records import OpenRecords

folder, lines, at = Path(sys.argv[1]), Path(sys.argv[2]), int(sys.argv[3])
settings = Settings(data=folder, port=0)
# The store alone: the jobs of a service commit their positions, and those commits have points of their own.
records = OpenRecords(settings.database, settings.url)
preparer, sender = Preparer(records.evidence), Sender(1, "sailings", "production", system_clock_ms())
ready = [preparer.prepare(line, sender) for line in lines.read_bytes().splitlines()]
assert all(isinstance(one, Ready) for one in ready), [one for one in ready if not isinstance(one, Ready)]
points = []

def reached(point):
    points.append(point)
    if len(points) == at:
        os.kill(os.getpid(), signal.SIGKILL)

records.writer.reached = reached
records.writer.run(lambda c: take(c, records.writer.days, [one.prepared for one in ready]))
print(len(points), flush=True)
records.close()
"""


def reports_of_three_days(now_ms: int) -> list[dict[str, Any]]:
    """Return reports of each kind for today and two days before, with ids that do not say when they were made."""
    found: list[dict[str, Any]] = []
    for days_ago in (0, 1, 2):
        time_text = to_text(now_ms - days_ago * DAY_MS)
        common = {"time": time_text, "release": f"3.{days_ago}.0"}
        run = {"entry_point": "GET /berths", "outcome": "failed", "duration_ms": 12.5}
        log = {"kind": "log", "severity": "INFO", "message": "berth 4 is free", "template": "berth %s is free"}
        tally = {"kind": "tally", "entry_point": "GET /berths", "outcome": "failed", "runs": 3, "grows": True}
        found += [failure(), failure(), {"kind": "run", "run": run}, dict(log), dict(log), dict(log), tally]
        for report in found[-7:]:
            report |= common | {"id": str(uuid.uuid4())}
    return found


def sums(running: Running) -> tuple[Any, ...]:
    """Return what is counted, and how many rows there are of it."""
    connection = sqlite3.connect(running.service.settings.database)
    assert_same(connection)
    counted = [
        connection.execute(f"SELECT COALESCE(SUM({column}), 0) FROM {table}").fetchone()[0]
        for column, table in (
            ("failures", "issues"),
            ("failures", "issue_counts"),
            ("runs", "run_counts"),
            ("reports", "days"),
        )
    ]
    connection.close()
    days = running.service.records.days
    rows = [
        sum(days.rows(known.day, f"SELECT COUNT(*) AS n FROM {table}")[0]["n"] for known in days.known())
        for table in ("ids", "evidence", "logs", "runs")
    ]
    return *counted, *rows


@pytest.mark.long
@pytest.mark.parametrize("point", range(1, 7))
def test_killed_between_the_commits(tmp_path: Path, point: int) -> None:
    """At each point of a commit of three day files and the main file: what was sent again is there once, and all counts are right."""
    thread, running = start(tmp_path / "data")
    key = running.add_app()
    reports = reports_of_three_days(running.clock())
    thread.stop()
    lines = tmp_path / "lines.ndjson"
    lines.write_text("\n".join(map(json.dumps, reports)))
    child = subprocess.run([sys.executable, "-c", CHILD, str(tmp_path / "data"), str(lines), str(point)], capture_output=True, text=True)  # fmt: skip
    if point <= 5:
        assert child.returncode == -signal.SIGKILL, child.stderr
    else:
        assert (child.returncode, child.stdout.strip()) == (0, "5"), "there is no sixth point"
    thread, running = start(tmp_path / "data")
    try:
        sums(running)
        answer = running.send(key, *reports).json()
        assert (answer["stored"], answer["already_there"]) == ((21, 0) if point < 5 else (0, 21)), answer
        assert running.send(key, *reports).json()["already_there"] == 21
        assert sums(running) == (6, 6, 9, 21, 21, 12, 9, 3)
        assert len(set(kept.ids(running.service.records.days))) == 21
        found = kept.reports(running.service, "log")
        assert [log["message"] for log in found] == ["berth 4 is free"] * 9
    finally:
        running.http.clear()
        thread.stop()


def test_what_fails_in_the_middle_is_taken_back(running: Running) -> None:
    """A fault between two commits: the sender is told to come again, and what was on disk already does not count."""
    key, reports = running.add_app(), reports_of_three_days(running.clock())
    assert running.send(key, failure()).json()["stored"] == 1

    def fails(point: str) -> None:
        if point == "before the main file":
            raise sqlite3.OperationalError("disk I/O error")

    running.service.records.writer.reached = fails
    assert running.send(key, *reports).status >= 400
    running.service.records.writer.reached = lambda _: None
    assert running.send(key, *reports).json()["stored"] == 21
    assert sums(running) == (7, 7, 9, 22, 22, 13, 9, 3)


def test_a_day_whose_file_is_gone(running: Running) -> None:
    """Pages go on and say since when, or that it is missing; what comes late makes another file."""
    key = running.add_app()
    old, new = failure(time=to_text(running.clock() - 3 * DAY_MS)), failure()
    running.send(key, old, new)
    service = running.service
    day = min(known.day for known in service.records.days.known())
    path = service.records.days.folder / f"{day_text(day)}.sqlite3"
    service.records.writer.run(lambda _: service.records.writer.days.let_be_removed(day))
    service.records.days.forget(day)
    path.rename(path.with_suffix(".elsewhere"))
    found = running.get(f"/api/failures/{old['id']}")
    assert found["report"] is None and "is missing" in found["gone"] and day_text(day) in found["gone"]
    path.with_suffix(".elsewhere").rename(path)
    assert running.get(f"/api/failures/{old['id']}")["gone"] is None
    assert remove_day(service.records.writer, service.records.days, day, running.clock(), "after 30 days")
    assert not remove_day(service.records.writer, service.records.days, day, running.clock(), "after 30 days")
    assert not list(service.records.days.folder.glob(f"{day_text(day)}*"))
    issue = running.get("/api/issues/1")
    assert issue["failures_in_all"] == 2 and issue["latest"]["report"]["id"] == new["id"]
    said = issue["first"]["gone"]
    assert said.startswith("Its evidence was removed on ") and ", after 30 days." in said
    running.get("/api/issues/1/since")
    assert running.ask("POST", "/api/regroupings/preview", {"app": "sailings"}).status == 200
    late = failure(time=old["time"])
    assert running.send(key, late).json()["stored"] == 1
    assert running.get(f"/api/failures/{late['id']}")["report"]["id"] == late["id"]
    assert running.get(f"/api/failures/{old['id']}")["report"] is None


def test_a_broken_file_costs_one_day(running: Running, tmp_path: Path) -> None:
    """A file that is no database any more: its reports cannot be shown, all else can."""
    key = running.add_app()
    old, new = failure(time=to_text(running.clock() - 3 * DAY_MS)), failure()
    running.send(key, old, new)
    service = running.service
    day = min(known.day for known in service.records.days.known())
    service.records.writer.run(lambda _: service.records.writer.days.let_be_removed(day))
    service.records.days.forget(day)
    (service.records.days.folder / f"{day_text(day)}.sqlite3").write_bytes(b"not a database at all" * 400)
    found = running.get(f"/api/failures/{old['id']}")
    assert found["report"] is None and "damaged" in found["gone"]
    assert running.get(f"/api/failures/{new['id']}")["report"]["id"] == new["id"]
    assert running.get("/api/issues/1")["failures_in_all"] == 2
    # Nor does it keep those who go through all days from the others.
    assert service.records.evidence.train() is None
    assert running.ask("POST", "/api/redaction-rules/preview", {"rule": "name depth"}).json()["reports_looked_at"] == 1
    assert [row["failures"] for row in running.issues(question="not gone exists")] == [2]
    # What else comes of that day is taken: the broken file is kept beside another one.
    late = failure(time=old["time"])
    assert running.send(key, late, failure()).json()["stored"] == 2
    assert running.get(f"/api/failures/{late['id']}")["report"]["id"] == late["id"]
    found = running.get(f"/api/failures/{old['id']}")
    assert found["report"] is None and "was damaged; that is kept as" in found["gone"]
    assert [path.name for path in service.records.days.folder.glob("*.damaged-*")] == [
        f"{day_text(day)}.sqlite3.damaged-1"
    ]
    # The other one is in a backup, and comes back.
    take(service.settings.data, tmp_path / "kept", running.clock())
    restore(tmp_path / "kept", tmp_path / "back")
    assert verify(tmp_path / "back") == []
    with closing(sqlite3.connect(tmp_path / "back" / "days" / f"{day_text(day)}.sqlite3")) as restored:
        assert restored.execute("SELECT COUNT(*) FROM failures").fetchone() == (1,)


def test_few_files_are_open(running: Running) -> None:
    """Late reports of many days open a handful of files, one after the other."""
    key, now_ms = running.add_app(), running.clock()
    for first in range(0, 60, 6):
        reports = [failure(time=to_text(now_ms - days * DAY_MS)) for days in range(first, first + 6)]
        assert running.send(key, *reports).json()["stored"] == 6
    days = running.service.records.writer.days
    assert len(days._open) <= writing.MOST_OPEN and len(days_in(days.folder)) == 60
    assert not list(days.folder.glob("*-wal"))[writing.MOST_OPEN :]


def test_days_without_end(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """Times made up do not make files without end: a day too many is kept with the undated ones, once, and found."""
    monkeypatch.setattr(writing, "MOST_DAYS", 3)
    key, now_ms = running.add_app(), running.clock()
    reports = [failure(time=to_text(now_ms - days * DAY_MS)) for days in range(8)]
    assert running.send(key, *reports).json()["stored"] == 8
    assert running.send(key, *reports).json()["already_there"] == 8
    assert day_text(days_in(running.service.records.days.folder)[0]) == "undated"
    assert len(days_in(running.service.records.days.folder)) == 4
    assert all(running.get(f"/api/failures/{report['id']}")["report"]["id"] == report["id"] for report in reports)


def test_the_same_report_weeks_later(running: Running) -> None:
    """It meets itself, also where the clock was corrected otherwise the second time."""
    key = running.add_app()
    report = failure(time=to_text(running.clock() - 2 * DAY_MS))
    assert running.send(key, report).json()["stored"] == 1
    running.clock.ahead_ms = 21 * DAY_MS
    shown = {"Obitus-Clock": to_text(running.clock() - 5 * DAY_MS)}
    assert running.send(key, report, headers=shown).json()["already_there"] == 1


KILLED_IN_REMOVAL = """
import os, signal, sys
from pathlib import Path
from obitus.service.settings import Settings, system_clock_ms
from obitus.store import removing_days as removing
from obitus.store.records import OpenRecords

settings = Settings(data=Path(sys.argv[1]), port=0)
records = OpenRecords(settings.database, settings.url)
records.writer.reached = lambda point: os.kill(os.getpid(), signal.SIGKILL) if point == sys.argv[3] else None
removing.remove_day(records.writer, records.days, int(sys.argv[2]), system_clock_ms(), "after 30 days")
"""


@pytest.mark.parametrize("point", ["before the main file", "after the main file"])
def test_killed_while_a_day_is_removed(tmp_path: Path, point: str) -> None:
    """Either it is all there afterwards, or it is gone and said to be; no file is left over."""
    thread, running = start(tmp_path / "data")
    key = running.add_app()
    old, new = failure(time=to_text(running.clock() - 3 * DAY_MS)), failure()
    running.send(key, old, new)
    day = min(known.day for known in running.service.records.days.known())
    thread.stop()
    command = [sys.executable, "-c", KILLED_IN_REMOVAL, str(tmp_path / "data"), str(day), point]
    child = subprocess.run(command, capture_output=True, text=True)
    assert child.returncode == -signal.SIGKILL, child.stderr
    assert list((tmp_path / "data/days").glob("*.removed"))
    thread, running = start(tmp_path / "data")
    try:
        found = running.get(f"/api/failures/{old['id']}")
        if point.startswith("before"):
            assert found["report"]["id"] == old["id"] and found["gone"] is None
        else:
            assert found["report"] is None and "after 30 days" in found["gone"]
        assert not list((tmp_path / "data/days").glob("*.removed*"))
        assert running.send(key, old).json()["stored"] == (0 if point.startswith("before") else 1)
        assert running.get("/api/issues/1")["failures_in_all"] == (2 if point.startswith("before") else 3)
    finally:
        running.http.clear()
        thread.stop()


def test_a_removal_that_is_not_committed(running: Running) -> None:
    """The file comes back at once, and the same reports are known."""
    key = running.add_app()
    old = failure(time=to_text(running.clock() - 3 * DAY_MS))
    running.send(key, old)
    service = running.service
    day = service.records.days.known()[0].day

    def fails(point: str) -> None:
        if point == "before the main file":
            raise sqlite3.OperationalError("disk I/O error")

    service.records.writer.reached = fails
    with pytest.raises(StoreError):
        remove_day(service.records.writer, service.records.days, day, running.clock(), "")
    service.records.writer.reached = lambda _: None
    assert running.get(f"/api/failures/{old['id']}")["report"]["id"] == old["id"]
    assert running.send(key, old).json()["already_there"] == 1
