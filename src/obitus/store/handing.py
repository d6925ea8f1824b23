"""Handing over unassigned issues: CODEOWNERS files, the people behind owners' names, and the hand-over itself."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from typing import Final

from obitus.store import issues, team
from obitus.store.database import Reader
from obitus.store.errors import NotThere, TooMany
from obitus.store.rows.issues import Issue
from obitus.store.rows.triage import OwnerFile, OwnerName

MOST_NAMES: Final = 5000

_FILE: Final = """
SELECT o.app_id, apps.name AS app, o.body, o.beneath, people.name AS person, o.changed_ms
FROM owner_files o JOIN apps ON apps.id = o.app_id AND apps.removed_ms IS NULL JOIN people ON people.id = o.person_id WHERE o.app_id = ?"""
_KEEP_FILE: Final = """
INSERT INTO owner_files (app_id, body, beneath, person_id, changed_ms) VALUES (:app_id, :body, :beneath, :person_id, :now_ms)
ON CONFLICT DO UPDATE SET body = excluded.body, beneath = excluded.beneath, person_id = excluded.person_id, changed_ms = excluded.changed_ms"""
_NO_FILE: Final = "DELETE FROM owner_files WHERE app_id = ?"
_NAMES: Final = """
SELECT n.owner, people.name AS person FROM owner_names n JOIN people ON people.id = n.person_id AND people.removed_ms IS NULL ORDER BY n.owner"""
_COUNT_NAMES: Final = "SELECT COUNT(*) FROM owner_names"
_KEEP_NAME: Final = (
    "INSERT INTO owner_names (owner, person_id) VALUES (?, ?) ON CONFLICT DO UPDATE SET person_id = excluded.person_id"
)
_NO_NAME: Final = "DELETE FROM owner_names WHERE owner = ?"
_PEOPLE: Final = "SELECT name FROM people WHERE removed_ms IS NULL ORDER BY name"
_HELD: Final = "SELECT holder_id, state, merged_into, app_id FROM issues WHERE id = ?"
_HAND: Final = "UPDATE issues SET holder_id = :holder WHERE id = :id AND holder_id IS NULL"
_UNHELD: Final = """
SELECT issues.id FROM issues JOIN apps ON apps.id = issues.app_id AND apps.removed_ms IS NULL
WHERE issues.holder_id IS NULL AND issues.state IN ('untriaged', 'accepted', 'regressed') AND issues.merged_into IS NULL
ORDER BY issues.last_ms DESC LIMIT ?"""


def owner_file(reader: Reader, app_id: int) -> OwnerFile | None:
    """Return an app's CODEOWNERS."""
    return reader.first(OwnerFile, _FILE, (app_id,))


def keep_file(
    connection: sqlite3.Connection, app_id: int, body: str, beneath: str, person_id: int, now_ms: int
) -> None:
    """Store an app's CODEOWNERS, in place of the one before."""
    values = {"app_id": app_id, "body": body, "beneath": beneath, "person_id": person_id, "now_ms": now_ms}
    connection.execute(_KEEP_FILE, values)


def remove_file(connection: sqlite3.Connection, app_id: int) -> None:
    """Remove an app's CODEOWNERS; raises NotThere."""
    if connection.execute(_NO_FILE, (app_id,)).rowcount == 0:
        raise NotThere("this app has no CODEOWNERS")


def names(reader: Reader) -> list[OwnerName]:
    """Return the person for each owner's name."""
    return reader.all(OwnerName, _NAMES)


def keep_name(connection: sqlite3.Connection, owner: str, person: str) -> None:
    """Set the person for an owner's name; raises NotThere, TooMany."""
    person_id, _ = team.named(connection, person)
    if connection.execute(_COUNT_NAMES).fetchone()[0] >= MOST_NAMES:
        raise TooMany(f"there are {MOST_NAMES} owners' names already; remove one first")
    connection.execute(_KEEP_NAME, (owner.lower(), person_id))


def remove_name(connection: sqlite3.Connection, owner: str) -> None:
    """Remove the person for an owner's name; raises NotThere."""
    if connection.execute(_NO_NAME, (owner.lower(),)).rowcount == 0:
        raise NotThere(f"no person is named for {owner!r}")


def people(reader: Reader) -> list[str]:
    """Return the names of all people."""
    return reader.column(str, _PEOPLE)


def unheld(reader: Reader, most: int) -> list[Issue]:
    """Return open unassigned issues, the latest failure first."""
    return issues.numbered(reader, reader.column(int, _UNHELD, (most,)))


def hand(
    connection: sqlite3.Connection, issue_id: int, candidates: Sequence[tuple[str, str]], now_ms: int
) -> str | None:
    """Hand an unassigned issue to the first of some people who may have it; return the name. Runs on the writer.

    ``candidates`` are names, each with the reason in words. People who cannot have it are skipped, and the history says so.
    """
    row = connection.execute(_HELD, (issue_id,)).fetchone()
    if row is None or row["holder_id"] is not None or row["state"] == "settled" or row["merged_into"] is not None:
        return None
    passed = []
    for name, reason in candidates:
        try:
            holder = team.may_have(connection, name, row["app_id"])
        except NotThere as trouble:
            passed.append(f"Not to {name} ({reason}): {trouble}.")
            continue
        connection.execute(_HAND, {"id": issue_id, "holder": holder})
        remark = f"Handed to {name}: {reason}."
        issues.note(connection, issue_id, None, " ".join([remark, *passed]), now_ms)
        return name
    if passed:
        issues.note(connection, issue_id, None, " ".join(["It stays unassigned.", *passed]), now_ms)
    return None
