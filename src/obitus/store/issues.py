"""Reading issues and failures, and the history of issues."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Collection, Sequence
from typing import Any, Final, Literal

from obitus.core.lifecycle import Settling, State
from obitus.store import events
from obitus.store.asking.issues import Asked
from obitus.store.database import Kept, Reader, typed
from obitus.store.rows.issues import (
    CameBack,
    CameBy,
    Change,
    Failure,
    FailureName,
    Fingerprint,
    Issue,
    Neighbours,
    OnlyCounted,
    SettledBy,
    SettledCandidate,
    Sums,
    WaitingSettling,
)
from obitus.store.windows import Window, counted

Sort = Literal["last-seen", "first-seen", "failures"]

# Parts of a list's statement: the counts, the columns, the conditions.
_COUNTED: Final = "WITH counted AS (SELECT issue_id, SUM(n) AS failures FROM ({parts}) GROUP BY issue_id)"
# The same for questions about failures: each failure of the window is checked.
_COUNTED_BY_FAILURES: Final = """
WITH counted AS (
  SELECT f.issue_id, SUM(f.stands_for) AS failures FROM failures f JOIN issues ON issues.id = f.issue_id JOIN apps ON apps.id = f.app_id
  WHERE f.time_ms >= :from_ms AND f.time_ms < :to_ms{narrowed} AND {asked} GROUP BY f.issue_id)"""
_ISSUE_COLUMNS = """
SELECT issues.id, apps.name AS app, issues.type, issues.cause, issues.place, issues.message, issues.entry_point,
  issues.state, issues.state_ms, issues.settled_in, issues.settled_ms, issues.first_ms, issues.last_ms,
  issues.first_seq, issues.last_seq, issues.failures AS failures_in_all, issues.from_older_releases, issues.only_counted, issues.users, issues.app_id,
  issues.merged_into, issues.waits_for, issues.reopened,
  (SELECT name FROM people WHERE people.id = issues.holder_id) AS holder,
  (SELECT version FROM releases WHERE releases.id = issues.began_in_id) AS began_in,
  (SELECT version FROM releases JOIN failures ON failures.release_id = releases.id
   WHERE failures.seq = issues.last_seq) AS latest_in"""
_MATCHING = """
FROM counted JOIN issues ON issues.id = counted.issue_id JOIN apps ON apps.id = issues.app_id
WHERE apps.removed_ms IS NULL"""
_OF_APP: Final = " AND apps.name = :app"
_OF_STATES: Final = " AND issues.state IN (SELECT value FROM json_each(:states))"
_SORTED_BY: Final[dict[Sort, str]] = {
    "last-seen": "issues.last_ms",
    "first-seen": "issues.first_ms",
    "failures": "counted.failures",
}
_UNASSIGNED: Final = " AND issues.holder_id IS NULL"
# The next page begins after the last row seen, not at an offset: new rows meanwhile shift nothing.
_BEHIND: Final = " AND ({column}, issues.id) < (:after, :after_id)"
_PAGE: Final = " ORDER BY {column} DESC, issues.id DESC LIMIT :limit"
_LISTED = f"{_ISSUE_COLUMNS}, counted.failures AS failures {_MATCHING}"
_SUMMED = f" SELECT COUNT(*) AS issues, COALESCE(SUM(counted.failures), 0) AS failures {_MATCHING}"
_INSIDE: Final = "SELECT COALESCE(SUM(n), 0) AS failures FROM ({parts})"
# With the failures of all time.
_WHOLE: Final = f"{_ISSUE_COLUMNS}, issues.failures AS failures FROM issues JOIN apps ON apps.id = issues.app_id"
_ONE = f"{_WHOLE} WHERE issues.id = :id AND apps.removed_ms IS NULL"
_AMONG: Final = " WHERE issues.id IN (SELECT value FROM json_each(?)) AND apps.removed_ms IS NULL"
_NUMBERED: Final = f"{_WHOLE}{_AMONG}"
_HELD = f"""{_WHOLE}
WHERE issues.holder_id = :person_id AND issues.state <> 'settled' AND issues.merged_into IS NULL AND apps.removed_ms IS NULL
ORDER BY issues.last_ms DESC LIMIT :limit"""
_REOPENED = f"""{_WHOLE}
WHERE issues.reopened <> '' AND issues.holder_id IS NULL AND issues.merged_into IS NULL AND apps.removed_ms IS NULL AND (:app IS NULL OR apps.name = :app)
ORDER BY issues.state_ms DESC LIMIT :limit"""
_FINGERPRINTS = """
SELECT fingerprint, parts, joined FROM fingerprints WHERE issue_id = ? ORDER BY joined != '', fingerprint LIMIT 50"""
_NAMED = """
SELECT f.seq, f.id, f.issue_id, f.time_ms, apps.name AS app, i.type, i.cause, i.place FROM failures f
JOIN issues i ON i.id = f.issue_id JOIN apps ON apps.id = f.app_id WHERE f.seq IN (SELECT value FROM json_each(?))"""
# With the plus SQLite finds the rows by time: by their numbers it would read all failures of all time.
_ONLY_COUNTED = """
SELECT f.seq, f.issue_id, f.time_ms, f.entry_point, apps.name AS app, i.type, SUM(o.failures) AS failures
FROM failures f JOIN only_counted o ON o.seq = f.seq AND o.user_id IN (SELECT value FROM json_each(:users))
JOIN issues i ON i.id = f.issue_id JOIN apps ON apps.id = f.app_id
WHERE f.time_ms BETWEEN :from_ms AND :to_ms AND f.stands_for > 1 GROUP BY +f.seq ORDER BY f.time_ms DESC LIMIT :limit"""
_FINGERPRINTS_OF = "SELECT seq, fingerprint FROM failures WHERE seq IN (SELECT value FROM json_each(?))"
_HISTORY = """
SELECT h.time_ms, people.name AS person, h.from_state, h.to_state, h.reason, failures.id AS failure_id
FROM issue_history h LEFT JOIN people ON people.id = h.person_id LEFT JOIN failures ON failures.seq = h.seq
WHERE h.issue_id = ? ORDER BY h.id"""
_FAILURE_COLUMNS = """
SELECT f.seq, f.id, f.issue_id, f.time_ms, f.received_ms, f.severity, f.handled, f.message, f.entry_point,
  f.user_id, f.trace_id, f.verdict, f.environment, f.stands_for, releases.version AS release, apps.name AS app
