"""The commits of releases, found by the names on a failing stack."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Sequence
from typing import Final

from obitus.core.changes.commits import Commit, LibraryChange, Touched
from obitus.store.database import Reader
from obitus.store.rows.releases import CommitFile, CommitLibrary, CommitLine, KnownCommit, Revision

MOST_CANDIDATES: Final = 300
MOST_FILES_READ: Final = 400

_ADD = """
INSERT INTO commits (release_id, hash, time_ms, author, subject, files) VALUES (?, ?, ?, ?, ?, ?)
ON CONFLICT DO NOTHING RETURNING id"""
_ADD_FILE = "INSERT INTO commit_files (commit_id, path, ranges, names) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING"
_ADD_LIBRARY = (
    "INSERT INTO commit_libraries (commit_id, name, before, after) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING"
)
_ADD_KEY = "INSERT INTO commit_keys (release_id, kind, key, commit_id) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING"
_SET_REVISION = "UPDATE releases SET revision = ? WHERE id = ?"
# Every changed library is included: an own stack does not name the library that made it fail.
_CANDIDATES = """
SELECT DISTINCT k.commit_id FROM commit_keys k
WHERE k.release_id = :release_id AND ((k.kind = 'f' AND k.key IN (SELECT value FROM json_each(:files)))
  OR (k.kind = 'n' AND k.key IN (SELECT value FROM json_each(:names)))
  OR (k.kind = 'l')) LIMIT :most"""
_COMMITS = "SELECT id, hash, time_ms, author, subject FROM commits WHERE id IN (SELECT value FROM json_each(?))"
_FILES = """
SELECT commit_id, path, ranges, names FROM (
  SELECT commit_id, path, ranges, names, ROW_NUMBER() OVER (PARTITION BY commit_id) AS place FROM commit_files
  WHERE commit_id IN (SELECT value FROM json_each(?)))
WHERE place <= ?"""
_LIBRARIES = (
    "SELECT commit_id, name, before, after FROM commit_libraries WHERE commit_id IN (SELECT value FROM json_each(?))"
)
_LATEST = """
SELECT hash, time_ms, author, subject, files FROM commits WHERE release_id = ? ORDER BY time_ms DESC, id DESC LIMIT ?"""
_REVISIONS = "SELECT version, revision FROM releases WHERE app_id = ? AND revision != ''"


def add(connection: sqlite3.Connection, release_id: int, commits: Sequence[Commit], revision: str | None) -> int:
    """Store the commits of a release, and the commit of the release itself; return how many were new."""
    added = 0
    for commit in commits:
        row = connection.execute(
            _ADD, (release_id, commit.id, commit.time_ms, commit.author, commit.subject, len(commit.files))
        ).fetchone()
        if row is None:
            continue
        added += 1
        number = row[0]
        for file in commit.files:
            connection.execute(
                _ADD_FILE, (number, file.path, json.dumps([list(r) for r in file.ranges]), json.dumps(list(file.names)))
            )
            connection.execute(_ADD_KEY, (release_id, "f", file.path.rpartition("/")[2], number))
            for name in file.names:
                connection.execute(_ADD_KEY, (release_id, "n", name, number))
        for library in commit.libraries:
            connection.execute(_ADD_LIBRARY, (number, library.name, library.before, library.after))
            connection.execute(_ADD_KEY, (release_id, "l", library.name, number))
    if revision:
        connection.execute(_SET_REVISION, (revision, release_id))
    return added


def candidates(reader: Reader, release_id: int, files: Iterable[str], names: Iterable[str]) -> list[Commit]:
    """Return the commits of a release that touched a file or a name on the stack, or a library."""
    values = {
        "release_id": release_id,
        "files": json.dumps(sorted(files)),
        "names": json.dumps(sorted(names)),
        "most": MOST_CANDIDATES,
    }
    ids = json.dumps(reader.column(int, _CANDIDATES, values))
    libraries: dict[int, list[LibraryChange]] = {}
    for changed in reader.all(CommitLibrary, _LIBRARIES, (ids,)):
        libraries.setdefault(changed.commit_id, []).append(LibraryChange(changed.name, changed.before, changed.after))
    touched: dict[int, list[Touched]] = {}
    for file in reader.all(CommitFile, _FILES, (ids, MOST_FILES_READ)):
        ranges = [tuple(one) for one in json.loads(file.ranges)]
        touched.setdefault(file.commit_id, []).append(Touched(file.path, ranges, json.loads(file.names)))
    return [
        Commit(row.hash, row.time_ms, row.author, row.subject, touched.get(row.id, []), libraries.get(row.id, []))
        for row in reader.all(KnownCommit, _COMMITS, (ids,))
    ]


def latest(reader: Reader, release_id: int, most: int) -> list[CommitLine]:
    """Return the latest commits of a release."""
    return reader.all(CommitLine, _LATEST, (release_id, most))


def revisions(reader: Reader, app_id: int) -> dict[str, str]:
    """Return the commit of each release of an app, where it was reported."""
    return dict(reader.all(Revision, _REVISIONS, (app_id,)))
