"""Whether all that a query reads is watched by triggers: only then may its result be kept in memory."""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

Column = tuple[str, str]


def not_watched(path: Path, triggers: Sequence[str], query: Callable[[Any], object]) -> tuple[set[str], set[Column]]:
    """Return the tables that a query reads, by what SQLite asks leave for, and the columns whose update no trigger notices.
    ``query`` gets a reader and has to find a row. Raises AssertionError where the deletion of a row is not noticed.
    """
    read: set[Column] = set()
    connection = sqlite3.connect(path)
    connection.row_factory = sqlite3.Row
    tables = {str(name) for (name,) in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}

    def note(action: int, table: str | None, column: str | None, *_: str | None) -> int:
        if action == sqlite3.SQLITE_READ and table in tables and column:
            read.add((str(table), column))
        return sqlite3.SQLITE_OK

    class Noting:
        def first(self, kind: Any, sql: str, params: Any) -> Any:
            return kind(**dict(connection.execute(sql, params).fetchone()))

    connection.set_authorizer(note)
    assert query(Noting()) is not None
    connection.close()
    together = "; ".join(triggers)
    found = {table for table, _ in read}
    assert all(f"DELETE ON {table}" in together for table in found)
    updates = re.findall(r"UPDATE(?: OF ([\w, ]+))? ON (\w+)", together)
    whole = {table for columns, table in updates if not columns}
    single = {(table, column) for columns, table in updates for column in columns.split(", ")}
    return found, {(table, column) for table, column in read - single if table not in whole}
