"""Removing an app: it is hidden at once, and what it reported is deleted bit by bit, so that nobody waits for it. Runs on the writer."""

from __future__ import annotations

import json
import sqlite3
from typing import Final

from obitus.store.errors import NotThere

ROWS_AT_ONCE: Final = 200
"""Reports that one step deletes: some milliseconds of the writer's time."""

# Its name is free again, in the statement that hides it.
_HIDE = "UPDATE apps SET removed_ms = :now_ms, name = name || ' (removed ' || id || ')' WHERE name = :name AND removed_ms IS NULL RETURNING id"
_REVOKE = "UPDATE reporting_keys SET revoked_ms = ? WHERE app_id = ? AND revoked_ms IS NULL"
_REMOVED = (
    "SELECT id FROM apps WHERE removed_ms IS NOT NULL AND EXISTS (SELECT 1 FROM reports WHERE app_id = apps.id) LIMIT 1"
)
_ISSUELESS = (
    "SELECT id FROM apps WHERE removed_ms IS NOT NULL AND EXISTS (SELECT 1 FROM issues WHERE app_id = apps.id) LIMIT 1"
)
_SEQS = "SELECT seq FROM reports WHERE app_id = ? ORDER BY received_ms LIMIT ?"
_ISSUES = "SELECT id FROM issues WHERE app_id = ? LIMIT ?"
_OF_REPORTS: Final = (
    "UPDATE issue_history SET seq = NULL WHERE seq IN (SELECT value FROM json_each(?))",
    "DELETE FROM growing_tallies WHERE seq IN (SELECT value FROM json_each(?))",
    "DELETE FROM failures WHERE seq IN (SELECT value FROM json_each(?))",
    "DELETE FROM evidence WHERE seq IN (SELECT value FROM json_each(?))",
    "DELETE FROM reports WHERE seq IN (SELECT value FROM json_each(?))",
)
_OF_ISSUES: Final = (
    "UPDATE issues SET merged_into = NULL WHERE merged_into IN (SELECT value FROM json_each(?))",
    "DELETE FROM revealings WHERE issue_id IN (SELECT value FROM json_each(?1)) OR by_issue IN (SELECT value FROM json_each(?1))",
    "DELETE FROM never_together WHERE issue_id IN (SELECT value FROM json_each(?1)) OR other_id IN (SELECT value FROM json_each(?1))",
    "DELETE FROM settlings WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM issue_releases WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM issue_counts WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM issue_history WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM rate_steps WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM fingerprints WHERE issue_id IN (SELECT value FROM json_each(?))",
    "DELETE FROM issues WHERE id IN (SELECT value FROM json_each(?))",
)
_REST: Final = (
    "DELETE FROM fingerprint_keys WHERE app_id = ?",
    "DELETE FROM run_counts WHERE app_id = ?",
    "DELETE FROM entry_points WHERE app_id = ?",
    "DELETE FROM environments WHERE app_id = ?",
    "DELETE FROM new_issues WHERE app_id = ?",
    "DELETE FROM deploys WHERE app_id = ?",
    "DELETE FROM rate_steps WHERE release_id IN (SELECT id FROM releases WHERE app_id = ?)",
    "DELETE FROM release_runs WHERE release_id IN (SELECT id FROM releases WHERE app_id = ?)",
    "DELETE FROM release_hours WHERE release_id IN (SELECT id FROM releases WHERE app_id = ?)",
)


def hide(connection: sqlite3.Connection, name: str, now_ms: int) -> int:
    """Hide an app, revoke its keys, and return its id; what it reported is deleted by ``step``. Raises NotThere."""
    row = connection.execute(_HIDE, {"name": name, "now_ms": now_ms}).fetchone()
    if row is None:
        raise NotThere(f"there is no app named {name!r}")
    connection.execute(_REVOKE, (now_ms, row[0]))
    return int(row[0])


def step(connection: sqlite3.Connection) -> bool:
    """Delete the next bit of what removed apps reported; return whether there was any."""
    row = connection.execute(_REMOVED).fetchone()
    if row is not None:
        _delete(connection, _SEQS, _OF_REPORTS, row[0])
        return True
    row = connection.execute(_ISSUELESS).fetchone()
    if row is None:
        return False
    if not _delete(connection, _ISSUES, _OF_ISSUES, row[0]):
        for statement in _REST:
            connection.execute(statement, row)
    return True


def _delete(connection: sqlite3.Connection, which: str, statements: tuple[str, ...], app_id: int) -> bool:
    """Delete some rows and what refers to them; return whether more may be there."""
    ids = [row[0] for row in connection.execute(which, (app_id, ROWS_AT_ONCE))]
    for statement in statements:
        connection.execute(statement, (json.dumps(ids),))
    return len(ids) == ROWS_AT_ONCE