FROM failures f JOIN releases ON releases.id = f.release_id JOIN apps ON apps.id = f.app_id"""
_FAILURES_OF = f"{_FAILURE_COLUMNS} WHERE f.issue_id = :issue_id AND f.time_ms >= :from_ms AND f.time_ms < :to_ms"
_FAILURES_BEHIND: Final = " AND (f.time_ms, f.seq) < (:after, :after_id)"
_FAILURES_PAGE: Final = " ORDER BY f.time_ms DESC, f.seq DESC LIMIT :limit"
_FAILURE_WITH_ID = f"{_FAILURE_COLUMNS} WHERE f.id = ?"
_FAILURE_WITH_SEQ = f"{_FAILURE_COLUMNS} WHERE f.seq = ?"
_RELEASES_MET = """
SELECT MIN(first_ms) AS first_ms FROM issue_releases WHERE issue_id = ? GROUP BY release_id ORDER BY MIN(first_ms) DESC LIMIT ?"""
_FAILURES_FROM: Final = (
    f"{_FAILURE_COLUMNS} WHERE f.issue_id = :issue_id AND f.time_ms >= :from_ms ORDER BY f.time_ms, f.seq LIMIT :limit"
)
_NEIGHBOURS = """
SELECT
  (SELECT f.id FROM failures f
   WHERE f.issue_id = :issue_id AND (f.time_ms, f.seq) < (:time_ms, :seq)
   ORDER BY f.time_ms DESC, f.seq DESC LIMIT 1) AS earlier,
  (SELECT f.id FROM failures f
   WHERE f.issue_id = :issue_id AND (f.time_ms, f.seq) > (:time_ms, :seq)
   ORDER BY f.time_ms, f.seq LIMIT 1) AS later"""
_FAILURE_AT = "SELECT seq FROM failures WHERE issue_id = ? AND time_ms = ? LIMIT 1"
_REGRESSIONS = """
SELECT h.seq, r.version FROM issue_history h JOIN releases r ON r.id = h.release_id
WHERE h.issue_id = ? AND h.to_state = 'regressed' AND h.seq IS NOT NULL ORDER BY h.id DESC LIMIT 20"""
SETTLINGS: Final = (
    "SELECT environment, how, release, after, time_ms FROM settlings WHERE issue_id = ? ORDER BY environment"
)
_ADD_HISTORY: Final = """
INSERT INTO issue_history (issue_id, time_ms, person_id, from_state, to_state, reason, seq, release_id)
VALUES (?, ?, ?, ?, ?, ?, ?, ?)"""
_NOTE = """
INSERT INTO issue_history (issue_id, time_ms, person_id, from_state, to_state, reason)
SELECT id, :now_ms, :person_id, state, state, :reason FROM issues WHERE id = :id"""


def issues(
    reader: Reader,
    window: Window,
    *,
    states: list[str] | None = None,
    asked: Asked | None = None,
    sort: Sort = "last-seen",
    after: tuple[int, int] | None = None,
    limit: int = 50,
    unassigned: bool = False,
) -> list[Issue]:
    """Return issues with failures inside the window; ``after`` is the sort value and id of the last one seen.

    With ``unassigned`` only the unassigned ones.
    """
    column = _SORTED_BY[sort]
    page = (_UNASSIGNED if unassigned else "") + (_BEHIND if after else "") + _PAGE
    params: dict[str, Any] = {"limit": limit}
    if after:
        params |= {"after": after[0], "after_id": after[1]}
    return _asked(Issue, reader, window, states, asked, _LISTED, page.format(column=column), params)


def sums(reader: Reader, window: Window, *, states: list[str] | None = None, asked: Asked | None = None) -> Sums:
    """Return how many issues and failures a list has in all."""
    return _asked(Sums, reader, window, states, asked, _SUMMED, "", {})[0]


def _asked(
    kind: Callable[..., Kept],
    reader: Reader,
    window: Window,
    states: list[str] | None,
    asked: Asked | None,
    what: str,
    page: str,
    more: dict[str, Any],
) -> list[Kept]:
    """Return the counts of issues with failures in a window."""
    if asked is not None and asked.of_failures:
        params = window.params()
        sql = _COUNTED_BY_FAILURES.format(narrowed=window.narrowed("f."), asked=asked.of_failures)
    else:
        inside = counted(reader, window)
        params = inside.params
        sql = _COUNTED.format(parts=inside.sql)
    sql += what
    if window.app is not None:
        sql += _OF_APP
    if states:
        sql += _OF_STATES
        params |= {"states": json.dumps(states)}
    params |= more
    if asked is None:
        sql += page
        return reader.all(kind, sql, params)
    if asked.of_issues:
        sql += f" AND {asked.of_issues}"
    sql += page
    with reader.lend() as connection:
        asked.register(connection)
        return typed(connection.execute(sql, params | asked.params), kind)


def issue(reader: Reader, issue_id: int) -> Issue:
    """Return one issue; raises NotThere."""
    return reader.only(Issue, _ONE, {"id": issue_id}, what=f"issue {issue_id}")


def numbered(reader: Reader, issue_ids: Sequence[int]) -> list[Issue]:
    """Return existing issues in the order of the numbers."""
    by_number = {row.id: row for row in reader.all(Issue, _NUMBERED, (json.dumps(list(issue_ids)),))}
    return [by_number[number] for number in issue_ids if number in by_number]


def held_by(reader: Reader, person_id: int, most: int) -> list[Issue]:
    """Return the open issues that somebody has, the latest failure first."""
    return reader.all(Issue, _HELD, {"person_id": person_id, "limit": most})


def reopened(reader: Reader, app: str | None, most: int) -> list[Issue]:
    """Return the issues that were parked and have reopened, and that nobody has, the latest first."""
    return reader.all(Issue, _REOPENED, {"app": app, "limit": most})


def failures_inside(reader: Reader, issue_id: int, window: Window) -> int:
    """Return the number of an issue's failures inside the window."""
    inside = counted(reader, window, issue_id=issue_id)
    sql = _INSIDE.format(parts=inside.sql)
    return reader.value(int, sql, inside.params)


