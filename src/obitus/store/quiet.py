"""Quiet failures: the counts from which they are found, the present ones, and the issues that collect them."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Mapping
from typing import Final

from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.core.quiet.finding import Kind, Quiet
from obitus.store import events
from obitus.store.database import Reader
from obitus.store.errors import NotThere
from obitus.store.rows.quiet import (
    Collected,
    JobHour,
    LookedTo,
    PointInHours,
    QuietRow,
    ReleaseInHours,
    WarnedInHours,
    WarnedInRelease,
)

USUAL_MS: Final = 7 * DAY_MS
RECENT_MS: Final = 6 * HOUR_MS
JOBS_MS: Final = 14 * DAY_MS
KEPT_MS: Final = 30 * DAY_MS
WARNED_KEPT_MS: Final = 35 * DAY_MS
MOST_REMOVED: Final = 5_000
MOST_SHOWN: Final = 200

_POINTS: Final = """
SELECT app_id, environment, entry_point, slot >= :recent AS recent, SUM(runs) AS runs, SUM(runs * (outcome = 'refused')) AS refused
FROM run_slots WHERE minutes = 60 AND slot >= :first GROUP BY app_id, environment, entry_point, recent"""
_WARNED: Final = """
SELECT w.app_id, w.environment, w.said, w.hour >= :recent AS recent, SUM(w.records) AS records
FROM apps JOIN warned_hours w ON w.app_id = apps.id AND w.hour >= :first WHERE w.said <> '…' GROUP BY w.app_id, w.environment, w.said, recent"""
_WARNED_IN: Final = """
SELECT release_id, environment, said, SUM(records) AS records FROM warned_hours
WHERE app_id = :app_id AND said <> '…' AND release_id IN (SELECT value FROM json_each(:releases)) GROUP BY release_id, environment, said"""
_LATELY: Final = """
SELECT h.release_id, r.app_id, r.version, h.environment FROM release_hours h JOIN releases r ON r.id = h.release_id
JOIN apps ON apps.id = r.app_id WHERE apps.removed_ms IS NULL AND h.hour >= :first AND h.runs > 0
GROUP BY h.release_id, h.environment"""
_JOB_HOURS: Final = """
SELECT DISTINCT app_id, environment, entry_point, slot AS hour FROM run_slots
WHERE minutes = 60 AND slot >= :first AND entry_point GLOB 'job *' ORDER BY slot"""

_COLUMNS: Final = """
SELECT q.id, q.app_id, apps.name AS app, q.environment, q.kind, q.subject, q.reason, q.chance, q.found_ms, q.held_ms, q.ended_ms, q.left_ms,
  people.name AS left_by, c.issue_id FROM quiet_failures q JOIN apps ON apps.id = q.app_id LEFT JOIN people ON people.id = q.left_by
