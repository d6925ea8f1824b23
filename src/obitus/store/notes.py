"""Notes, checks and attachments of issues, checklists, and patterns of tickets."""

from __future__ import annotations

import json
import sqlite3
from typing import Final

import zstandard

from obitus.store import events
from obitus.store.database import Reader
from obitus.store.errors import AlreadyThere, ChangedMeanwhile, NotThere, TooMany
from obitus.store.rows.known import AttachedBody, Attachment, CheckList, CheckResult, LinkPattern, Note, NoteVersion

MOST_NOTES: Final = 500
"""Most notes of one issue."""
MOST_VERSIONS: Final = 100
MOST_ATTACHMENTS: Final = 40
MOST_LISTS: Final = 100
MOST_PATTERNS: Final = 50
_LEVEL: Final = 6

_NOTES = """
SELECT notes.id, issue_id, people.name AS person, time_ms, looked_at, found, text, output, version, changed_ms
FROM notes JOIN people ON people.id = notes.person_id WHERE removed_ms IS NULL"""
# By their own column: people may be removed too.
_NOTES_OF: Final = (
    _NOTES.replace("removed_ms IS NULL", "notes.removed_ms IS NULL") + " AND issue_id = ? ORDER BY notes.id"
)
_ONE_NOTE: Final = _NOTES_OF.replace("issue_id = ? ORDER BY notes.id", "issue_id = ? AND notes.id = ?")
_COUNT_NOTES = "SELECT COUNT(*) FROM notes WHERE issue_id = ?"
_HAS_ISSUE = "SELECT merged_into FROM issues WHERE id = ?"
_ADD_NOTE = """
INSERT INTO notes (issue_id, person_id, time_ms, looked_at, found, text, output, version)
VALUES (:issue_id, :person_id, :now_ms, :looked_at, :found, :text, :output, 1) RETURNING id"""
_NOTE = "SELECT version, person_id, looked_at, found, text, COALESCE(changed_ms, time_ms) AS time_ms FROM notes WHERE id = ? AND issue_id = ? AND removed_ms IS NULL"
_KEEP_VERSION = """
INSERT INTO note_versions (note_id, version, person_id, time_ms, looked_at, found, text)
VALUES (:id, :version, :by, :then_ms, :looked_at, :found, :text)"""
_CHANGE = "UPDATE notes SET looked_at = :looked_at, found = :found, text = :text, version = version + 1, changed_ms = :now_ms WHERE id = :id"
_REMOVE_NOTE = "UPDATE notes SET removed_ms = ? WHERE id = ? AND issue_id = ? AND removed_ms IS NULL"
_VERSIONS = """
SELECT version, people.name AS person, time_ms, looked_at, found, text
FROM note_versions JOIN people ON people.id = person_id
WHERE note_id = (SELECT id FROM notes WHERE id = ? AND issue_id = ?) ORDER BY version DESC"""
_ATTACHMENTS = """
SELECT attachments.id, issue_id, people.name AS person, time_ms, attachments.name, type, bytes
FROM attachments JOIN people ON people.id = person_id
WHERE issue_id = ? AND attachments.removed_ms IS NULL ORDER BY attachments.id"""
_BODY = "SELECT name, body FROM attachments WHERE id = ? AND issue_id = ? AND removed_ms IS NULL"
_COUNT_ATTACHMENTS = "SELECT COUNT(*) FROM attachments WHERE issue_id = ? AND removed_ms IS NULL"
_ATTACH = """
INSERT INTO attachments (issue_id, person_id, time_ms, name, type, bytes, body)
VALUES (:issue_id, :person_id, :now_ms, :name, :type, :bytes, :body) RETURNING id"""
_DETACH = "UPDATE attachments SET removed_ms = ?, body = x'' WHERE id = ? AND issue_id = ? AND removed_ms IS NULL"
_LISTS = """
SELECT check_lists.id, apps.name AS app, check_lists.name, items, version, people.name AS person, changed_ms
FROM check_lists JOIN people ON people.id = person_id LEFT JOIN apps ON apps.id = app_id
WHERE app_id IS NULL OR apps.removed_ms IS NULL ORDER BY check_lists.name, apps.name"""
_COUNT_LISTS = "SELECT COUNT(*) FROM check_lists"
_ADD_LIST = """
INSERT INTO check_lists (app_id, name, items, version, person_id, changed_ms)
VALUES (:app_id, :name, :items, 1, :person_id, :now_ms) ON CONFLICT DO NOTHING RETURNING id"""
_LIST = "SELECT version FROM check_lists WHERE id = ?"
_CHANGE_LIST = "UPDATE check_lists SET name = :name, items = :items, version = version + 1, person_id = :person_id, changed_ms = :now_ms WHERE id = :id"
_REMOVE_LIST = "DELETE FROM check_lists WHERE id = ?"
_PATTERNS = "SELECT id, pattern, address FROM link_patterns ORDER BY pattern"
_COUNT_PATTERNS = "SELECT COUNT(*) FROM link_patterns"
_ADD_PATTERN = "INSERT INTO link_patterns (pattern, address, person_id, created_ms) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING RETURNING id"
_REMOVE_PATTERN = "DELETE FROM link_patterns WHERE id = ? RETURNING pattern"


