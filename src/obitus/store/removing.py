"""Removing an app: it is hidden at once, and its reports are deleted in small steps, so that nothing waits for it.
Runs on the writer."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Iterator
from functools import partial
from typing import Final

from obitus.store.database import Reader
from obitus.store.days.reading import DayReaders
from obitus.store.days.rows import NO_ID
from obitus.store.days.writing import WritingDays
from obitus.store.errors import NotThere
from obitus.store.rows.records import ReportOfDay

ROWS_AT_ONCE: Final = 200
"""Reports that one step deletes: some milliseconds of the writer's time."""

# Its name is free again, in the statement that hides it.
_HIDE = "UPDATE apps SET removed_ms = :now_ms, name = name || ' (removed ' || id || ')' WHERE name = :name AND removed_ms IS NULL RETURNING id"
_REVOKE = "UPDATE reporting_keys SET revoked_ms = ? WHERE app_id = ? AND revoked_ms IS NULL"
_TO_EMPTY = "SELECT id FROM apps WHERE removed_ms IS NOT NULL AND emptied_ms IS NULL LIMIT 1"
_EMPTIED = "UPDATE apps SET emptied_ms = removed_ms WHERE id = ?"
_IDS = "SELECT id, place FROM ids WHERE app_id = ? AND id > ? ORDER BY id LIMIT ?"
_OF_A_DAY: Final = (
    "DELETE FROM evidence WHERE place IN (SELECT value FROM json_each(?))",
    "DELETE FROM failures WHERE place IN (SELECT value FROM json_each(?))",
    "DELETE FROM logs WHERE place IN (SELECT value FROM json_each(?))",
    "DELETE FROM runs WHERE place IN (SELECT value FROM json_each(?))",
)
_FEWER = "UPDATE days SET reports = MAX(0, reports - ?) WHERE day = ?"
_SEQS = "SELECT seq FROM failures WHERE issue_id IN (SELECT id FROM issues WHERE app_id = ?) LIMIT ?"
_ISSUES = "SELECT id FROM issues WHERE app_id = ? LIMIT ?"
_OF_FAILURES: Final = (
    "UPDATE issue_history SET seq = NULL WHERE seq IN (SELECT value FROM json_each(?))",
    "DELETE FROM only_counted WHERE seq IN (SELECT value FROM json_each(?))",
    "DELETE FROM failures WHERE seq IN (SELECT value FROM json_each(?))",
)
_OF_ISSUES: Final = (
    "UPDATE issues SET merged_into = NULL WHERE merged_into IN (SELECT value FROM json_each(?))",
    "DELETE FROM revealings WHERE issue_id IN (SELECT value FROM json_each(?1)) OR by_issue IN (SELECT value FROM json_each(?1))",
    "DELETE FROM never_together WHERE issue_id IN (SELECT value FROM json_each(?1)) OR other_id IN (SELECT value FROM json_each(?1))",
    "DELETE FROM note_versions WHERE note_id IN (SELECT id FROM notes WHERE issue_id IN (SELECT value FROM json_each(?)))",
    "DELETE FROM notes WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM attachments WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM collected_to WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM collected WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM parkings WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM decided_issues WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM settlings WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM issue_releases WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM issue_users WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM issue_days WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM issue_counts WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM issue_history WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM rate_regressions WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM fingerprints WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM issues WHERE id IN (SELECT value FROM json_each(?))",
)
_REST: Final = (
    "DELETE FROM growing_tallies WHERE app_id = ?",
    "DELETE FROM key_use WHERE key_id IN (SELECT id FROM reporting_keys WHERE app_id = ?)",
    "DELETE FROM fingerprint_keys WHERE app_id = ?",
    "DELETE FROM rates_due WHERE release_id IN (SELECT id FROM releases WHERE app_id = ?)",
    "DELETE FROM run_counts WHERE app_id = ?",
    "DELETE FROM run_slots WHERE minutes = 5 AND app_id = ?",
    "DELETE FROM run_slots WHERE minutes = 60 AND app_id = ?",
    "DELETE FROM failure_slots WHERE app_id = ?",
    "DELETE FROM call_slots WHERE minutes = 5 AND app_id = ?",
    "DELETE FROM call_slots WHERE minutes = 60 AND app_id = ?",
    "DELETE FROM link_slots WHERE minutes = 5 AND ? IN (caller_id, app_id)",
    "DELETE FROM link_slots WHERE minutes = 60 AND ? IN (caller_id, app_id)",
    "DELETE FROM latest_spans WHERE app_id = ?",
    "DELETE FROM uncalled WHERE app_id = ?",
    "DELETE FROM answered_at WHERE app_id = ?",
    "DELETE FROM targets WHERE app_id = ?",
    "DELETE FROM log_orders WHERE app_id = ?",
    "DELETE FROM kept_for WHERE app_id = ?",
    "DELETE FROM tracepoint_states WHERE app_id = ?",
    "DELETE FROM tracepoints WHERE app_id = ?",
    "DELETE FROM check_lists WHERE app_id = ?",
    "DELETE FROM app_people WHERE app_id = ?",
    "DELETE FROM owner_files WHERE app_id = ?",
    "DELETE FROM source_maps WHERE app_id = ?",
    "DELETE FROM silences WHERE app_id = ?",
    "DELETE FROM message_links WHERE firing_id IN (SELECT id FROM firings WHERE app_id = ?)",
    "DELETE FROM message_firings WHERE firing_id IN (SELECT id FROM firings WHERE app_id = ?)",
    "DELETE FROM firings WHERE app_id = ?",
    "DELETE FROM warning_slots WHERE minutes = 5 AND app_id = ?",
    "DELETE FROM warning_slots WHERE minutes = 60 AND app_id = ?",
    "DELETE FROM warned_hours WHERE app_id = ?",
    "DELETE FROM quiet_failures WHERE app_id = ?",
    "DELETE FROM entry_points WHERE app_id = ?",
    "DELETE FROM environments WHERE app_id = ?",
    "DELETE FROM new_issues WHERE app_id = ?",
    "DELETE FROM deploys WHERE app_id = ?",
    "DELETE FROM rate_regressions WHERE release_id IN (SELECT id FROM releases WHERE app_id = ?)",
    "DELETE FROM release_runs WHERE release_id IN (SELECT id FROM releases WHERE app_id = ?)",
    "DELETE FROM release_hours WHERE release_id IN (SELECT id FROM releases WHERE app_id = ?)",
)


