"""A day file: its path, its schema, and opening it for the one writer."""

from __future__ import annotations

import sqlite3
from importlib import resources
from pathlib import Path
from typing import Final

from obitus.core.days import day_named, day_text
from obitus.store import errors
from obitus.store.database import MIDDLE_CACHE, open_as_writer, our_errors

DAY_SCHEMA_VERSION: Final = 1
FOLDER: Final = "days"


def folder_beside(database: Path) -> Path:
    """Return the folder of the day files that belong to a main file."""
    return database.parent / FOLDER


def path_of(folder: Path, day: int) -> Path:
    """Return where a day's file lies."""
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
        except BaseException:
            connection.close()
            raise
    return connection
