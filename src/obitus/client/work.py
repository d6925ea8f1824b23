"""``obitus.run``: a unit of work as a ``with`` block or a decorator."""

from __future__ import annotations

import functools
from collections.abc import AsyncGenerator, Callable, Generator, Mapping
from contextlib import ContextDecorator
from types import TracebackType
from typing import TYPE_CHECKING, Any, TypeVar, cast

from obitus.client.scope import RunScope

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
        self._open: list[RunScope] = []

    def _recreate_cm(self) -> Run:
        # Each call of a decorated function is a run of its own.
        return Run(self._entry_point, self._attributes, self._reporter)

    def __call__(self, function: _Function) -> _Function:
        """Make each call of ``function`` a run; that of a coroutine function or generator lasts until it is done."""
        import inspect  # it takes long to load, and most programs decorate nothing

        if inspect.iscoroutinefunction(function):

            @functools.wraps(function)
            async def awaited(*args: Any, **kwargs: Any) -> Any:
                with self._recreate_cm():
                    return await function(*args, **kwargs)

            return cast("_Function", awaited)
        if inspect.isasyncgenfunction(function):

            @functools.wraps(function)
            async def streamed(*args: Any, **kwargs: Any) -> AsyncGenerator[Any, Any]:
                run = self._recreate_cm()
                inner = function(*args, **kwargs)
                run.begin()
                step = inner.__anext__
                arguments: tuple[Any, ...] = ()
                while True:
                    try:
                        with run.inside():
                            item = await step(*arguments)
                    except StopAsyncIteration:
                        run.end(None)
                        return
                    except BaseException as error:
                        run.end(error)
                        raise
                    try:
                        step, arguments = inner.asend, ((yield item),)
                    except GeneratorExit:
                        with run.inside():
                            await inner.aclose()
                        run.end(None)
                        raise
                    except BaseException as error:
                        step, arguments = inner.athrow, (error,)

            return cast("_Function", streamed)
        if inspect.isgeneratorfunction(function):

            @functools.wraps(function)
            def yielded(*args: Any, **kwargs: Any) -> Generator[Any, Any, Any]:
                run = self._recreate_cm()
                inner = function(*args, **kwargs)
                run.begin()
                step = inner.__next__
                arguments: tuple[Any, ...] = ()
                while True:
                    try:
                        with run.inside():
                            item = step(*arguments)
                    except StopIteration as end:
                        run.end(None)
                        return end.value
                    except BaseException as error:
                        run.end(error)
                        raise
                    try:
                        step, arguments = inner.send, ((yield item),)
                    except GeneratorExit:
                        with run.inside():
                            inner.close()
                        run.end(None)
                        raise
                    except BaseException as error:
                        step, arguments = inner.throw, (error,)

            return cast("_Function", yielded)
        return super().__call__(function)

    def __enter__(self) -> None:
        reporter = self._reporter()
        if reporter is None:
            return
        self._open.append(RunScope(reporter, self._entry_point, "run"))
        if self._attributes:
            reporter.runs.attach(self._attributes)

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, traceback: TracebackType | None
    ) -> None:
        if self._open:
            scope = self._open.pop()
            scope.finish("ok" if error is None else _outcome(scope, error))

    def begin(self) -> None:
        """Start the run of a generator: it is the current one only while the generator's own code runs."""
        self.__enter__()
        if self._open:
            self._open[-1].leave()

    def inside(self) -> _Inside:
        """Inside this block the run that began is the current one."""
        return _Inside(self._open[-1] if self._open else None)

    def end(self, error: BaseException | None) -> None:
        """End the run of a generator."""
        if self._open:
            self._open[-1].enter()
            self.__exit__(None if error is None else type(error), error, None)


class _Inside:
    __slots__ = ("_scope",)

    def __init__(self, scope: RunScope | None) -> None:
        self._scope = scope

    def __enter__(self) -> None:
        if self._scope is not None:
            self._scope.enter()

    def __exit__(self, *details: object) -> None:
        if self._scope is not None:
            self._scope.leave()


def _outcome(scope: RunScope, error: BaseException) -> str:
    """Return how a block ended that an exception left. Leaving with a status is a failure to report only where the app said so."""
    if not isinstance(error, SystemExit):
        return scope.ended_by(error)
    if error.code in (None, 0):
        return "ok"
    if scope.reporter.settings.exits:
        scope.record(error)
    return "failed"
