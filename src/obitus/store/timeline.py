"""Events around a moment in addition to reports: new issues, notes and decisions."""

from __future__ import annotations

from typing import Final

from obitus.store.database import Reader
from obitus.store.rows.issues import DecidedThen, IssueBegun, WrittenThen

MOST: Final = 50

_BEGUN: Final = """
SELECT i.id, i.type, i.cause, i.place, i.first_ms, apps.name AS app FROM issues i INDEXED BY issues_by_first JOIN apps ON apps.id = i.app_id
WHERE i.first_ms >= ? AND i.first_ms < ? AND i.merged_into IS NULL AND apps.removed_ms IS NULL ORDER BY i.first_ms LIMIT ?"""
_DECIDED: Final = """
SELECT h.id, h.issue_id, h.time_ms, h.reason, apps.name AS app
FROM issue_history h INDEXED BY issue_history_by_time JOIN issues i ON i.id = h.issue_id JOIN apps ON apps.id = i.app_id
WHERE h.time_ms >= ? AND h.time_ms < ? AND h.to_state IS NOT NULL AND h.from_state IS NOT NULL AND apps.removed_ms IS NULL ORDER BY h.time_ms LIMIT ?"""


_WRITTEN: Final = """
SELECT n.id, n.issue_id, n.time_ms, n.looked_at, n.found, substr(n.text, 1, 200) AS text, people.name AS person, apps.name AS app
FROM notes n INDEXED BY notes_by_time JOIN issues i ON i.id = n.issue_id JOIN apps ON apps.id = i.app_id JOIN people ON people.id = n.person_id
WHERE n.time_ms >= ? AND n.time_ms < ? AND n.removed_ms IS NULL AND apps.removed_ms IS NULL ORDER BY n.time_ms LIMIT ?"""


def notes_between(reader: Reader, from_ms: int, to_ms: int) -> list[WrittenThen]:
    """Return the notes and checks that were written inside a span, the earliest first."""
    return reader.all(WrittenThen, _WRITTEN, (from_ms, to_ms, MOST))


def issues_begun(reader: Reader, from_ms: int, to_ms: int) -> list[IssueBegun]:
    """Return issues whose first failure is inside a span, the earliest first."""
    return reader.all(IssueBegun, _BEGUN, (from_ms, to_ms, MOST))


def decided_between(reader: Reader, from_ms: int, to_ms: int) -> list[DecidedThen]:
    """Return changes of issues inside a span, by people or automatic, the earliest first."""
    return reader.all(DecidedThen, _DECIDED, (from_ms, to_ms, MOST))
