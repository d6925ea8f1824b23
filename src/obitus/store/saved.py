"""Saved questions, and boards."""

from __future__ import annotations

import sqlite3
from typing import Final

from obitus.store.database import Reader
from obitus.store.errors import AlreadyThere, ChangedMeanwhile, NotThere, TooMany
from obitus.store.rows.known import BoardRow, SavedQuestion

MOST_QUESTIONS: Final = 500
"""Most of all, and of one person."""
MOST_BOARDS: Final = 200

_QUESTIONS: Final = """
SELECT q.id, q.name, q.for_all, q.view, q.changed_ms, q.person_id, people.name AS person
FROM saved_questions q JOIN people ON people.id = q.person_id WHERE q.for_all = 1 OR q.person_id = :person_id ORDER BY q.name, q.id"""
_COUNT: Final = "SELECT COUNT(*) FROM saved_questions WHERE for_all = 1 OR person_id = :person_id"
_ADD: Final = """
INSERT INTO saved_questions (person_id, name, for_all, view, changed_ms) VALUES (:person_id, :name, :for_all, :view, :now_ms)
ON CONFLICT DO NOTHING RETURNING id"""
_CHANGE: Final = """
UPDATE OR IGNORE saved_questions SET name = :name, for_all = :for_all, view = :view, changed_ms = :now_ms
WHERE id = :id AND (for_all = 1 OR person_id = :person_id) RETURNING id"""
_HAS: Final = "SELECT name FROM saved_questions WHERE id = :id AND (for_all = 1 OR person_id = :person_id)"
_REMOVE: Final = "DELETE FROM saved_questions WHERE id = :id AND (for_all = 1 OR person_id = :person_id) RETURNING name"

_BOARDS: Final = """
SELECT b.id, b.name, b.panes, b.revision, b.changed_ms, people.name AS person
FROM boards b LEFT JOIN people ON people.id = b.person_id ORDER BY b.name"""
_BOARD: Final = """
SELECT b.id, b.name, b.panes, b.revision, b.changed_ms, people.name AS person
FROM boards b LEFT JOIN people ON people.id = b.person_id WHERE b.id = ?"""
_ADD_BOARD: Final = """
INSERT INTO boards (name, panes, revision, person_id, changed_ms) VALUES (:name, :panes, 1, :person_id, :now_ms)
ON CONFLICT DO NOTHING RETURNING id"""
_CHANGE_BOARD: Final = """
UPDATE boards SET name = :name, panes = :panes, revision = revision + 1, person_id = :person_id, changed_ms = :now_ms WHERE id = :id"""
_REMOVE_BOARD: Final = "DELETE FROM boards WHERE id = ? RETURNING name"
_BOARD_COUNT: Final = "SELECT COUNT(*) FROM boards"
_NAMED: Final = "SELECT id FROM boards WHERE name = ? AND id <> ?"
_DONE: Final = "INSERT INTO done_once (what, done_ms) VALUES (?, ?) ON CONFLICT DO NOTHING RETURNING what"
_IS_DONE: Final = "SELECT 1 FROM done_once WHERE what = ?"
FIRST_BOARD: Final = "first board"


def questions(reader: Reader, person_id: int) -> list[SavedQuestion]:
    """Return the saved questions that a person sees: those for all, and their own."""
    return reader.all(SavedQuestion, _QUESTIONS, {"person_id": person_id})


def save(connection: sqlite3.Connection, person_id: int, name: str, for_all: bool, view: str, now_ms: int) -> int:
    """Save a question and return its id; raises AlreadyThere, TooMany."""
    values = {"person_id": person_id, "name": name, "for_all": int(for_all), "view": view, "now_ms": now_ms}
    if connection.execute(_COUNT, values).fetchone()[0] >= MOST_QUESTIONS:
        raise TooMany(f"there are {MOST_QUESTIONS} saved questions already; remove one first")
    row = connection.execute(_ADD, values).fetchone()
    if row is None:
        raise AlreadyThere(f"a question named {name!r} is saved already")
    return int(row[0])