def fingerprints(reader: Reader, issue_id: int) -> list[Fingerprint]:
    """Return the fingerprints that lead to an issue, with the parts that explain them."""
    return reader.all(Fingerprint, _FINGERPRINTS, (issue_id,))


def failures_named(reader: Reader, seqs: Sequence[int]) -> dict[int, FailureName]:
    """Return the ids of failures, and the titles of their issues, by number."""
    return {row.seq: row for row in reader.all(FailureName, _NAMED, (json.dumps(list(seqs)),))}


def only_counted(reader: Reader, users: Collection[str], span: tuple[int, int], limit: int) -> list[OnlyCounted]:
    """Return the failures in a span, ends included, that represent others of these users, the latest first."""
    from_ms, to_ms = span
    values = {"users": json.dumps(sorted(users)), "from_ms": from_ms, "to_ms": to_ms, "limit": limit}
    return reader.all(OnlyCounted, _ONLY_COUNTED, values)


def fingerprints_of_failures(reader: Reader, seqs: list[int]) -> dict[int, str]:
    """Return the fingerprint of each of these failures."""
    return dict(reader.all(CameBy, _FINGERPRINTS_OF, (json.dumps(seqs),)))


def history(reader: Reader, issue_id: int) -> list[Change]:
    """Return every change of state, oldest first."""
    return reader.all(Change, _HISTORY, (issue_id,))


