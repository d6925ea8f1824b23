"""SQLAlchemy: its own events tell of each statement."""

from __future__ import annotations

from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client import state
from obitus.client.active import active_reporter
from obitus.client.exception_origin import is_the_apps
from obitus.client.instruments.databases import tell
from obitus.client.patches import Patches

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter

_STARTED = "obitus_started"


def install(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Listen to all engines. The instrument of the driver is silent meanwhile: it would repeat each statement."""
    from sqlalchemy import event  # the app has imported it, so it is loaded already

    def before(connection: Any, cursor: Any, statement: Any, parameters: Any, context: Any, executemany: bool) -> None:
        connection.info.setdefault(_STARTED, []).append((reporter.timer(), state.in_statement.set(True)))

    def after(connection: Any, cursor: Any, statement: Any, parameters: Any, context: Any, executemany: bool) -> None:
        started_s = _take(connection)
        if started_s is not None and _wanted():
            times = len(parameters) if executemany and hasattr(parameters, "__len__") else None
            rows = getattr(cursor, "rowcount", None)
            tell(reporter, statement, started_s, system=connection.dialect.name, rows=rows, times=times)

    def failed(context: Any) -> None:
        connection = context.connection
        started_s = _take(connection) if connection is not None else None
        if started_s is not None and _wanted():
            error = context.original_exception
            tell(reporter, context.statement, started_s, system=connection.dialect.name, error=error)

    def _wanted() -> bool:
        return active_reporter() is reporter

    listeners = (("before_cursor_execute", before), ("after_cursor_execute", after), ("handle_error", failed))
    for name, listener in listeners:
        event.listen(module.engine.Engine, name, listener)


def _take(connection: Any) -> float | None:
    started = connection.info.get(_STARTED)
    if not started:
        return None
    started_s, token = started.pop()
    try:
        state.in_statement.reset(token)
    except ValueError as interrupted:
        if is_the_apps(interrupted):
            raise
        state.in_statement.set(False)
    return float(started_s)
