"""Stores that earlier versions made of real reports come to today's version with all that was in them."""

from __future__ import annotations

import io
import json
import signal
import sqlite3
import subprocess
import sys
import tarfile
from pathlib import Path
from typing import Any

import pytest
import zstandard

from obitus.core.alerting.conditions import read_condition
from obitus.core.days import day_and_place
from obitus.service.settings import system_clock_ms
from obitus.store.migrations import SCHEMA_VERSION, open_for_writing, to_days
from tests import kept
from tests.conftest import Running, start
from tests.store.test_rates import assert_same

pytestmark = pytest.mark.long

STORES = Path(__file__).parent / "stores"
VERSIONS = range(1, SCHEMA_VERSION)


def restored(version: int, folder: Path) -> Path:
    """Write the store that a version made, and return its main file."""
    folder.mkdir()
    path = folder / "obitus.sqlite3"
    kept_as = next(STORES.glob(f"version_{version}.*.zst"))
    content = zstandard.ZstdDecompressor().decompress(kept_as.read_bytes())
    if kept_as.name.endswith(".tar.zst"):
        with tarfile.open(fileobj=io.BytesIO(content)) as archive:
            archive.extractall(folder, filter="data")
    else:
        connection = sqlite3.connect(path)
        connection.executescript(content.decode())
        connection.close()
    assert version_of(path) == version
    return path


def version_of(path: Path) -> int:
    connection = sqlite3.connect(path)
    found = int(connection.execute("PRAGMA user_version").fetchone()[0])
    connection.close()
    return found


def assert_all_there(folder: Path) -> None:
    """Start a service on the store: pages, reports, counts and what was decided are as they were; the same reports are known."""
    thread, running = start(folder)
    try:
        latest_ms = running.service.records.reader.one("SELECT MAX(received_ms) AS ms FROM failures")["ms"]
        running.clock.ahead_ms = latest_ms + 60_000 - system_clock_ms()
        _look(running)
        reports = kept.reports(running.service)
        assert (
            sorted(report["kind"] for report in reports) == ["failure"] * 6 + ["log"] * 2 + ["run"] * 2 + ["tally"] * 2
        )
        # Whoever missed the answer years ago sends them once more.
        key = running.ask("POST", "/api/apps/sailings/keys", {"environment": "production"}).json()["key"]
        sent: list[Any] = [
            {name: value for name, value in report.items() if name != "clock_skew_ms"} for report in reports
        ]
        answer = running.send(key, *sent).json()
        assert (answer["stored"], answer["already_there"]) == (0, 12), answer
        _look(running)
    finally:
        running.http.clear()
        thread.stop()


def _look(running: Running) -> None:
    connection = sqlite3.connect(running.service.settings.database)
    assert_same(connection)
    assert connection.execute("PRAGMA foreign_key_check").fetchall() == []
    assert connection.execute("SELECT SUM(failures) FROM issue_counts").fetchone()[0] == 6
    assert connection.execute("SELECT SUM(reports), COUNT(*) FROM days").fetchone() == (12, 2)
    assert connection.execute("SELECT SUM(runs) FROM run_counts").fetchone()[0] == 14
    connection.close()
    issues = {issue["number"]: issue for issue in running.issues()}
    assert sum(issue["failures"] for issue in issues.values()) == 6
    issue = running.get("/api/issues/1")
    assert issue["state"] == "regressed" and issue["failures_in_all"] == 2
    assert [entry["to_state"] for entry in issue["history"]] == ["untriaged", "settled", "regressed"]
    assert issue["history"][2]["failure"] == issue["latest"]["id"]
    assert issue["latest"]["report"]["exceptions"][0]["message"] == "no depth_at"
    assert issue["first"]["earlier"] is None and issue["first"]["later"] == issue["latest"]["id"]
    assert running.get("/api/issues/1/since")["releases"]
    logs = kept.reports(running.service, "log")
    assert {log["message"] for log in logs} == {"berth 4 is taken"} and logs[0]["attributes"] == {
        "user.id": "p-102",
        "wait_s": 2.5,
    }
    (app,) = running.get("/api/apps")["apps"]
    assert app["first_report"] is not None


@pytest.mark.parametrize("version", VERSIONS)
def test_a_store_of_each_version(tmp_path: Path, version: int) -> None:
    """Whatever version made it."""
    restored(version, tmp_path / "data")
    assert_all_there(tmp_path / "data")


