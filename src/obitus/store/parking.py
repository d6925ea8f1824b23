"""Parked issues, their conditions and reopening. Functions that change something run on the writer."""

from __future__ import annotations

import json
import sqlite3
from collections import Counter
from collections.abc import Iterable
from typing import Final

from obitus.core.clock import HOUR_MS
from obitus.core.parking import (
    MetIn,
    Since,
    Until,
    as_another,
    reopened_by_count,
    reopened_by_place,
    reopened_by_time,
)
from obitus.store import events
from obitus.store.database import Reader, typed
from obitus.store.issues import add_history
from obitus.store.releases import StoredOrder
from obitus.store.rows.triage import Parking

_PARK = """
INSERT INTO parkings (issue_id, time_ms, until_ms, failures, an_hour, people, another, newest, failed, users_then)
SELECT id, :now_ms, :until_ms, :failures, :an_hour, :people, :another, :newest, 0, users FROM issues WHERE id = :id"""
_PARKED_NO_MORE: Final = "DELETE FROM parkings WHERE issue_id = ?"
_COLUMNS: Final = """
SELECT p.issue_id, p.time_ms, p.until_ms, p.failures, p.an_hour, p.people, p.another, p.newest, p.failed, p.users_then,
  issues.users, issues.app_id FROM parkings p JOIN issues ON issues.id = p.issue_id"""
_ONE: Final = f"{_COLUMNS} WHERE p.issue_id = ?"
_AMONG: Final = " WHERE p.issue_id IN (SELECT value FROM json_each(?))"
_SOME: Final = f"{_COLUMNS}{_AMONG}"
_DUE: Final = f"{_COLUMNS} WHERE p.until_ms <= ? ORDER BY p.until_ms LIMIT 100"
_IS_DUE: Final = "SELECT 1 FROM parkings WHERE until_ms <= ? LIMIT 1"
_FAILED: Final = "UPDATE parkings SET failed = failed + :n WHERE issue_id = :id"
_IN_HOUR: Final = """
SELECT COALESCE(SUM(stands_for), 0) FROM (SELECT stands_for FROM failures WHERE issue_id = :id AND time_ms > :from_ms AND time_ms >= :parked_ms AND time_ms <= :to_ms LIMIT :most)"""
_RELEASE_KNOWN: Final = "SELECT 1 FROM issue_releases WHERE issue_id = ? AND release_id = ? LIMIT 1"
_ENVIRONMENT_KNOWN: Final = "SELECT 1 FROM issue_releases WHERE issue_id = ? AND environment = ? LIMIT 1"
_IN_OTHER_APPS: Final = """
SELECT p.issue_id FROM parkings p CROSS JOIN fingerprints f ON f.issue_id = p.issue_id
WHERE p.another LIKE '%"app"%' AND f.fingerprint = :fingerprint AND f.app_id <> :app_id"""
_APP: Final = "SELECT name, limited FROM apps WHERE id = ?"
_REOPEN: Final = """
UPDATE issues SET state = 'untriaged', state_ms = :now_ms, reopened = :reason WHERE id = :id AND state = 'parked' RETURNING app_id"""


def park(connection: sqlite3.Connection, issue_id: int, until: Until, newest: str | None, now_ms: int) -> None:
    """Store the conditions of a parked issue, in place of earlier ones; ``newest`` is the newest release known.
    Without conditions nothing is stored.
    """
    connection.execute(_PARKED_NO_MORE, (issue_id,))
    if until.is_open:
        return
    values = {
        "id": issue_id,
        "now_ms": now_ms,
        "until_ms": until.time_ms,
        "failures": until.failures,
        "an_hour": until.an_hour,
        "people": until.people,
        "another": json.dumps(list(until.another)),
        "newest": newest,
    }
    connection.execute(_PARK, values)


def parked_no_more(connection: sqlite3.Connection, issue_id: int) -> None:
    """Forget the conditions of a parked issue."""
    connection.execute(_PARKED_NO_MORE, (issue_id,))


def until_of(row: Parking) -> Until:
    """Return a row of ``parkings`` as a record."""
    return Until(row.until_ms, row.failures, row.an_hour, row.people, as_another(json.loads(row.another)))


def parkings(reader: Reader, issue_ids: Iterable[int]) -> dict[int, Parking]:
    """Return the conditions of parked issues, by their numbers."""
    return {row.issue_id: row for row in reader.all(Parking, _SOME, (json.dumps(list(issue_ids)),))}


def since(reader: Reader, row: Parking, now_ms: int) -> Since:
    """Return the counts since an issue was parked."""
    hourly = reader.value(int, _IN_HOUR, _hour_before(row, now_ms)) if row.an_hour is not None else 0
    return Since(row.failed, row.users - row.users_then, hourly)


def _hour_before(row: Parking, time_ms: int) -> dict[str, int | None]:
    """Return a function that counts the failures in the hour before a time, if needed."""
    span = {"from_ms": time_ms - HOUR_MS, "to_ms": time_ms, "parked_ms": row.time_ms}
    return {"id": row.issue_id, **span, "most": row.an_hour}