LEFT JOIN collected c ON c.app_id = q.app_id AND c.kind = q.kind AND c.subject = q.subject WHERE apps.removed_ms IS NULL"""
_PRESENT: Final = f"{_COLUMNS} AND q.ended_ms IS NULL ORDER BY q.left_ms IS NOT NULL, q.chance, q.id LIMIT {MOST_SHOWN}"
_ONE: Final = f"{_COLUMNS} AND q.id = ?"
_HOLDS: Final = """
INSERT INTO quiet_failures (app_id, environment, kind, subject, reason, chance, found_ms, held_ms)
VALUES (:app_id, :environment, :kind, :subject, :reason, :chance, :now_ms, :now_ms)
ON CONFLICT (app_id, environment, kind, subject) WHERE ended_ms IS NULL
DO UPDATE SET reason = excluded.reason, chance = excluded.chance, held_ms = excluded.held_ms RETURNING id, found_ms"""
_END: Final = "UPDATE quiet_failures SET ended_ms = :now_ms WHERE ended_ms IS NULL AND held_ms < :now_ms"
_LEAVE: Final = "UPDATE quiet_failures SET left_by = ?, left_ms = ? WHERE id = ? AND ended_ms IS NULL AND left_ms IS NULL RETURNING id"
_OLD: Final = (
    "DELETE FROM quiet_failures WHERE id IN (SELECT id FROM quiet_failures WHERE ended_ms < :before_ms LIMIT :most)",
    """DELETE FROM warned_hours WHERE (app_id, hour, said, release_id, environment) IN (
      SELECT w.app_id, w.hour, w.said, w.release_id, w.environment FROM apps
      JOIN warned_hours w ON w.app_id = apps.id AND w.hour < :before_hour LIMIT :most)""",
)

_COLLECTED: Final = """
SELECT c.issue_id, c.app_id, apps.name AS app, c.kind, c.subject, c.made_ms FROM collected c JOIN apps ON apps.id = c.app_id
WHERE apps.removed_ms IS NULL"""
_COLLECTS: Final = f"{_COLLECTED} AND c.issue_id = ?"
_COLLECT: Final = """
INSERT INTO collected (issue_id, app_id, kind, subject, made_ms, person_id) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING"""
_FORGET: Final = (
    "DELETE FROM collected_to WHERE issue_id = ?",
    "DELETE FROM collected WHERE issue_id = ? RETURNING issue_id",
)
_OF_FINGERPRINT: Final = "SELECT issue_id FROM fingerprints WHERE app_id = ? AND fingerprint = ?"
_TO: Final = "SELECT day, place FROM collected_to WHERE issue_id = ?"
_MOVE: Final = """
INSERT INTO collected_to (issue_id, day, place) SELECT ?1, ?2, ?3 WHERE EXISTS (SELECT 1 FROM collected WHERE issue_id = ?1)
ON CONFLICT DO UPDATE SET place = MAX(place, excluded.place)"""


def _span(now_ms: int) -> dict[str, int]:
    recent = (now_ms - RECENT_MS) // HOUR_MS
    return {"recent": recent, "first": recent - USUAL_MS // HOUR_MS}


def points_lately(reader: Reader, now_ms: int) -> list[PointInHours]:
    """Return the runs of entry points in the last hours, and in the days before them."""
    return reader.all(PointInHours, _POINTS, _span(now_ms))


def warned_lately(reader: Reader, now_ms: int) -> list[WarnedInHours]:
    """Return warnings of the last hours, and of the days before them."""
    return reader.all(WarnedInHours, _WARNED, _span(now_ms))


def warned_in(reader: Reader, app_id: int, releases: Iterable[int]) -> list[WarnedInRelease]:
    """Return warnings by release."""
    return reader.all(WarnedInRelease, _WARNED_IN, {"app_id": app_id, "releases": json.dumps(list(releases))})


def releases_lately(reader: Reader, now_ms: int) -> list[ReleaseInHours]:
    """Return the releases that ran in the last hours, by environment."""
    return reader.all(ReleaseInHours, _LATELY, {"first": (now_ms - RECENT_MS) // HOUR_MS})


def job_hours(reader: Reader, now_ms: int) -> list[JobHour]:
    """Return in which hours jobs ran, in their order."""
    return reader.all(JobHour, _JOB_HOURS, {"first": (now_ms - JOBS_MS) // HOUR_MS})


def keep(
    connection: sqlite3.Connection, quiet_by_place: Mapping[tuple[int, str, Kind], Iterable[Quiet]], now_ms: int
) -> None:
    """Store the present quiet failures, by app, environment and kind; others have ended."""
    for (app_id, environment, kind), some in quiet_by_place.items():
        for quiet_failure in some:
            row = connection.execute(
                _HOLDS,
                {
                    "app_id": app_id, "environment": environment, "kind": kind, "subject": quiet_failure.subject,
                    "reason": quiet_failure.reason, "chance": quiet_failure.chance, "now_ms": now_ms,
                },
            ).fetchone()  # fmt: skip
            # It is new: of one that goes on, the time at which it was found stays.
            if row["found_ms"] == now_ms:
                events.add(connection, "quiet-failure", now_ms, quiet=int(row["id"]), app_id=app_id)
    connection.execute(_END, {"now_ms": now_ms})


def prune(connection: sqlite3.Connection, now_ms: int) -> int:
    """Forget quiet failures that ended long ago, and counts that are no longer compared; return how many: some thousands at a time."""
    before = {"before_ms": now_ms - KEPT_MS, "before_hour": (now_ms - WARNED_KEPT_MS) // HOUR_MS, "most": MOST_REMOVED}
    return sum(connection.execute(sql, before).rowcount for sql in _OLD)


def present(reader: Reader) -> list[QuietRow]:
    """Return the present ones, the least probable by chance first; after them those marked as nothing to act on."""
    return reader.all(QuietRow, _PRESENT)


def one(reader: Reader, number: int) -> QuietRow:
    """Return a quiet failure; raises NotThere."""
    return reader.only(QuietRow, _ONE, (number,), what=f"quiet failure {number}")


def leave(connection: sqlite3.Connection, number: int, person_id: int, now_ms: int) -> None:
    """Mark one as nothing to act on; raises NotThere where it has ended or is marked already."""
    if connection.execute(_LEAVE, (person_id, now_ms, number)).fetchone() is None:
        raise NotThere(f"there is no quiet failure {number} now")


def collecting(reader: Reader) -> list[Collected]:
    """Return the issues that collect records, and which."""
    return reader.all(Collected, _COLLECTED)


def collects(reader: Reader, issue_id: int) -> Collected | None:
    """Return what an issue collects; None where it collects nothing."""
    return reader.first(Collected, _COLLECTS, (issue_id,))


def collect(
    connection: sqlite3.Connection, issue_id: int, app_id: int, kind: Kind, subject: str, person_id: int, now_ms: int
) -> None:
    """Make an issue collect from now on."""
    connection.execute(_COLLECT, (issue_id, app_id, kind, subject, now_ms, person_id))


def issue_of_fingerprint(reader: Reader, app_id: int, fingerprint: str) -> int:
    """Return the issue of a fingerprint; raises NotThere."""
    ids = reader.column(int, _OF_FINGERPRINT, (app_id, fingerprint))
    if not ids:
        raise NotThere("there is no issue of it")
    return ids[0]


def collect_no_more(connection: sqlite3.Connection, issue_id: int) -> None:
    """End the collecting of an issue; raises NotThere where it does not collect."""
    row = None
    for statement in _FORGET:
        row = connection.execute(statement, (issue_id,)).fetchone()
    if row is None:
        raise NotThere(f"issue {issue_id} collects nothing")


def looked_to(reader: Reader, issue_id: int) -> dict[int, int]:
    """Return the position of an issue in each day."""
    return dict(reader.all(LookedTo, _TO, (issue_id,)))


def move(connection: sqlite3.Connection, issue_id: int, places: Mapping[int, int]) -> None:
    """Store the positions of an issue in the days."""
    connection.executemany(_MOVE, [(issue_id, day, place) for day, place in places.items()])
