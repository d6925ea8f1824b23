"""Settled issues that may be similar to another one: candidates, a bounded number, the latest settled first."""

from __future__ import annotations

from typing import Final

from obitus.core.earlier import Looks
from obitus.core.grouping.messages import template
from obitus.store.database import Reader
from obitus.store.grouping import traits_of
from obitus.store.rows.issues import Issue
from obitus.store.rows.triage import SettledThen

MOST_CANDIDATES: Final = 200
_COLUMNS: Final = """
SELECT i.id, apps.name AS app, i.type, i.cause, i.place, i.message, i.entry_point, i.state, i.settled_ms, i.first_ms, i.failures
FROM issues i JOIN apps ON apps.id = i.app_id AND apps.removed_ms IS NULL"""
_OPEN: Final = (
    " AND i.settled_ms IS NOT NULL AND i.merged_into IS NULL AND i.id <> :id ORDER BY i.settled_ms DESC LIMIT :most"
)
# Of any app: the same library fails in several, and may have been solved in another one.
_BY_PLACE: Final = f"{_COLUMNS} WHERE i.place = :place AND i.place <> ''{_OPEN}"
_BY_TYPE: Final = f"{_COLUMNS} WHERE i.type IN (:type, :cause){_OPEN}"
_BY_POINT: Final = (
    f"{_COLUMNS} WHERE i.entry_point = :entry_point AND i.entry_point <> '' AND i.app_id = :app_id{_OPEN}"
)
_HOW: Final = """
SELECT h.reason FROM issue_history h JOIN issues i ON i.id = h.issue_id
WHERE h.issue_id = ? AND h.to_state = 'settled' AND h.time_ms = i.settled_ms ORDER BY h.id DESC LIMIT 1"""


def candidates(reader: Reader, issue: Issue) -> list[SettledThen]:
    """Return issues that were settled once, and that share a function, a type or an entry point with this one."""
    values = {
        "id": issue.id,
        "app_id": issue.app_id,
        "place": issue.place,
        "type": issue.type,
        "cause": issue.cause or issue.type,
        "entry_point": issue.entry_point,
        "most": MOST_CANDIDATES,
    }
    settled: dict[int, SettledThen] = {}
    for sql in (_BY_PLACE, _BY_TYPE, _BY_POINT):
        settled |= {row.id: row for row in reader.all(SettledThen, sql, values)}
    return list(settled.values())


def looks_of(reader: Reader, row: Issue | SettledThen, *, traits: bool = False) -> Looks:
    """Return the compared properties of an issue; with its ``traits`` where these are needed."""
    traits_known = traits_of(reader, row.id) if traits else []
    message = template(row.message)
    return Looks(row.type, row.cause, row.place, message, row.entry_point, traits_known[0] if traits_known else None)


def settled_by(reader: Reader, issue_id: int) -> str:
    """Return how an issue was settled last, in words, '' where that is not known."""
    hows = reader.column(str, _HOW, (issue_id,))
    return hows[0] if hows else ""
