"""Names that senders choose, bounded for each app: further names are counted together. Runs on the writer."""

from __future__ import annotations

import sqlite3
from typing import Final

from obitus.store.database import Reader

MOST_ENTRY_POINTS: Final = 2000
MOST_ENVIRONMENTS: Final = 100
MOST_TARGETS: Final = 200
"""Hosts of one app that are counted by name; the same for databases, queues, loggers with warnings, and texts of warnings."""
OTHERS: Final = "…"
"""The name of everything that is counted together."""

_HAS_ENTRY_POINT = "SELECT 1 FROM entry_points WHERE app_id = ? AND name = ?"
_ENTRY_POINTS = "SELECT COUNT(*) FROM entry_points WHERE app_id = ?"
_ADD_ENTRY_POINT = "INSERT INTO entry_points (app_id, name) VALUES (?, ?)"
_HAS_TARGET = "SELECT 1 FROM targets WHERE app_id = ? AND kind = ? AND name = ?"
_TARGETS = "SELECT COUNT(*) FROM targets WHERE app_id = ? AND kind = ?"
_ADD_TARGET = "INSERT INTO targets (app_id, kind, name) VALUES (?, ?, ?)"
_HAS_ANSWERED = "SELECT 1 FROM answered_at WHERE kind = ? AND name = ? AND app_id = ?"
_ANSWERED = "SELECT COUNT(*) FROM answered_at WHERE app_id = ?"
_HAS_ENVIRONMENT = "SELECT 1 FROM environments WHERE app_id = ? AND name = ?"
_ENVIRONMENTS = "SELECT COUNT(*) FROM environments WHERE app_id = ?"
_ADD_ENVIRONMENT = "INSERT INTO environments (app_id, name) VALUES (?, ?)"


def entry_point(connection: sqlite3.Connection, app_id: int, name: str) -> str:
    """Return the name by which an entry point's runs are counted: its own, or ``…``."""
    values = (app_id, name)
    if name == OTHERS or connection.execute(_HAS_ENTRY_POINT, values).fetchone() is not None:
        return name
    # Counted only for a name that is new: the others, nearly all, are found above.
    if connection.execute(_ENTRY_POINTS, (app_id,)).fetchone()[0] >= MOST_ENTRY_POINTS:
        return OTHERS
    connection.execute(_ADD_ENTRY_POINT, values)
    return name


def target(connection: sqlite3.Connection, app_id: int, kind: str, name: str) -> str:
    """Return the name by which a host, database, queue, logger or warning is counted: its own, or ``…``."""
    values = (app_id, kind, name)
    if connection.execute(_HAS_TARGET, values).fetchone() is not None:
        return name
    if connection.execute(_TARGETS, (app_id, kind)).fetchone()[0] >= MOST_TARGETS:
        return OTHERS
    connection.execute(_ADD_TARGET, values)
    return name


def may_answer(connection: sqlite3.Connection, app_id: int, kind: str, name: str) -> bool:
    """Return whether it is stored that an app answers at a name: callers choose the host in a request."""
    if connection.execute(_HAS_ANSWERED, (kind, name, app_id)).fetchone() is not None:
        return True
    return int(connection.execute(_ANSWERED, (app_id,)).fetchone()[0]) < MOST_TARGETS


def has_environment(reader: Reader, app_id: int, name: str) -> bool:
    """Return whether an environment is stored already."""
    return reader.row(_HAS_ENVIRONMENT, (app_id, name)) is not None


def environment(connection: sqlite3.Connection, app_id: int, name: str) -> bool:
    """Return whether an environment may be stored; a new one is added."""
    values = (app_id, name)
    if connection.execute(_HAS_ENVIRONMENT, values).fetchone() is not None:
        return True
    if connection.execute(_ENVIRONMENTS, (app_id,)).fetchone()[0] >= MOST_ENVIRONMENTS:
        return False
    connection.execute(_ADD_ENVIRONMENT, values)
    return True
