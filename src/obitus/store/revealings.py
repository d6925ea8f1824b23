"""Issues that were revealed by the fix of another one."""

from __future__ import annotations

import sqlite3

from obitus.store.database import Reader
from obitus.store.issues import note
from obitus.store.rows.issues import Revealing, SettledCandidate

_BY = "SELECT by_issue AS other, entry_point, reason FROM revealings WHERE issue_id = ?"
_OF = "SELECT issue_id AS other, entry_point, reason FROM revealings WHERE by_issue = ? ORDER BY issue_id LIMIT 20"
_ADD = """
INSERT INTO revealings (issue_id, by_issue, entry_point, reason, found_ms) VALUES (:issue_id, :by_issue, :entry_point, :reason, :now_ms)
ON CONFLICT DO NOTHING"""
# By entry point first: an app has thousands of issues, an entry point few.
_CANDIDATES = """
SELECT DISTINCT i.id, i.last_seq, s.environment, s.how, s.release, s.after, s.time_ms
FROM issue_releases ir INDEXED BY issue_releases_by_point JOIN issues i ON i.id = ir.issue_id JOIN settlings s ON s.issue_id = i.id
WHERE ir.entry_point = :entry_point AND i.app_id = :app_id AND i.id != :issue_id AND i.state = 'settled'
ORDER BY s.time_ms DESC LIMIT 20"""


def revealed_by(reader: Reader, issue_id: int) -> list[Revealing]:
    """Return (other, entry_point, reason) of the issue whose fix revealed this one; none or one."""
    return reader.all(Revealing, _BY, (issue_id,))


def revealed(reader: Reader, issue_id: int) -> list[Revealing]:
    """Return (other, entry_point, reason) of the issues that this one's fix revealed."""
    return reader.all(Revealing, _OF, (issue_id,))


def settled_on(reader: Reader, app_id: int, entry_point: str, issue_id: int) -> list[SettledCandidate]:
    """Return settled issues of an entry point, with their settlings, the latest first."""
    return reader.all(
        SettledCandidate, _CANDIDATES, {"app_id": app_id, "entry_point": entry_point, "issue_id": issue_id}
    )


def add(
    connection: sqlite3.Connection, issue_id: int, by_issue: int, entry_point: str, reason: str, now_ms: int
) -> None:
    """Store that an issue was revealed by another one's fix, and add it to the history of both."""
    values = {
        "issue_id": issue_id,
        "by_issue": by_issue,
        "entry_point": entry_point,
        "reason": reason,
        "now_ms": now_ms,
    }
    if connection.execute(_ADD, values).rowcount == 0:
        return
    here = f"Revealed by the fix of issue {by_issue} on {entry_point}: {reason}."
    there = f"Its fix revealed issue {issue_id} on {entry_point}: {reason}."
    note(connection, issue_id, None, here, now_ms)
    note(connection, by_issue, None, there, now_ms)
