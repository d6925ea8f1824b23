"""A day file: its path, its schema, and opening it for the one writer."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from importlib import resources
from pathlib import Path
from typing import Final

from obitus.core.days import day_named, day_text
from obitus.store import errors
from obitus.store.database import MIDDLE_CACHE, open_as_writer, our_errors

DAY_SCHEMA_VERSION: Final = 2
_STEPS: Final = {2: "ALTER TABLE failures ADD COLUMN stands_for INTEGER NOT NULL DEFAULT 1"}
"""By version, the migration from the one before."""
_MARKS: Final = {version: f"PRAGMA user_version = {version}" for version in _STEPS}
_VERSION_AT: Final = 60
"""Offset of the version in a file's header (sqlite.org/fileformat2.html, 1.3)."""
FOLDER: Final = "days"
HAS_FILE: Final = "(removed_ms IS NULL OR reports > 0)"
"""Condition in SQL on the main file's table ``days``: whether a day has a file. One that was removed, or whose file was
damaged, has one again once further reports of it came."""


def folder_beside(database: Path) -> Path:
    """Return the folder of the day files that belong to a main file."""
    return database.parent / FOLDER


def path_of(folder: Path, day: int) -> Path:
    """Return the path of a day's file."""
    return folder / f"{day_text(day)}.sqlite3"


def days_in(folder: Path) -> list[int]:
    """Return the days that have a file there, oldest first."""
    found = (day_named(path.stem) for path in folder.glob("*.sqlite3"))
    return sorted(day for day in found if day is not None)


def schema() -> str:
    """Return the statements that make a day file."""
    return resources.files("obitus.store.days").joinpath("schema.sql").read_text("utf-8")


def open_day(path: Path) -> sqlite3.Connection:
    """Open (or make) a day's file for the writer. Readable by its owner only."""
    with our_errors(path):
        connection = open_as_writer(path, MIDDLE_CACHE)
        try:
            version = int(connection.execute("PRAGMA user_version").fetchone()[0])
            if version > DAY_SCHEMA_VERSION:
                raise errors.StoreTooNew(
                    f"{path} has schema version {version}, this Obitus knows up to {DAY_SCHEMA_VERSION}. Start the newer version."
                )
            if version == 0:
                connection.executescript(
                    f"BEGIN IMMEDIATE;\n{schema()}\nPRAGMA user_version = {DAY_SCHEMA_VERSION};\nCOMMIT;"
                )
            elif version < DAY_SCHEMA_VERSION:
                _take_steps(connection)
        except BaseException:
            connection.close()
            raise
    return connection


def written_of(path: Path) -> int:
    """Return the last place of a day's file; 0 where it cannot be read."""
    try:
        with closing(
            sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True, isolation_level=None)
        ) as connection:
            return int(connection.execute("SELECT place FROM written").fetchone()[0])
    except sqlite3.Error:
        return 0


def bring_up_to_date(path: Path) -> None:
    """Migrate a day's file of an earlier version before it is read: it may come from a backup."""
    if _version_in(path) < DAY_SCHEMA_VERSION:
        open_day(path).close()


def _version_in(path: Path) -> int:
    with path.open("rb") as file:
        file.seek(_VERSION_AT)
        return int.from_bytes(file.read(4), "big")


def _take_steps(connection: sqlite3.Connection) -> None:
    connection.execute("BEGIN IMMEDIATE")
    # Another connection may have done it meanwhile.
    version = int(connection.execute("PRAGMA user_version").fetchone()[0])
    for step in range(version + 1, DAY_SCHEMA_VERSION + 1):
        connection.execute(_STEPS[step])
        connection.execute(_MARKS[step])
    connection.execute("COMMIT")
