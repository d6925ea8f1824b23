"""What a shift hands on: changes of issues in a span of time, and what waits at its end."""

from __future__ import annotations

from typing import Final

from obitus.store import issues
from obitus.store.database import Reader
from obitus.store.rows.issues import Issue
from obitus.store.rows.triage import ChangeThen
from obitus.store.windows import Window

MOST_CHANGES: Final = 500

# Of a long span the latest rows, in the order in which they happened.
_CHANGES: Final = """
SELECT * FROM (
  SELECT h.issue_id, h.time_ms, people.name AS person, h.from_state, h.to_state, h.reason, apps.name AS app, i.type, i.cause, i.place
  FROM issue_history h INDEXED BY issue_history_by_time JOIN issues i ON i.id = h.issue_id
  JOIN apps ON apps.id = i.app_id AND apps.removed_ms IS NULL LEFT JOIN people ON people.id = h.person_id
  WHERE h.time_ms >= :from_ms AND h.time_ms < :to_ms AND h.to_state IS NOT NULL AND h.from_state IS NOT NULL AND (:app IS NULL OR apps.name = :app)
    AND (h.person_id IS NOT NULL OR h.from_state <> h.to_state)
  ORDER BY h.time_ms DESC, h.id DESC LIMIT :most)
ORDER BY time_ms, issue_id"""
_BEGUN: Final = """
SELECT * FROM (
  SELECT i.id AS issue_id, i.first_ms AS time_ms, NULL AS person, NULL AS from_state, i.state AS to_state,
    (SELECT reason FROM issue_history WHERE issue_history.issue_id = i.id ORDER BY issue_history.id LIMIT 1) AS reason,
    apps.name AS app, i.type, i.cause, i.place
  FROM issues i INDEXED BY issues_by_first JOIN apps ON apps.id = i.app_id AND apps.removed_ms IS NULL
  WHERE i.first_ms >= :from_ms AND i.first_ms < :to_ms AND i.merged_into IS NULL AND (:app IS NULL OR apps.name = :app)
  ORDER BY i.first_ms DESC LIMIT :most)
ORDER BY time_ms, issue_id"""
_WAITING: Final = """
SELECT issues.id FROM (
  SELECT id FROM issues WHERE holder_id IS NOT NULL
  UNION SELECT id FROM issues WHERE waits_for <> ''
  UNION SELECT issue_id FROM parkings) w
JOIN issues ON issues.id = w.id JOIN apps ON apps.id = issues.app_id AND apps.removed_ms IS NULL
WHERE issues.state <> 'settled' AND issues.merged_into IS NULL AND (:app IS NULL OR apps.name = :app)
ORDER BY issues.last_ms DESC LIMIT :most"""


def changes(reader: Reader, window: Window) -> list[ChangeThen]:
    """Return changes of issues inside a window, those of new ones first, each oldest first: of very many, the latest."""
    values = {"from_ms": window.from_ms, "to_ms": window.to_ms, "app": window.app, "most": MOST_CHANGES}
    begun = reader.all(ChangeThen, _BEGUN, values)
    return [*begun, *reader.all(ChangeThen, _CHANGES, values)]


def waiting(reader: Reader, window: Window, most: int) -> list[Issue]:
    """Return open issues that somebody has, that wait for something, or that are parked with a condition."""
    return issues.numbered(reader, reader.column(int, _WAITING, {"app": window.app, "most": most}))
