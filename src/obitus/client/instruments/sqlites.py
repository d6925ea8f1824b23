"""sqlite3: its connections get cursors whose statements become breadcrumbs.

Not in ``databases``, which other instruments need while sqlite3 is still being imported.
"""

from __future__ import annotations

import sqlite3
from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client import state
from obitus.client.instruments.databases import tell
from obitus.client.log import is_ours
from obitus.client.patches import Patches

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter

_cursor = sqlite3.Connection.cursor
_execute = sqlite3.Cursor.execute
_executemany = sqlite3.Cursor.executemany
_executescript = sqlite3.Cursor.executescript
_is_inside = state.in_statement.get


class SqliteCursor(sqlite3.Cursor):
    """A cursor of sqlite3 whose statements become breadcrumbs."""

    def execute(self, statement: str, *args: Any) -> Any:
        reporter = state.active
        if reporter is None or _is_inside():
            return _execute(self, statement, *args)
        started_s = reporter.timer()
        try:
            answer = _execute(self, statement, *args)
        except Exception as error:
            tell(reporter, statement, started_s, system="sqlite", error=error)
            raise
        tell(reporter, statement, started_s, system="sqlite", rows=self.rowcount)
        return answer

    def executemany(self, statement: str, parameters: Any) -> Any:
        reporter = state.active
        if reporter is None or _is_inside():
            return _executemany(self, statement, parameters)
        started_s = reporter.timer()
        times = len(parameters) if hasattr(parameters, "__len__") else None
        try:
            answer = _executemany(self, statement, parameters)
        except Exception as error:
            tell(reporter, statement, started_s, system="sqlite", times=times, error=error)
            raise
        tell(reporter, statement, started_s, system="sqlite", rows=self.rowcount, times=times)
        return answer

    def executescript(self, script: str) -> Any:
        reporter = state.active
        if reporter is None or _is_inside():
            return _executescript(self, script)
        started_s = reporter.timer()
        try:
            answer = _executescript(self, script)
        except Exception as error:
            tell(reporter, script, started_s, system="sqlite", error=error)
            raise
        tell(reporter, script, started_s, system="sqlite")
        return answer


class SqliteConnection(sqlite3.Connection):
    """A connection of sqlite3 whose statements become breadcrumbs."""

    def cursor(self, factory: Any = SqliteCursor) -> Any:
        return _cursor(self, factory)

    def execute(self, statement: str, *args: Any) -> Any:
        return _cursor(self, SqliteCursor).execute(statement, *args)

    def executemany(self, statement: str, parameters: Any) -> Any:
        return _cursor(self, SqliteCursor).executemany(statement, parameters)

    def executescript(self, script: str) -> Any:
        return _cursor(self, SqliteCursor).executescript(script)


def install(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Make ``sqlite3.connect`` return watched connections, unless the caller passes a factory."""

    def make(before: Any) -> Any:
        def connect(database: Any, *args: Any, **options: Any) -> Any:
            if not is_ours() and len(args) < 5:
                options.setdefault("factory", SqliteConnection)
            return before(database, *args, **options)

        return connect

    patches.put(sqlite3, "connect", make)
    patches.put(sqlite3.dbapi2, "connect", make)