def notes(reader: Reader, issue_id: int) -> list[Note]:
    """Return notes and checks of an issue, oldest first."""
    return reader.all(Note, _NOTES_OF, (issue_id,))


def note(reader: Reader, issue_id: int, number: int) -> Note | None:
    """Return one note or check of an issue; None where it was removed, or never was."""
    return reader.first(Note, _ONE_NOTE, (issue_id, number))


def add_note(
    connection: sqlite3.Connection,
    issue_id: int,
    person_id: int,
    now_ms: int,
    *,
    text: str,
    looked_at: str = "",
    found: CheckResult = "",
    output: str = "",
) -> int:
    """Write a note or a check on an issue and return its number; raises NotThere and TooMany."""
    if connection.execute(_HAS_ISSUE, (issue_id,)).fetchone() is None:
        raise NotThere(f"there is no issue {issue_id}")
    if connection.execute(_COUNT_NOTES, (issue_id,)).fetchone()[0] >= MOST_NOTES:
        raise TooMany(f"issue {issue_id} has {MOST_NOTES} notes already, those that were removed included")
    values = {"issue_id": issue_id, "person_id": person_id, "now_ms": now_ms, "text": text}
    row = connection.execute(_ADD_NOTE, values | {"looked_at": looked_at, "found": found, "output": output}).fetchone()
    events.add(connection, "issue-changed", now_ms, issue=issue_id)
    return int(row[0])


def change_note(
    connection: sqlite3.Connection,
    issue_id: int,
    note_id: int,
    person_id: int,
    now_ms: int,
    *,
    seen: int,
    text: str,
    looked_at: str,
    found: CheckResult,
) -> None:
    """Change a note; its earlier text is kept. Raises NotThere, TooMany, and ChangedMeanwhile where ``seen`` is not its version any more."""
    row = connection.execute(_NOTE, (note_id, issue_id)).fetchone()
    if row is None:
        raise NotThere(f"there is no note {note_id} on issue {issue_id}")
    if row["version"] != seen:
        raise ChangedMeanwhile(
            f"Note {note_id} was changed meanwhile. Nothing was written: read its present text, and write again."
        )
    if seen >= MOST_VERSIONS:
        raise TooMany(f"note {note_id} was changed {MOST_VERSIONS} times; write another one")
    before = {"id": note_id, "version": seen, "by": row["person_id"], "then_ms": row["time_ms"]}
    connection.execute(_KEEP_VERSION, before | {name: row[name] for name in ("looked_at", "found", "text")})
    connection.execute(_CHANGE, {"id": note_id, "looked_at": looked_at, "found": found, "text": text, "now_ms": now_ms})
    events.add(connection, "issue-changed", now_ms, issue=issue_id)


def remove_note(connection: sqlite3.Connection, issue_id: int, note_id: int, now_ms: int) -> None:
    """Remove a note; raises NotThere."""
    if connection.execute(_REMOVE_NOTE, (now_ms, note_id, issue_id)).rowcount == 0:
        raise NotThere(f"there is no note {note_id} on issue {issue_id}")
    events.add(connection, "issue-changed", now_ms, issue=issue_id)


def versions(reader: Reader, issue_id: int, note_id: int) -> list[NoteVersion]:
    """Return earlier texts of a note, the latest first."""
    return reader.all(NoteVersion, _VERSIONS, (note_id, issue_id))


def attachments(reader: Reader, issue_id: int) -> list[Attachment]:
    """Return the attachments of an issue, oldest first."""
    return reader.all(Attachment, _ATTACHMENTS, (issue_id,))


def attached(reader: Reader, issue_id: int, attachment_id: int) -> tuple[str, bytes]:
    """Return an attachment's name and content; raises NotThere."""
    row = reader.only(AttachedBody, _BODY, (attachment_id, issue_id), what="attachment with this number")
    return row.name, zstandard.ZstdDecompressor().decompress(row.body)


def packed(body: bytes) -> bytes:
    """Return an attachment in its stored form; call it off the writer."""
    return zstandard.ZstdCompressor(level=_LEVEL).compress(body)