def change(
    connection: sqlite3.Connection, saved: int, person_id: int, name: str, for_all: bool, view: str, now_ms: int
) -> None:
    """Change a saved question, which keeps its id; raises NotThere, AlreadyThere."""
    values = {
        "id": saved,
        "person_id": person_id,
        "name": name,
        "for_all": int(for_all),
        "view": view,
        "now_ms": now_ms,
    }
    if connection.execute(_HAS, values).fetchone() is None:
        raise NotThere(f"there is no saved question {saved}")
    if connection.execute(_CHANGE, values).fetchone() is None:
        raise AlreadyThere(f"a question named {name!r} is saved already")


def remove(connection: sqlite3.Connection, saved: int, person_id: int) -> str:
    """Remove a saved question and return its name; raises NotThere."""
    row = connection.execute(_REMOVE, {"id": saved, "person_id": person_id}).fetchone()
    if row is None:
        raise NotThere(f"there is no saved question {saved}")
    return str(row[0])


def boards(reader: Reader) -> list[BoardRow]:
    """Return all boards, by name."""
    return reader.all(BoardRow, _BOARDS)


def board(reader: Reader, number: int) -> BoardRow:
    """Return one board; raises NotThere."""
    row = reader.first(BoardRow, _BOARD, (number,))
    if row is None:
        raise NotThere(f"there is no board {number}")
    return row


def add_board(connection: sqlite3.Connection, name: str, panes: str, person_id: int | None, now_ms: int) -> int:
    """Make a board and return its id; raises AlreadyThere, TooMany."""
    if connection.execute(_BOARD_COUNT).fetchone()[0] >= MOST_BOARDS:
        raise TooMany(f"there are {MOST_BOARDS} boards already; remove one first")
    values = {"name": name, "panes": panes, "person_id": person_id, "now_ms": now_ms}
    row = connection.execute(_ADD_BOARD, values).fetchone()
    if row is None:
        raise AlreadyThere(f"there is a board named {name!r} already")
    return int(row[0])


def change_board(
    connection: sqlite3.Connection, number: int, name: str, panes: str, seen: int, person_id: int, now_ms: int
) -> None:
    """Store an arranged board; raises NotThere, AlreadyThere, and ChangedMeanwhile where it has changed since it was seen."""
    row = connection.execute(_BOARD, (number,)).fetchone()
    if row is None:
        raise NotThere(f"there is no board {number}")
    if row["revision"] != seen:
        who = row["person"] or "somebody"
        raise ChangedMeanwhile(
            f"{who} has changed this board meanwhile. The present board is shown; repeat your change if it is still right."
        )
    if connection.execute(_NAMED, (name, number)).fetchone() is not None:
        raise AlreadyThere(f"there is a board named {name!r} already")
    values = {"id": number, "name": name, "panes": panes, "person_id": person_id, "now_ms": now_ms}
    connection.execute(_CHANGE_BOARD, values)


def remove_board(connection: sqlite3.Connection, number: int) -> str:
    """Remove a board and return its name; raises NotThere."""
    row = connection.execute(_REMOVE_BOARD, (number,)).fetchone()
    if row is None:
        raise NotThere(f"there is no board {number}")
    return str(row[0])


def is_first_board_made(reader: Reader) -> bool:
    """Whether the automatic board was made, even if it was removed since."""
    return bool(reader.column(int, _IS_DONE, (FIRST_BOARD,)))


def make_first_board(connection: sqlite3.Connection, name: str, panes: str, now_ms: int) -> None:
    """Make the automatic board, once; not where one of that name exists."""
    if connection.execute(_DONE, (FIRST_BOARD, now_ms)).fetchone() is not None:
        connection.execute(_ADD_BOARD, {"name": name, "panes": panes, "person_id": None, "now_ms": now_ms})
