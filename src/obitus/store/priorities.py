"""The facts for priorities, read for several issues at once."""

from __future__ import annotations

import json
from typing import Final

from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.core.priority import Facts
from obitus.store.database import Reader
from obitus.store.rows.issues import Issue, IssueCount, SpreadTo, Weighed

_LATEST = """
SELECT issues.id, failures.severity, failures.handled, issues.priority, people.name AS priority_by
FROM issues JOIN failures ON failures.seq = issues.last_seq LEFT JOIN people ON people.id = issues.priority_by
WHERE issues.id IN (SELECT value FROM json_each(:ids))"""
_HOURS = """
SELECT issue_id, SUM(failures) AS n FROM issue_counts
WHERE issue_id IN (SELECT value FROM json_each(:ids)) AND hour >= :first AND hour < :end GROUP BY issue_id"""
_LAST_HOUR = """
SELECT issue_id, SUM(stands_for) AS n FROM failures
WHERE issue_id IN (SELECT value FROM json_each(:ids)) AND time_ms >= :from_ms AND time_ms < :to_ms GROUP BY issue_id"""
# Releases, environments and entry points in which it was first seen within the day, after others before.
_SPREAD = """
SELECT issue_id, name FROM (
  SELECT issue_id, environment AS name, MIN(first_ms) AS first_ms FROM issue_releases WHERE issue_id IN (SELECT value FROM json_each(:ids)) GROUP BY issue_id, environment
  UNION ALL
  SELECT issue_id, entry_point AS name, MIN(first_ms) AS first_ms FROM issue_releases WHERE issue_id IN (SELECT value FROM json_each(:ids)) GROUP BY issue_id, entry_point)
WHERE first_ms >= :from_ms AND name <> '' AND first_ms > (SELECT issues.first_ms FROM issues WHERE issues.id = issue_id) + :settle_ms
ORDER BY issue_id, first_ms"""
SPREADS_AFTER_MS: Final = HOUR_MS
"""What is met within an hour of the first failure is where it began, and not where it spread to."""


_UNKNOWN: Final = Weighed(0, "ERROR", 0, None, None)
"""For an issue whose latest failure is not kept any more."""


def facts_of(reader: Reader, rows: list[Issue], now_ms: int) -> dict[int, Facts]:
    """Return the facts for the priorities of several issues."""
    ids = json.dumps([row.id for row in rows])
    hour = now_ms // HOUR_MS
    times = {"ids": ids, "from_ms": now_ms - HOUR_MS, "to_ms": now_ms + HOUR_MS}
    latest = {row.id: row for row in reader.all(Weighed, _LATEST, {"ids": ids})}
    last_hour = _counts(reader, _LAST_HOUR, times)
    day_before = _counts(reader, _HOURS, {"ids": ids, "first": hour - 24, "end": hour})
    spread: dict[int, list[str]] = {}
    values = {"ids": ids, "from_ms": now_ms - DAY_MS, "settle_ms": SPREADS_AFTER_MS}
    for spread_to in reader.all(SpreadTo, _SPREAD, values):
        spread.setdefault(spread_to.issue_id, []).append(spread_to.name)
    return {
        row.id: Facts(
            row.state,
            row.first_ms,
            row.last_ms,
            row.users,
            last.severity,
            bool(last.handled),
            last_hour.get(row.id, 0),
            day_before.get(row.id, 0),
            tuple(spread.get(row.id, ())),
            last.priority,
            last.priority_by or "",
            bool(row.reopened),
        )
        for row in rows
        for last in (latest.get(row.id, _UNKNOWN),)
    }


def _counts(reader: Reader, sql: str, values: dict[str, object]) -> dict[int, int]:
    return {row.issue_id: row.n for row in reader.all(IssueCount, sql, values)}