@pytest.mark.parametrize("version", [1, 7])
def test_an_upgrade_that_breaks_off_starts_over(tmp_path: Path, version: int, monkeypatch: pytest.MonkeyPatch) -> None:
    """Full disk in the middle: the file is as it was, half of the day files are there, and the next start does it all."""
    path = restored(version, tmp_path / "data")
    fill = to_days._fill

    def fills_one(*given: Any) -> None:
        if list((tmp_path / "data/days").glob("*.sqlite3")):
            raise OSError(28, "No space left on device")
        fill(*given)

    with monkeypatch.context() as patch:
        patch.setattr(to_days, "_fill", fills_one)
        with pytest.raises(OSError, match="No space"):
            open_for_writing(path)
    assert version_of(path) == 7, "the steps before were done, each for itself"
    assert len(list((tmp_path / "data/days").glob("*.sqlite3"))) == 1
    assert_all_there(tmp_path / "data")


@pytest.mark.parametrize("files", [0, 1, 2])
def test_an_upgrade_that_is_killed_starts_over(tmp_path: Path, files: int) -> None:
    """Killed behind each day file, the last one included: the main file still says version 7."""
    path = restored(7, tmp_path / "data")
    code = f"""
import os, signal
from pathlib import Path
from obitus.store.migrations import open_for_writing, to_days
made, let_go = [], to_days.let_go
def killed(*given):
    let_go(*given)
    made.append(given)
    if len(made) == {files}:
        os.kill(os.getpid(), signal.SIGKILL)
to_days.let_go = killed
if {files} == 0:
    to_days._fill = lambda *given: os.kill(os.getpid(), signal.SIGKILL)
open_for_writing(Path({str(path)!r}))
"""
    child = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert child.returncode == -signal.SIGKILL, child.stderr
    assert version_of(path) == 7
    assert_all_there(tmp_path / "data")


def test_numbers_follow_from_days(tmp_path: Path) -> None:
    """The numbers of moved reports say their days, in the order they came."""
    path = restored(7, tmp_path / "data")
    connection = open_for_writing(path)
    seqs = [row[0] for row in connection.execute("SELECT seq FROM failures ORDER BY seq")]
    days = [row[0] for row in connection.execute("SELECT day FROM days ORDER BY day")]
    connection.close()
    assert [day_and_place(seq)[0] for seq in seqs] == [days[0]] * 3 + [days[1]] * 3
    assert json.dumps(sorted(seqs)) == json.dumps(seqs)


def test_alert_rules_name_rate_regressions(tmp_path: Path) -> None:
    """However a rule was written; a question of it stays as it is. Events that are still to be read have the new name, too."""
    path = restored(25, tmp_path / "data")
    conditions = {
        "rate stepped up": "rate regression",
        "issue regressed, rate  stepped\n  up where app=sailings": "issue regressed, rate regression where app=sailings",
        'new issue where message~"rate stepped up"': 'new issue where message~"rate stepped up"',
        'count of logs > 20 in 10m where "no rate stepped up"': 'count of logs > 20 in 10m where "no rate stepped up"',
    }
    connection = sqlite3.connect(path)
    person = connection.execute("SELECT MIN(id) FROM people").fetchone()[0]
    for number, condition in enumerate(conditions):
        connection.execute(
            "INSERT INTO alert_rules (name, condition, priority, at_most_an_hour, source, person_id, created_ms, changed_ms) "
            "VALUES (?, ?, 'high', 10, '', ?, 0, 0)",
            (f"rule {number}", condition, person),
        )
    subject = json.dumps({"release_id": 1, "environment": "production"})
    connection.execute("INSERT INTO events (time_ms, kind, subject) VALUES (0, 'rate-stepped-up', ?)", (subject,))
    connection.commit()
    connection.close()
    connection = open_for_writing(path)
    found = connection.execute("SELECT condition FROM alert_rules ORDER BY id").fetchall()
    assert [row[0] for row in found] == list(conditions.values())
    for condition in conditions.values():
        read_condition(condition, 0)
    kinds = {row[0] for row in connection.execute("SELECT kind FROM events")}
    assert "rate-regression" in kinds and "rate-stepped-up" not in kinds
    connection.close()
