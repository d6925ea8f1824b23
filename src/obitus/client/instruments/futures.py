"""Pools: work belongs to the run that submitted it, and an exception that nobody retrieves is reported."""

from __future__ import annotations

from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client import runs
from obitus.client.guard import without_ours
from obitus.client.patches import Patches

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter

_HELD = "_obitus_unasked"


class _Unasked:
    """Is freed with its future; an exception that nobody retrieved by then is reported."""

    __slots__ = ("asked", "error", "reporter", "run")

    def __init__(self, reporter: Reporter, error: BaseException) -> None:
        self.reporter, self.error, self.asked = reporter, error, False
        self.run = runs.current.get()

    def __del__(self) -> None:
        if not self.asked:
            self.reporter.failures.record(self.error, handled=False, captured_by="pool", run=self.run)


def install_futures(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch ``concurrent.futures.Future``, whatever pool fills it."""

    def setting(before: Any) -> Any:
        def set_exception(future: Any, exception: BaseException | None) -> None:
            if isinstance(exception, Exception):
                without_ours(exception, exception.__traceback__)
                future.__dict__[_HELD] = _Unasked(reporter, exception)
            before(future, exception)

        return set_exception

    def asking(before: Any) -> Any:
        def ask(future: Any, timeout: float | None = None) -> Any:
            try:
                return before(future, timeout)
            finally:
                failure = future.__dict__.get(_HELD)
                if failure is not None:
                    failure.asked = True

        return ask

    patches.put(module.Future, "set_exception", setting)
    patches.put(module.Future, "result", asking)
    patches.put(module.Future, "exception", asking)


def install_thread_pools(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Make work in a thread pool belong to the run that submitted it."""

    def make(before: Any) -> Any:
        def submit(pool: Any, function: Any, /, *args: Any, **kwargs: Any) -> Any:
            run = runs.current.get()
            if run is None:
                return before(pool, function, *args, **kwargs)
            return before(pool, _inside, run, function, *args, **kwargs)

        return submit

    patches.put(module.ThreadPoolExecutor, "submit", make)


def install_process_pools(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch the results of ``multiprocessing.Pool``: an exception that nobody retrieves is reported."""

    def setting(before: Any) -> Any:
        def _set(result: Any, place: Any, outcome: Any) -> None:
            good, value = outcome
            if not good and isinstance(value, Exception) and getattr(result, "_error_callback", None) is None:
                result.__dict__[_HELD] = _Unasked(reporter, value)
            before(result, place, outcome)

        return _set

    def asking(before: Any) -> Any:
        def get(result: Any, timeout: Any = None) -> Any:
            try:
                return before(result, timeout)
            finally:
                failure = result.__dict__.get(_HELD)
                if failure is not None:
                    failure.asked = True

        return get

    patches.put(module.ApplyResult, "_set", setting)
    patches.put(module.ApplyResult, "get", asking)
    patches.put(module.MapResult, "_set", setting)


def _inside(run: runs.RunState, function: Any, /, *args: Any, **kwargs: Any) -> Any:
    token = runs.current.set(run)
    try:
        return function(*args, **kwargs)
    finally:
        runs.current.reset(token)
