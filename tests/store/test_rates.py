"""Rollups say what the records say: as reports come, after issues were merged, and in a file of an earlier version."""

from __future__ import annotations

import sqlite3
import time
from pathlib import Path

import pytest

from obitus.store.intake.met import MOST_POINTS
from obitus.store.migrations import MIGRATIONS, open_for_writing, statement_file
from obitus.store.names import OTHERS
from tests.conftest import Running
from tests.service.test_releases import failed, send, tally

FROM_RECORDS = {
    "SELECT issue_id, release_id, environment, entry_point, failures, first_ms, last_ms FROM issue_releases": """
        SELECT issue_id, release_id, environment, entry_point, COUNT(*), MIN(time_ms), MAX(time_ms) FROM failures GROUP BY 1, 2, 3, 4""",
    "SELECT release_id, environment, entry_point, ok, refused, failed FROM release_runs": """
        SELECT release_id, environment, entry_point, SUM(runs * (outcome = 'ok')), SUM(runs * (outcome = 'refused')),
          SUM(runs * (outcome = 'failed')) FROM run_counts GROUP BY 1, 2, 3""",
    "SELECT release_id, environment, SUM(runs), SUM(failed) FROM release_hours WHERE runs > 0 GROUP BY 1, 2": """
        SELECT release_id, environment, SUM(runs), SUM(runs * (outcome = 'failed')) FROM run_counts GROUP BY 1, 2""",
    "SELECT release_id, environment, hour, failures FROM release_hours WHERE failures > 0": """
        SELECT release_id, environment, time_ms / 3600000, COUNT(*) FROM failures GROUP BY 1, 2, 3""",
    "SELECT issue_id, release_id, environment, day, failures FROM issue_days": """
        SELECT issue_id, release_id, environment, time_ms / 86400000, COUNT(*) FROM failures GROUP BY 1, 2, 3, 4""",
    "SELECT issue_id, release_id, environment, hour, failures FROM issue_counts": """
        SELECT issue_id, release_id, environment, time_ms / 3600000, COUNT(*) FROM failures GROUP BY 1, 2, 3, 4""",
    "SELECT slot, app_id, entry_point, release_id, environment, outcome, SUM(runs) FROM run_slots WHERE minutes = 60 GROUP BY 1, 2, 3, 4, 5, 6": """
        SELECT hour, app_id, entry_point, release_id, environment, outcome, runs FROM run_counts""",
    "SELECT issue_id, user_id, failures FROM issue_users": """
        SELECT issue_id, user_id, COUNT(*) FROM failures WHERE user_id IS NOT NULL GROUP BY 1, 2""",
    "SELECT id, users FROM issues WHERE users > 0": """
        SELECT issue_id, COUNT(DISTINCT user_id) FROM failures WHERE user_id IS NOT NULL GROUP BY 1""",
    "SELECT id, began_in_id FROM issues WHERE failures > 0": """
        SELECT issue_id, release_id FROM failures f WHERE seq = (
          SELECT seq FROM failures WHERE issue_id = f.issue_id ORDER BY time_ms, seq LIMIT 1)""",
}


def assert_same(connection: sqlite3.Connection) -> None:
    for rollup, records in FROM_RECORDS.items():
        assert sorted(map(tuple, connection.execute(rollup))) == sorted(map(tuple, connection.execute(records))), rollup


@pytest.mark.long
def test_rollups_and_records_agree(running: Running) -> None:
    """Whatever comes in whatever order, twice too; and after a merge and its undoing."""
    key = running.add_app()
    reports = [
        failed(release, hours, where, point)
        for release in ("3.0.0", "3.1.0", "")
        for hours in (30, 3, 9)
        for where in ("a.b", "c.d")
        for point in ("GET /x", "GET /y")
    ]
    send(running, key, *reports, *reports)
    send(
        running,
        key,
        *(
            tally(release, 7, hours, outcome=outcome)
            for release in ("3.0.0", "3.1.0")
            for hours in (30, 3)
            for outcome in ("ok", "failed", "refused")
        ),
    )
    connection = sqlite3.connect(running.service.settings.database)
    assert_same(connection)
    begun = running.ask("POST", "/api/issues/1/merge", {"into": 2}).json()
    for path in (f"/api/regroupings/{begun['id']}", f"/api/regroupings/{begun['id']}/undo"):
        if path.endswith("undo"):
            running.ask("POST", path)
        while running.get(f"/api/regroupings/{begun['id']}")["state"] in ("running", "undoing"):
            time.sleep(0.05)
        assert_same(connection)
    connection.close()


def test_entry_points_without_end(running: Running) -> None:
    """An app that names each path as an entry point of its own does not make a row of each."""
    key = running.add_app()
    (number, *_) = send(running, key, *(failed("3.0.0", 1, point=f"GET /passes/{i}") for i in range(MOST_POINTS + 40)))
    rows = running.service.records.reader.rows(
        "SELECT entry_point, failures FROM issue_releases WHERE issue_id = ?", (number,)
    )
    assert len(rows) == MOST_POINTS + 1
    assert {row["entry_point"]: row["failures"] for row in rows}[OTHERS] == 40


def test_an_earlier_file_gets_its_rollups(tmp_path: Path) -> None:
    """A file of version 3 is summed up on the way to this version; what was settled stays settled as it was."""
    path = tmp_path / "records.sqlite3"
    old = sqlite3.connect(path)
    for step in MIGRATIONS[:3]:
        old.executescript(statement_file(step))
    old.executescript("""
        PRAGMA user_version = 3;
        INSERT INTO apps VALUES (1, 'sailings', 'script', 0);
        INSERT INTO releases (id, app_id, version, first_ms) VALUES (1, 1, '3.0.0', 5), (2, 1, 'v3.1.0', 9);
        INSERT INTO issues (id, app_id, type, cause, place, message, entry_point, state, state_ms, settled_in, settled_ms, first_ms, last_ms, first_seq, last_seq, failures, stragglers)
        VALUES (1, 1, 'Tide', '', 'x', '', 'GET /x', 'settled', 9, '3.1.0', 9, 5, 9, 1, 3, 3, 0);
    """)
    for seq, (release, time_ms) in enumerate([(1, 5), (1, 7_200_000), (2, 9)], 1):
        old.execute(
            "INSERT INTO reports VALUES (?, ?, 1, 'failure', 'production', ?, ?, 0)",
            (seq, bytes([seq]) * 16, release, time_ms),
        )
        old.execute(
            "INSERT INTO failures VALUES (?, 1, ?, 'production', ?, 'ERROR', 0, '', 'GET /x', NULL, NULL, '', 'f')",
            (seq, release, time_ms),
        )
        old.execute("INSERT INTO issue_counts VALUES (1, ?, 'production', ?, 1)", (release, time_ms // 3_600_000))
    old.execute("INSERT INTO run_counts VALUES (1, 1, 'production', 'GET /x', 'failed', 0, 4)")
    old.commit()
    old.close()
    connection = open_for_writing(path)
    assert_same(connection)
    assert [
        tuple(row) for row in connection.execute("SELECT issue_id, environment, how, release, time_ms FROM settlings")
    ] == [(1, "", "release", "3.1.0", 9)]
    assert [row["version"] for row in connection.execute("SELECT version FROM releases ORDER BY id")] == [
        "3.0.0",
        "3.1.0",
    ]
    connection.close()