def failures(
    reader: Reader, issue_id: int, window: Window, *, after: tuple[int, int] | None = None, limit: int = 50
) -> list[Failure]:
    """Return failures of an issue inside the window, latest first."""
    params = window.params() | {"issue_id": issue_id, "limit": limit}
    sql = _FAILURES_OF + window.narrowed("f.")
    if after:
        sql += _FAILURES_BEHIND
        params |= {"after": after[0], "after_id": after[1]}
    sql += _FAILURES_PAGE
    return reader.all(Failure, sql, params)


def failure_with_id(reader: Reader, report_id: bytes) -> Failure:
    """Return one failure by the id its sender gave it; raises NotThere."""
    return reader.only(Failure, _FAILURE_WITH_ID, (report_id,), what="failure with this id")


def first_of_releases(reader: Reader, issue_id: int, releases: int, each: int) -> list[Failure]:
    """Return the first failures of an issue in each of its latest releases, those of the newest first."""
    failures: dict[int, Failure] = {}
    for from_ms in reader.column(int, _RELEASES_MET, (issue_id, releases)):
        values = {"issue_id": issue_id, "from_ms": from_ms, "limit": each}
        failures |= {row.seq: row for row in reader.all(Failure, _FAILURES_FROM, values) if row.seq not in failures}
    return list(failures.values())


def failure_with_seq(reader: Reader, seq: int) -> Failure:
    """Return one failure by its sequence number; raises NotThere."""
    return reader.only(Failure, _FAILURE_WITH_SEQ, (seq,), what="failure with this number")


def neighbours(reader: Reader, failure: Failure) -> tuple[bytes | None, bytes | None]:
    """Return the ids of the failures of the same issue just before and just after this one."""
    row = reader.only(
        Neighbours, _NEIGHBOURS, {"issue_id": failure.issue_id, "time_ms": failure.time_ms, "seq": failure.seq}
    )
    return row.earlier, row.later


def settlings(reader: Reader, issue_id: int) -> list[Settling]:
    """Return the settlings of an issue, for each environment or for everywhere."""
    return [settling_of(row) for row in reader.all(SettledBy, SETTLINGS, (issue_id,))]


def settling_of(row: SettledBy | SettledCandidate | WaitingSettling) -> Settling:
    """Return a row of ``settlings`` as a record."""
    return Settling(row.how, row.time_ms, row.release, row.after, row.environment)


def add_history(
    connection: sqlite3.Connection,
    issue_id: int,
    states: tuple[State | None, State],
    reason: str,
    now_ms: int,
    *,
    person_id: int | None = None,
    failure: tuple[int, int] | None = None,
) -> None:
    """Add a change of state to the history of an issue: the state before (None for a new one) and after. Runs on the writer.

    ``failure`` has the numbers of the failure that caused it and of its release.
    """
    seq, release_id = failure or (None, None)
    connection.execute(_ADD_HISTORY, (issue_id, now_ms, person_id, *states, reason, seq, release_id))


def note(connection: sqlite3.Connection, issue_id: int, person_id: int | None, reason: str, now_ms: int) -> None:
    """Add an entry to the history of an issue without changing its state. Runs on the writer."""
    connection.execute(_NOTE, {"id": issue_id, "person_id": person_id, "reason": reason, "now_ms": now_ms})
    events.add(connection, "issue-changed", now_ms, issue=issue_id)


def failure_at(reader: Reader, issue_id: int, time_ms: int) -> int:
    """Return the number of the failure of an issue at exactly that time; raises NotThere."""
    return reader.value(int, _FAILURE_AT, (issue_id, time_ms), what="failure at that time")


def regressions(reader: Reader, issue_id: int) -> list[CameBack]:
    """Return the failures that reopened an issue, the latest first."""
    return reader.all(CameBack, _REGRESSIONS, (issue_id,))
