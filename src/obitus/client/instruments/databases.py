"""Database statements through the DB-API (PEP 249): their shape without values, how long they took, how many rows."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from obitus.client import state
from obitus.client.active import active_reporter
from obitus.client.log import is_ours
from obitus.core.statements import shape, verb

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter

SLOW_MS = 1000


@contextmanager
def quiet() -> Iterator[None]:
    """Inside this block statements leave no breadcrumbs."""
    token = state.in_statement.set(True)
    try:
        yield
    finally:
        state.in_statement.reset(token)


def tell(
    reporter: Reporter,
    statement: Any,
    started_s: float,
    *,
    system: str = "",
    rows: Any = None,
    times: int | None = None,
    error: BaseException | None = None,
) -> None:
    """Leave the breadcrumb of one statement. Its text is parsed only when it is needed."""
    if is_ours() or "statement" in reporter.settings.leave_out:
        return
    took_ms = (reporter.timer() - started_s) * 1000
    severity = "ERROR" if error is not None else "WARN" if took_ms >= SLOW_MS else "INFO"
    failed_with = None if error is None else type(error).__qualname__
    reporter.runs.step("statement", severity, (_written, statement, took_ms, system, rows, times, failed_with))


def _written(
    statement: Any, took_ms: float, system: str, rows: Any, times: int | None, failed_with: str | None
) -> tuple[str, dict[str, Any]]:
    text, word = _shape(statement) if type(statement) is str else ("?", "")
    took_ms = round(took_ms, 2)
    data: dict[str, Any] = {"db.query.text": text, "duration_ms": took_ms}
    if system:
        data["db.system.name"] = system
    if type(rows) is int and rows >= 0:
        data["db.response.returned_rows"] = rows
    if times is not None:
        data["db.operation.batch.size"] = times
    if failed_with is not None:
        data["exception.type"] = failed_with
    return f"{word} {'failed' if failed_with is not None else f'in {took_ms} ms'}", data


@lru_cache(512)
def _shape(statement: str) -> tuple[str, str]:
    text = shape(statement)
    return text, verb(text)


def _measured(reporter: Reporter, system: str, statement: Any, act: Any, cursor: Any, times: int | None) -> Any:
    if state.in_statement.get():
        return act()
    started_s = reporter.timer()
    try:
        answer = act()
    except Exception as error:
        tell(reporter, statement, started_s, system=system, times=times, error=error)
        raise
    tell(reporter, statement, started_s, system=system, rows=getattr(cursor, "rowcount", None), times=times)
    return answer


def _many(parameters: Any) -> int | None:
    return len(parameters) if hasattr(parameters, "__len__") else None


class _Around:
    """Wraps an object of a driver; all that is not watched goes straight to it."""

    def __init__(self, inner: Any, system: str) -> None:
        self._obitus = (inner, system)

    def __getattr__(self, name: str) -> Any:
        return getattr(self.__dict__["_obitus"][0], name)

    def __setattr__(self, name: str, value: Any) -> None:
        if name == "_obitus":
            object.__setattr__(self, name, value)
        else:
            setattr(self._obitus[0], name, value)

    def __enter__(self) -> Any:
        entered = self._obitus[0].__enter__()
        return self if entered is self._obitus[0] else entered

    def __exit__(self, *details: Any) -> Any:
        return self._obitus[0].__exit__(*details)


class WatchedCursor(_Around):
    """A cursor of any driver; what it is asked to execute leaves a breadcrumb."""

    def __iter__(self) -> Iterator[Any]:
        return iter(self._obitus[0])

    def execute(self, statement: Any, *args: Any, **options: Any) -> Any:
        return self._do("execute", statement, args, options, None)

    def executemany(self, statement: Any, parameters: Any, *args: Any, **options: Any) -> Any:
        return self._do("executemany", statement, (parameters, *args), options, _many(parameters))

    def _do(self, name: str, statement: Any, args: Any, options: Any, times: int | None) -> Any:
        cursor, system = self._obitus

        def act() -> Any:
            return getattr(cursor, name)(statement, *args, **options)

        reporter = _reporter()
        answer = act() if reporter is None else _measured(reporter, system, statement, act, cursor, times)
        return self if answer is cursor else answer


class WatchedConnection(_Around):
    """A connection of any driver whose cursors are watched."""

    def cursor(self, *args: Any, **options: Any) -> WatchedCursor:
        connection, system = self._obitus
        return WatchedCursor(connection.cursor(*args, **options), system)

    def execute(self, statement: Any, *args: Any, **options: Any) -> Any:
        # Not in the DB-API, but several drivers have it.
        return self.cursor().execute(statement, *args, **options)


def watched(connection: Any) -> Any:
    """Return a DB-API connection (PEP 249) whose statements become breadcrumbs; use it in place of the one given."""
    if isinstance(connection, WatchedConnection):
        return connection
    return WatchedConnection(connection, type(connection).__module__.split(".")[0])


def _reporter() -> Reporter | None:
    return active_reporter()
