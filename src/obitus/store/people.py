"""Who may: people, their passes (sign-in links, sessions, personal tokens) and what they did. Secrets come hashed."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass
from typing import Literal

from obitus.store.database import Reader, Row
from obitus.store.errors import NotThere

PassKind = Literal["link", "session", "token"]

_OWNER = "SELECT id, name, password FROM people WHERE role = 'owner' ORDER BY id LIMIT 1"
_PERSON_NAMED = "SELECT id, name, password FROM people WHERE name = ?"
_PERSON_WITH = """
SELECT people.id, people.name, people.role, people.password IS NOT NULL AS has_password, passes.id AS pass_id
FROM passes JOIN people ON people.id = passes.person_id
WHERE passes.hash = :hash AND passes.kind = :kind AND passes.ended_ms IS NULL
  AND (passes.expires_ms IS NULL OR passes.expires_ms > :now_ms)"""
_TOKENS = """
SELECT id, label, created_ms FROM passes
WHERE person_id = ? AND kind = 'token' AND ended_ms IS NULL ORDER BY created_ms, id"""
_ADD_OWNER = "INSERT INTO people (name, role, created_ms) VALUES (?, 'owner', ?)"
_ADD_PASS = """
INSERT INTO passes (hash, id, kind, person_id, label, created_ms, expires_ms)
VALUES (:hash, :id, :kind, :person_id, :label, :now_ms, :expires_ms)"""
_END_PASS = "UPDATE passes SET ended_ms = :now_ms WHERE id = :id AND person_id = :person_id AND ended_ms IS NULL"
_USE_LINK = """
UPDATE passes SET ended_ms = :now_ms
WHERE hash = :hash AND kind = 'link' AND ended_ms IS NULL AND expires_ms > :now_ms RETURNING person_id"""
_SET_PASSWORD = "UPDATE people SET password = ? WHERE id = ?"
_END_OTHER_SESSIONS = """
UPDATE passes SET ended_ms = :now_ms
WHERE person_id = :person_id AND kind IN ('session', 'link') AND ended_ms IS NULL AND id <> :keep"""
_ADD_ACT = "INSERT INTO acts (time_ms, person_id, act, subject) VALUES (?, ?, ?, ?)"


@dataclass(frozen=True, slots=True)
class Person:
    """Somebody who was let in, and by which pass."""

    id: int
    name: str
    role: str
    has_password: bool
    pass_id: str


def owner(reader: Reader) -> Row | None:
    """Return the owner (id, name, password), or None before the first start."""
    return reader.row(_OWNER)


def person_named(reader: Reader, name: str) -> Row | None:
    """Return a person (id, name, password) by name."""
    return reader.row(_PERSON_NAMED, (name,))


def person_with(reader: Reader, secret_hash: bytes, kind: PassKind, now_ms: int) -> Person | None:
    """Return who holds a valid pass of that kind."""
    row = reader.row(_PERSON_WITH, {"hash": secret_hash, "kind": kind, "now_ms": now_ms})
    if row is None:
        return None
    return Person(row["id"], row["name"], row["role"], bool(row["has_password"]), row["pass_id"])


def tokens_of(reader: Reader, person_id: int) -> list[Row]:
    """Return a person's personal tokens (id, label, created_ms); the tokens themselves are not kept."""
    return reader.rows(_TOKENS, (person_id,))


def add_owner(connection: sqlite3.Connection, name: str, now_ms: int) -> int:
    """Make the owner and return the id."""
    return int(connection.execute(_ADD_OWNER, (name, now_ms)).lastrowid or 0)


def add_pass(
    connection: sqlite3.Connection,
    *,
    secret_hash: bytes,
    pass_id: str,
    kind: PassKind,
    person_id: int,
    label: str,
    now_ms: int,
    expires_ms: int | None,
) -> None:
    """Store a new pass."""
    values = {"hash": secret_hash, "id": pass_id, "kind": kind, "person_id": person_id, "label": label}
    connection.execute(_ADD_PASS, values | {"now_ms": now_ms, "expires_ms": expires_ms})


def use_link(connection: sqlite3.Connection, secret_hash: bytes, now_ms: int) -> int:
    """Use a sign-in link up and return whose it was; raises NotThere when it is unknown, used or too old."""
    row = connection.execute(_USE_LINK, {"hash": secret_hash, "now_ms": now_ms}).fetchone()
    if row is None:
        raise NotThere("this sign-in link was used already, is too old, or was never given out")
    return int(row[0])


def end_pass(connection: sqlite3.Connection, pass_id: str, person_id: int, now_ms: int) -> None:
    """End a pass of that person; raises NotThere when there is none to end."""
    done = connection.execute(_END_PASS, {"id": pass_id, "person_id": person_id, "now_ms": now_ms})
    if done.rowcount == 0:
        raise NotThere("there is no such pass, or it has ended")


def set_password(connection: sqlite3.Connection, person_id: int, hashed: str, *, keep_pass: str, now_ms: int) -> None:
    """Set a password and end every other session and link of that person."""
    connection.execute(_SET_PASSWORD, (hashed, person_id))
    connection.execute(_END_OTHER_SESSIONS, {"person_id": person_id, "now_ms": now_ms, "keep": keep_pass})


def note_act(connection: sqlite3.Connection, person_id: int | None, act: str, subject: str, now_ms: int) -> None:
    """Put on record what somebody did."""
    connection.execute(_ADD_ACT, (now_ms, person_id, act, subject))