def hide(connection: sqlite3.Connection, name: str, now_ms: int) -> int:
    """Hide an app, revoke its keys, and return its id; ``steps`` deletes its reports. Raises NotThere."""
    row = connection.execute(_HIDE, {"name": name, "now_ms": now_ms}).fetchone()
    if row is None:
        raise NotThere(f"there is no app named {name!r}")
    connection.execute(_REVOKE, (now_ms, row[0]))
    return int(row[0])


def steps(reader: Reader, days: DayReaders, writing: WritingDays) -> Iterator[Callable[[sqlite3.Connection], object]]:
    """Yield small pieces of work for the writer that delete the rest of removed apps, each to be done before the next."""
    while apps := reader.column(int, _TO_EMPTY):
        app_id = apps[0]
        for day in days.known():
            for page in _pages(days, day.day, app_id):
                yield partial(_delete_reports, writing=writing, day=day.day, app_id=app_id, rows=page)
        while reader.row(_SEQS, (app_id, 1)) is not None:
            yield partial(_delete, which=_SEQS, statements=_OF_FAILURES, app_id=app_id)
        while reader.row(_ISSUES, (app_id, 1)) is not None:
            yield partial(_delete, which=_ISSUES, statements=_OF_ISSUES, app_id=app_id)
        yield partial(_finish, app_id=app_id)


def _pages(days: DayReaders, day: int, app_id: int) -> Iterator[list[ReportOfDay]]:
    after = b""
    while rows := days.all_if_readable(ReportOfDay, day, _IDS, (app_id, after, ROWS_AT_ONCE)):
        yield rows
        after = rows[-1].id


def _delete_reports(
    connection: sqlite3.Connection, *, writing: WritingDays, day: int, app_id: int, rows: list[ReportOfDay]
) -> None:
    """Delete some of an app's reports from the file of their day."""
    file = writing.at(day).connection
    places = json.dumps([row.place for row in rows])
    for statement in _OF_A_DAY:
        file.execute(statement, (places,))
    file.executemany(NO_ID, [(row.id, app_id) for row in rows])
    connection.execute(_FEWER, (len(rows), day))


def _finish(connection: sqlite3.Connection, *, app_id: int) -> None:
    for statement in _REST:
        connection.execute(statement, (app_id,))
    connection.execute(_EMPTIED, (app_id,))


def _delete(connection: sqlite3.Connection, *, which: str, statements: tuple[str, ...], app_id: int) -> None:
    """Delete some rows and the rows that refer to them."""
    ids = [row[0] for row in connection.execute(which, (app_id, ROWS_AT_ONCE))]
    for statement in statements:
        connection.execute(statement, (json.dumps(ids),))