def attach(
    connection: sqlite3.Connection,
    issue_id: int,
    person_id: int,
    now_ms: int,
    *,
    name: str,
    type_: str,
    size: int,
    body: bytes,
) -> int:
    """Attach a file to an issue and return its number; raises NotThere and TooMany."""
    if connection.execute(_HAS_ISSUE, (issue_id,)).fetchone() is None:
        raise NotThere(f"there is no issue {issue_id}")
    if connection.execute(_COUNT_ATTACHMENTS, (issue_id,)).fetchone()[0] >= MOST_ATTACHMENTS:
        raise TooMany(f"issue {issue_id} has {MOST_ATTACHMENTS} attachments already. Remove one first.")
    values = {"issue_id": issue_id, "person_id": person_id, "now_ms": now_ms, "name": name, "type": type_}
    row = connection.execute(_ATTACH, values | {"bytes": size, "body": body}).fetchone()
    events.add(connection, "issue-changed", now_ms, issue=issue_id)
    return int(row[0])


def detach(connection: sqlite3.Connection, issue_id: int, attachment_id: int, now_ms: int) -> None:
    """Remove an attachment and its content; raises NotThere."""
    if connection.execute(_DETACH, (now_ms, attachment_id, issue_id)).rowcount == 0:
        raise NotThere(f"there is no attachment {attachment_id} on issue {issue_id}")
    events.add(connection, "issue-changed", now_ms, issue=issue_id)


def check_lists(reader: Reader) -> list[CheckList]:
    """Return the checklists, by name."""
    return reader.all(CheckList, _LISTS)


def add_list(
    connection: sqlite3.Connection, app_id: int | None, name: str, items: list[dict[str, str]], person_id: int, now_ms: int
) -> int:  # fmt: skip
    """Add a list and return its number; raises AlreadyThere and TooMany."""
    if connection.execute(_COUNT_LISTS).fetchone()[0] >= MOST_LISTS:
        raise TooMany(f"there are {MOST_LISTS} lists already")
    values = {"app_id": app_id, "name": name, "items": json.dumps(items), "person_id": person_id, "now_ms": now_ms}
    row = connection.execute(_ADD_LIST, values).fetchone()
    if row is None:
        raise AlreadyThere(f"there is a list named {name!r} already")
    return int(row[0])


def change_list(
    connection: sqlite3.Connection,
    list_id: int,
    name: str,
    items: list[dict[str, str]],
    person_id: int,
    now_ms: int,
    *,
    seen: int,
) -> None:
    """Change a list; raises NotThere, AlreadyThere, and ChangedMeanwhile where ``seen`` is not its version any more."""
    row = connection.execute(_LIST, (list_id,)).fetchone()
    if row is None:
        raise NotThere(f"there is no list {list_id}")
    if row["version"] != seen:
        raise ChangedMeanwhile("The list was changed meanwhile. Nothing was written: look at it again.")
    values = {"id": list_id, "name": name, "items": json.dumps(items), "person_id": person_id, "now_ms": now_ms}
    try:
        connection.execute(_CHANGE_LIST, values)
    except sqlite3.IntegrityError:
        raise AlreadyThere(f"there is a list named {name!r} already") from None


def remove_list(connection: sqlite3.Connection, list_id: int) -> None:
    """Remove a list; raises NotThere."""
    if connection.execute(_REMOVE_LIST, (list_id,)).rowcount == 0:
        raise NotThere(f"there is no list {list_id}")


def link_patterns(reader: Reader) -> list[LinkPattern]:
    """Return the patterns of tickets."""
    return reader.all(LinkPattern, _PATTERNS)


def add_pattern(connection: sqlite3.Connection, pattern: str, address: str, person_id: int, now_ms: int) -> int:
    """Add a pattern of tickets and return its number; raises AlreadyThere and TooMany."""
    if connection.execute(_COUNT_PATTERNS).fetchone()[0] >= MOST_PATTERNS:
        raise TooMany(f"there are {MOST_PATTERNS} patterns already")
    row = connection.execute(_ADD_PATTERN, (pattern, address, person_id, now_ms)).fetchone()
    if row is None:
        raise AlreadyThere(f"{pattern!r} leads somewhere already")
    return int(row[0])


def remove_pattern(connection: sqlite3.Connection, pattern_id: int) -> str:
    """Remove one and return it; raises NotThere."""
    row = connection.execute(_REMOVE_PATTERN, (pattern_id,)).fetchone()
    if row is None:
        raise NotThere(f"there is no pattern {pattern_id}")
    return str(row[0])