def is_due(reader: Reader, now_ms: int) -> bool:
    """Return whether an issue was parked until a time that has come."""
    return bool(reader.column(int, _IS_DUE, (now_ms,)))


def reopen_due(connection: sqlite3.Connection, now_ms: int) -> int:
    """Reopen issues that were parked until a time that has come; return how many."""
    rows = typed(connection.execute(_DUE, (now_ms,)), Parking)
    for row in rows:
        reason = reopened_by_time(until_of(row), now_ms)
        assert reason is not None
        reopen(connection, row.issue_id, reason, now_ms)
    return len(rows)


def reopen(
    connection: sqlite3.Connection,
    issue_id: int,
    reason: str,
    now_ms: int,
    failure: tuple[int, int] | None = None,
) -> None:
    """Reopen a parked issue, with the reason in words; ``failure`` has the numbers of the failure that caused it and
    of its release."""
    connection.execute(_PARKED_NO_MORE, (issue_id,))
    remark = f"Reopened: {reason}."
    row = connection.execute(_REOPEN, {"id": issue_id, "reason": remark, "now_ms": now_ms}).fetchone()
    if row is not None:
        add_history(connection, issue_id, ("parked", "untriaged"), remark, now_ms, failure=failure)
        events.add(connection, "issue-reopened", now_ms, app_id=int(row[0]), issue=issue_id)


class ParkedIssues:
    """The parked issues of a batch's failures."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection
        self._known: dict[int, tuple[Parking, Until] | None] = {}
        self._failed: Counter[int] = Counter()
        self._latest: dict[int, tuple[int, tuple[int, int], int]] = {}
        self._places: set[tuple[int, int, str]] = set()
        """Combinations of issue, release and environment that were checked and reopen nothing."""

    def failed(
        self, issue_id: int, release: tuple[int, str], environment: str, time_ms: int, received_ms: int, seq: int
    ) -> None:
        """Check a failure before it is counted: it counts if it happened since the issue was parked, and may reopen it."""
        if issue_id not in self._known:
            self._known[issue_id] = self._read(issue_id)
        parked = self._known[issue_id]
        if parked is None or time_ms < parked[0].time_ms:
            return
        row, until = parked
        failure = (seq, release[0])
        self._failed[issue_id] += 1
        latest_ms = max(time_ms, self._latest[issue_id][0]) if issue_id in self._latest else time_ms
        self._latest[issue_id] = (latest_ms, failure, received_ms)
        place = (issue_id, release[0], environment)
        if not until.another or place in self._places:
            return
        self._places.add(place)
        met = MetIn(
            release[1],
            environment,
            is_release_known=self._is_there(_RELEASE_KNOWN, issue_id, release[0]),
            is_environment_known=self._is_there(_ENVIRONMENT_KNOWN, issue_id, environment),
        )
        order = StoredOrder(self._connection, row.app_id)
        reason = reopened_by_place(until, met, row.newest, row.time_ms, order)
        if reason is not None:
            self._reopen(issue_id, reason, received_ms, failure)

    def met_elsewhere(self, app_id: int, fingerprint: str, received_ms: int) -> bool:
        """Check a fingerprint that is new in an app: it may reopen issues that other apps have parked. Return whether it did."""
        values = {"app_id": app_id, "fingerprint": fingerprint}
        parked = self._connection.execute(_IN_OTHER_APPS, values).fetchall()
        for (issue_id,) in parked:
            # People who see the one app may not see the other.
            name, is_limited = self._connection.execute(_APP, (app_id,)).fetchone()
            self._reopen(issue_id, f"the same failed in {'another app' if is_limited else name}", received_ms, None)
        return bool(parked)

    def finish(self) -> None:
        """Add the batch's counts, once everything else is counted, and reopen issues whose conditions hold."""
        for issue_id, failed in self._failed.items():
            self._connection.execute(_FAILED, {"id": issue_id, "n": failed})
            parked = self._read(issue_id)
            if parked is None:
                # It has reopened already.
                continue
            row, until = parked
            latest_ms, failure, received_ms = self._latest[issue_id]
            hourly = 0
            if until.an_hour is not None:
                hourly = int(self._connection.execute(_IN_HOUR, _hour_before(row, latest_ms)).fetchone()[0])
            reason = reopened_by_count(until, Since(row.failed, row.users - row.users_then, hourly))
            if reason is not None:
                reopen(self._connection, issue_id, reason, received_ms, failure)

    def _read(self, issue_id: int) -> tuple[Parking, Until] | None:
        rows = typed(self._connection.execute(_ONE, (issue_id,)), Parking)
        return (rows[0], until_of(rows[0])) if rows else None

    def _is_there(self, sql: str, issue_id: int, value: int | str) -> bool:
        return self._connection.execute(sql, (issue_id, value)).fetchone() is not None

    def _reopen(self, issue_id: int, reason: str, now_ms: int, failure: tuple[int, int] | None) -> None:
        reopen(self._connection, issue_id, reason, now_ms, failure)
        self._known[issue_id] = None
        self._failed.pop(issue_id, None)
