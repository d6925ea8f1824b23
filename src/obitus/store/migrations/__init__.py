"""Migrating the main file's schema, one version after the other, each in one transaction.

A step may rebuild tables, by the procedure in SQLite's documentation (sqlite.org/lang_altertable.html, 7): foreign
keys are off, which has to be set outside of a transaction, and are checked before the commit.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from importlib import resources
from pathlib import Path
from typing import Final

from obitus.store import errors
from obitus.store.database import LARGE_CACHE, open_as_writer, our_errors
from obitus.store.migrations import to_days, to_rate_regressions

# Step n brings a file from version n - 1 to n. The first one is the whole schema of version 1.
SCHEMA_VERSION: Final = 26
MIGRATIONS: Final = tuple(f"version_{version}.sql" for version in range(1, SCHEMA_VERSION + 1))
_MARKS: Final = tuple(f"PRAGMA user_version = {version}" for version in range(1, SCHEMA_VERSION + 1))
# Work that statements alone cannot do, before those of a version, in the same transaction.
_BEFORE: Final[dict[int, Callable[[sqlite3.Connection, Path], None]]] = {
    8: to_days.move,
    26: to_rate_regressions.rename,
}


def statement_file(name: str) -> str:
    """Return the text of an ``.sql`` file of this package."""
    return resources.files("obitus.store.migrations").joinpath(name).read_text("utf-8")


def open_for_writing(path: Path) -> sqlite3.Connection:
    """Open (or make) the main file for the one writer and migrate its schema."""
    with our_errors(path):
        connection = open_as_writer(path, LARGE_CACHE)
        try:
            version = int(connection.execute("PRAGMA user_version").fetchone()[0])
            if version > SCHEMA_VERSION:
                raise errors.StoreTooNew(
                    f"{path} has schema version {version}, this Obitus knows up to {SCHEMA_VERSION}. Start the newer version."
                )
            for step in range(version + 1, SCHEMA_VERSION + 1):
                _take_step(connection, path, step, was_empty=version == 0)
        except BaseException:
            # An open connection would hold the lock of an interrupted step.
            connection.close()
            raise
    return connection


def _take_step(connection: sqlite3.Connection, path: Path, step: int, *, was_empty: bool) -> None:
    """Migrate the file to a version: the step and its mark are one transaction, and a kill in between leaves the file as it was."""
    connection.execute("PRAGMA foreign_keys = OFF")
    try:
        connection.execute("BEGIN IMMEDIATE")
        if step in _BEFORE:
            _BEFORE[step](connection, path)
        # executescript would commit first.
        for statement in _statements(statement_file(MIGRATIONS[step - 1])):
            connection.execute(statement)
        if not was_empty:
            wrong = connection.execute("PRAGMA foreign_key_check").fetchone()
            if wrong is not None:
                raise errors.StoreDamaged(
                    f"{path}: a row of {wrong[0]} refers to a row of {wrong[2]} that is not there; nothing was changed. "
                    "Bring a backup back, or start the earlier version."
                )
        connection.execute(_MARKS[step - 1])
        connection.execute("COMMIT")
    except BaseException:
        if connection.in_transaction:
            connection.rollback()
        raise
    finally:
        connection.execute("PRAGMA foreign_keys = ON")


def _statements(text: str) -> list[str]:
    """Return the statements of a file, each whole."""
    statements, rest = [], ""
    for line in text.splitlines(keepends=True):
        rest += line
        if ";" in line and sqlite3.complete_statement(rest):
            statements.append(rest)
            rest = ""
    return [*statements, rest] if rest.strip() else statements
