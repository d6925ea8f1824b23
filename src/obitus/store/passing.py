"""Targets to which records are passed on, and their positions. Functions that change something run on the writer."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

from obitus.store import events
from obitus.store.database import Reader
from obitus.store.days.reading import DayReaders
from obitus.store.errors import AlreadyThere, NotThere, TooMany
from obitus.store.rows.passing import PassedTo, PassingKind, Target

MOST_TARGETS: Final = 50
MOST_DAYS: Final = 40

_COLUMNS: Final = """
SELECT p.id, p.name, p.kind, p.settings, p.secrets, p.passes, p.question, p.hides, p.events_to, p.passed, p.refused, p.lost, p.passed_ms,
  p.trouble, p.trouble_ms, people.name AS made_by, p.created_ms FROM passing p JOIN people ON people.id = p.made_by WHERE p.removed_ms IS NULL"""
_ALL: Final = f"{_COLUMNS} ORDER BY p.name"
_NAMED: Final = f"{_COLUMNS} AND p.name = ?"
_COUNT: Final = "SELECT COUNT(*) FROM passing WHERE removed_ms IS NULL"
_ADD: Final = """
INSERT INTO passing (name, kind, settings, secrets, passes, question, hides, events_to, made_by, created_ms)
VALUES (:name, :kind, :settings, :secrets, :passes, :question, :hides, :events_to, :made_by, :now_ms) ON CONFLICT DO NOTHING RETURNING id"""
_REMOVE: Final = (
    "UPDATE passing SET removed_ms = :now_ms, secrets = NULL WHERE name = :name AND removed_ms IS NULL RETURNING id"
)
_FORGET: Final = "DELETE FROM passed_to WHERE passing_id = ?"
_TO: Final = "SELECT day, place FROM passed_to WHERE passing_id = ?"
_MOVE: Final = (
    "INSERT INTO passed_to (passing_id, day, place) VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET place = excluded.place"
)
_PASSED: Final = """
UPDATE passing SET events_to = MAX(events_to, :events_to), passed = passed + :passed, refused = refused + :refused, lost = lost + :lost,
  passed_ms = CASE WHEN :passed > 0 THEN :now_ms ELSE passed_ms END, trouble = :trouble,
  trouble_ms = CASE WHEN :trouble = '' THEN NULL ELSE :now_ms END WHERE id = :id"""
_TROUBLE: Final = "UPDATE passing SET trouble = ?, trouble_ms = COALESCE(trouble_ms, ?) WHERE id = ?"
_TRY_NOW: Final = (
    "UPDATE passing SET trouble = '', trouble_ms = NULL WHERE name = ? AND removed_ms IS NULL RETURNING id"
)


@dataclass(frozen=True, slots=True)
class WantedTarget:
    """A target as it is defined."""

    name: str
    kind: PassingKind
    settings: str
    secrets: bytes | None
    passes: Sequence[str]
    question: str
    hides: Sequence[str]


@dataclass(frozen=True, slots=True)
class Passed:
    """The result of one turn."""

    places: Mapping[int, int]
    events_to: int
    passed: int
    refused: int = 0
    lost: int = 0
    said: str = ""
    """The target's message about refused records."""


def targets(reader: Reader) -> list[Target]:
    """Return all targets, by name."""
    return reader.all(Target, _ALL)


def named(reader: Reader, name: str) -> Target:
    """Return one target; raises NotThere."""
    return reader.only(Target, _NAMED, (name,), what=f"target named {name!r}")


def passed_to(reader: Reader, target_id: int) -> dict[int, int]:
    """Return the position of a target in each day file."""
    return dict(reader.all(PassedTo, _TO, (target_id,)))


def lag(reader: Reader, days: DayReaders, target_id: int) -> int:
    """Return how many reports came that were not offered to a target yet, matching or not."""
    at = passed_to(reader, target_id)
    return sum(max(0, day.last_place - at.get(day.day, 0)) for day in days.latest(MOST_DAYS))


def add(
    connection: sqlite3.Connection,
    wanted: WantedTarget,
    made_by: int,
    places: Mapping[int, int],
    events_to: int,
    now_ms: int,
) -> int:
    """Add a target for new records, and return its number; raises AlreadyThere, TooMany."""
    if connection.execute(_COUNT).fetchone()[0] >= MOST_TARGETS:
        raise TooMany(f"there are {MOST_TARGETS} targets already; remove one first")
    values = {
        "name": wanted.name, "kind": wanted.kind, "settings": wanted.settings, "secrets": wanted.secrets,
        "passes": json.dumps(list(wanted.passes)), "question": wanted.question, "hides": json.dumps(list(wanted.hides)),
        "events_to": events_to, "made_by": made_by, "now_ms": now_ms,
    }  # fmt: skip
    row = connection.execute(_ADD, values).fetchone()
    if row is None:
        raise AlreadyThere(f"there is a target named {wanted.name!r} already")
    connection.executemany(_MOVE, [(int(row[0]), day, place) for day, place in places.items()])
    return int(row[0])


def remove(connection: sqlite3.Connection, name: str, now_ms: int) -> int:
    """Remove a target; raises NotThere."""
    row = connection.execute(_REMOVE, {"name": name, "now_ms": now_ms}).fetchone()
    if row is None:
        raise NotThere(f"there is no target named {name!r}")
    connection.execute(_FORGET, (row[0],))
    return int(row[0])


def passed(connection: sqlite3.Connection, target_id: int, turn: Passed, now_ms: int) -> None:
    """Store the position of a target, once it has acknowledged."""
    connection.executemany(_MOVE, [(target_id, day, place) for day, place in turn.places.items()])
    values = {
        "id": target_id, "events_to": turn.events_to, "passed": turn.passed, "refused": turn.refused, "lost": turn.lost,
        "trouble": turn.said, "now_ms": now_ms,
    }  # fmt: skip
    connection.execute(_PASSED, values)


def in_trouble(connection: sqlite3.Connection, target_id: int, trouble: str, now_ms: int) -> None:
    """Store why a target accepts nothing."""
    connection.execute(_TROUBLE, (trouble, now_ms, target_id))


def try_now(connection: sqlite3.Connection, name: str) -> None:
    """Clear a target's error; raises NotThere."""
    if connection.execute(_TRY_NOW, (name,)).fetchone() is None:
        raise NotThere(f"there is no target named {name!r}")


def start(reader: Reader, days: DayReaders) -> tuple[dict[int, int], int]:
    """Return the present end of all day files: a new target gets what comes after."""
    return {day.day: day.last_place for day in days.known()}, events.newest(reader)
