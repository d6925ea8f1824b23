"""The issues of one batch's failures: each is found once, and its counts are written once for all of these failures.
Most batches have the same failure again and again. The number of statements grows with the number of issues, not of
failures, except the row of each failure.
"""

from __future__ import annotations

import sqlite3
from typing import Any, Final

from obitus.core.lifecycle import State
from obitus.store.grouping import Decided, FoundIssue, find
from obitus.store.names import OTHERS

_STATE = "SELECT state FROM issues WHERE id = ?"
_ADD_FAILURE = """
INSERT INTO failures (seq, id, app_id, issue_id, release_id, environment, time_ms, received_ms, severity, handled, message,
                      entry_point, user_id, trace_id, verdict, from_older_release, fingerprint)
VALUES (:seq, :id, :app_id, :issue_id, :release_id, :environment, :time_ms, :received_ms, :severity, :handled, :message,
        :entry_point, :user_id, :trace_id, :verdict, :from_older_release, :fingerprint)"""
# Reports come late and in any order: an issue shows failures by their own times, not by their arrival.
_MORE = """
UPDATE issues SET
  failures = failures + :failures,
  from_older_releases = from_older_releases + :from_older_releases,
  message = CASE WHEN :last_ms >= last_ms THEN :message ELSE message END,
  entry_point = CASE WHEN :last_ms >= last_ms THEN :entry_point ELSE entry_point END,
  last_seq = CASE WHEN :last_ms >= last_ms THEN :last_seq ELSE last_seq END,
  last_ms = MAX(last_ms, :last_ms),
  first_seq = CASE WHEN :first_ms < first_ms THEN :first_seq ELSE first_seq END,
  began_in_id = CASE WHEN :first_ms < first_ms THEN :began_in_id ELSE began_in_id END,
  first_ms = MIN(first_ms, :first_ms)
WHERE id = :issue_id"""
_COUNT_BY_RELEASE = """
INSERT INTO issue_releases (issue_id, release_id, environment, entry_point, failures, first_ms, last_ms)
VALUES (:issue_id, :release_id, :environment, :entry_point, :failures, :first_ms, :last_ms)
ON CONFLICT DO UPDATE SET failures = failures + excluded.failures, first_ms = MIN(first_ms, excluded.first_ms),
  last_ms = MAX(last_ms, excluded.last_ms) RETURNING failures"""
_POINTS = "SELECT COUNT(*) FROM issue_releases WHERE issue_id = :issue_id AND release_id = :release_id AND environment = :environment"
_UNCOUNT = """
DELETE FROM issue_releases WHERE issue_id = :issue_id AND release_id = :release_id AND environment = :environment
  AND entry_point = :entry_point"""
MOST_POINTS: Final = 100
"""Entry points of an issue that are counted by name in one release; further ones are counted as ``…``."""


class MetIssues:
    """The issues of one batch's failures."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection
        self._found: dict[tuple[int, str], FoundIssue] = {}
        """By app and fingerprint, where only these decide."""
        self._states: dict[int, State] = {}
        self._kept: list[dict[str, Any]] = []

    def find(self, app_id: int, decided: Decided, received_ms: int) -> FoundIssue:
        """Find the issue of a failure, like ``grouping.find``."""
        key = (app_id, decided.fingerprint)
        issue = self._found.get(key)
        if issue is None:
            issue = find(self._connection, app_id, decided, received_ms)
            # Where a split keeps issues apart, values of the failure decide too.
            if issue.known and issue.fingerprint == decided.fingerprint:
                self._found[key] = issue
        return issue

    def state_of(self, issue_id: int) -> State:
        """Return the state that an issue has by now."""
        if issue_id not in self._states:
            self._states[issue_id] = self._connection.execute(_STATE, (issue_id,)).fetchone()["state"]
        return self._states[issue_id]

    def states_changed(self) -> None:
        """Forget cached states: some of them may have changed."""
        self._states.clear()

    def keep(self, values: dict[str, Any]) -> None:
        """Keep a failure whole, and update what its issue shows."""
        self._kept.append(values)

    def write(self) -> None:
        """Write the changes, once for each issue."""
        self._connection.executemany(_ADD_FAILURE, self._kept)
        issues: dict[int, dict[str, Any]] = {}
        releases: dict[tuple[int, int, str, str], dict[str, Any]] = {}
        for met_issue in self._kept:
            time_ms, issue_id = met_issue["time_ms"], met_issue["issue_id"]
            issue = issues.get(issue_id)
            if issue is None:
                issue = issues[issue_id] = {"issue_id": issue_id, "failures": 0, "from_older_releases": 0}
                issue |= _first(met_issue) | _last(met_issue)
            issue["failures"] += 1
            issue["from_older_releases"] += met_issue["from_older_release"]
            if time_ms >= issue["last_ms"]:
                issue |= _last(met_issue)
            if time_ms < issue["first_ms"]:
                issue |= _first(met_issue)
            key = (issue_id, met_issue["release_id"], met_issue["environment"], met_issue["entry_point"])
            counted = releases.get(key)
            if counted is None:
                counted = releases[key] = met_issue | {"failures": 0, "first_ms": time_ms, "last_ms": time_ms}
            counted["failures"] += 1
            counted["first_ms"] = min(counted["first_ms"], time_ms)
            counted["last_ms"] = max(counted["last_ms"], time_ms)
        self._connection.executemany(_MORE, issues.values())
        for counted in releases.values():
            self._count_by_release(counted)
        self._kept.clear()

    def _count_by_release(self, values: dict[str, Any]) -> None:
        # Nearly every failure finds its row. So it is counted first, and the bound is checked only for a new row.
        in_all = self._connection.execute(_COUNT_BY_RELEASE, values).fetchone()[0]
        if in_all == values["failures"] and self._connection.execute(_POINTS, values).fetchone()[0] > MOST_POINTS:
            self._connection.execute(_UNCOUNT, values)
            self._connection.execute(_COUNT_BY_RELEASE, values | {"entry_point": OTHERS}).fetchone()


def _first(values: dict[str, Any]) -> dict[str, Any]:
    return {"first_ms": values["time_ms"], "first_seq": values["seq"], "began_in_id": values["release_id"]}


def _last(values: dict[str, Any]) -> dict[str, Any]:
    shown = {"message": values["message"], "entry_point": values["entry_point"]}
    return {"last_ms": values["time_ms"], "last_seq": values["seq"], **shown}
