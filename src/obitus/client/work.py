"""``obitus.run``: a unit of work as a ``with`` block or a decorator."""

from __future__ import annotations

import functools
import inspect
from collections.abc import AsyncIterator, Callable, Iterator, Mapping
from contextlib import ContextDecorator
from types import TracebackType
from typing import TYPE_CHECKING, Any, TypeVar, cast

from obitus.client import runs

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter

_Function = TypeVar("_Function", bound=Callable[..., Any])


class Run(ContextDecorator):
    """A unit of work: ``with obitus.run("job nightly-manifest"):`` or the same as a decorator of a function."""

    def __init__(
        self, entry_point: str, attributes: Mapping[str, Any], reporter: Callable[[], Reporter | None]
    ) -> None:
        self._entry_point = entry_point
        self._attributes = attributes
        self._reporter = reporter
        self._open: list[tuple[Reporter, runs.RunState, Any]] = []

    def _recreate_cm(self) -> Run:
        # Each call of a decorated function is a run of its own.
        return Run(self._entry_point, self._attributes, self._reporter)

    def __call__(self, function: _Function) -> _Function:
        """Make each call of ``function`` a run; that of a coroutine function or generator lasts until it is done."""
        if inspect.iscoroutinefunction(function):

            @functools.wraps(function)
            async def awaited(*args: Any, **kwargs: Any) -> Any:
                with self._recreate_cm():
                    return await function(*args, **kwargs)

            return cast("_Function", awaited)
        if inspect.isasyncgenfunction(function):

            @functools.wraps(function)
            async def streamed(*args: Any, **kwargs: Any) -> AsyncIterator[Any]:
                with self._recreate_cm():
                    async for item in function(*args, **kwargs):
                        yield item

            return cast("_Function", streamed)
        if inspect.isgeneratorfunction(function):

            @functools.wraps(function)
            def yielded(*args: Any, **kwargs: Any) -> Iterator[Any]:
                with self._recreate_cm():
                    yield from function(*args, **kwargs)

            return cast("_Function", yielded)
        return super().__call__(function)

    def __enter__(self) -> None:
        reporter = self._reporter()
        if reporter is None:
            return
        run = reporter.new_run(self._entry_point)
        self._open.append((reporter, run, runs.current.set(run)))
        if self._attributes:
            reporter.attach(self._attributes)

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, traceback: TracebackType | None
    ) -> None:
        if not self._open:
            return
        reporter, run, token = self._open.pop()
        outcome = "ok"
        if isinstance(error, Exception):
            outcome = run.outcome = "failed"
            reporter.record(error, handled=False, captured_by="run", run=run)
        elif isinstance(error, SystemExit):
            outcome = "ok" if error.code in (None, 0) else "failed"
            if outcome == "failed" and reporter.settings.exits:
                run.outcome = outcome
                reporter.record(error, handled=False, captured_by="run", run=run)
        elif isinstance(error, KeyboardInterrupt) or type(error).__name__ == "CancelledError":
            outcome = "refused"
        runs.leave(token)
        reporter.finish(run, outcome)
