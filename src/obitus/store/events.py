"""Events, in order. Written in the transaction in which they happen, read by jobs that each have their own position."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Final, Literal

from obitus.core.clock import DAY_MS
from obitus.store.database import Reader
from obitus.store.rows.records import EventRow

Kind = Literal[
    "regrouping-asked", "regrouping", "issue-new", "issue-regressed", "issue-reopened", "issue-decided", "issue-changed", "issue-revealed",
    "release-seen", "release-changed", "deploy", "rate-regression", "rate-regression-ended", "quiet-failure", "alert-fired", "alert-over", "act",
]  # fmt: skip
KEPT_MS: Final = DAY_MS
"""How long an event is kept after all jobs have read it."""
TARGET_MS: Final = 7 * DAY_MS
"""How long one is kept for a target that is away."""
MOST_REMOVED: Final = 2000
MOST_READ: Final = 500

_ADD = "INSERT INTO events (time_ms, kind, subject) VALUES (?, ?, ?)"
_AFTER = "SELECT id, time_ms, kind, subject FROM events WHERE id > ? ORDER BY id LIMIT ?"
_NEWEST = "SELECT COALESCE(MAX(id), 0) AS id FROM events"
_POSITION = "SELECT event_id FROM positions WHERE job = ?"
_MOVE = "INSERT INTO positions (job, event_id) VALUES (?, ?) ON CONFLICT DO UPDATE SET event_id = excluded.event_id"
_JOBS = "SELECT job FROM positions"
_FORGET = "DELETE FROM positions WHERE job = ?"
_PRUNE = """
DELETE FROM events WHERE id IN (
  SELECT id FROM events WHERE time_ms < :before_ms AND id < (SELECT MAX(id) FROM events)
    AND id <= (SELECT COALESCE(MIN(event_id), 0) FROM positions)
    AND (time_ms < :bound_ms OR id <= (SELECT COALESCE(MIN(events_to), 9223372036854775807) FROM passing WHERE removed_ms IS NULL))
  ORDER BY id LIMIT :most)"""


@dataclass(frozen=True, slots=True)
class Event:
    """An event. Numbers only grow."""

    id: int
    time_ms: int
    kind: str
    subject: dict[str, Any]


def add(connection: sqlite3.Connection, kind: Kind, now_ms: int, **subject: Any) -> None:
    """Add an event, in the transaction in which it happens."""
    connection.execute(_ADD, (now_ms, kind, json.dumps(subject, ensure_ascii=False)))


def after(reader: Reader, number: int, most: int = MOST_READ) -> list[Event]:
    """Return the events after a number, in order."""
    return [
        Event(row.id, row.time_ms, row.kind, json.loads(row.subject))
        for row in reader.all(EventRow, _AFTER, (number, most))
    ]


def newest(reader: Reader) -> int:
    """Return the number of the latest event, 0 when there is none."""
    return reader.value(int, _NEWEST)


def position(reader: Reader, job: str) -> int | None:
    """Return the number of the last event that a job has read, None where it never did."""
    positions = reader.column(int, _POSITION, (job,))
    return positions[0] if positions else None


def move(connection: sqlite3.Connection, job: str, number: int) -> None:
    """Store the position of a job."""
    connection.execute(_MOVE, (job, number))


def jobs(reader: Reader) -> list[str]:
    """Return the jobs with stored positions."""
    return reader.column(str, _JOBS)


def forget_positions(connection: sqlite3.Connection, gone: Sequence[str]) -> None:
    """Forget the positions of jobs that no longer exist."""
    connection.executemany(_FORGET, [(job,) for job in gone])


def prune(connection: sqlite3.Connection, now_ms: int) -> int:
    """Remove old events that all jobs have read, except the newest; return how many: at most some thousands at a time."""
    return connection.execute(
        _PRUNE, {"before_ms": now_ms - KEPT_MS, "bound_ms": now_ms - TARGET_MS, "most": MOST_REMOVED}
    ).rowcount
