"""multiprocessing: forked and spawned children report the exception that ends them before they exit."""

from __future__ import annotations

import dataclasses
import pickle
import sys
from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client import state
from obitus.client.active import active_reporter, use
from obitus.client.patches import Patches
from obitus.client.settings import Settings

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter

_PASSENGER = "_obitus"


class _Passenger:
    """Is pickled with a process object into a spawned child, and starts reporting there."""

    def __init__(self, settings: Settings, family: str) -> None:
        self._settings = settings
        self._family = family

    def __reduce__(self) -> Any:
        settings = self._settings
        try:
            pickle.dumps(settings)
        except Exception:
            # A function that only exists in the parent cannot be pickled: without the team's edit,
            # nothing may be sent.
            settings = dataclasses.replace(settings, off=True, edit=None)
        return _begin_in_child, (settings, self._family)


def _begin_in_child(settings: Settings, family: str) -> None:
    from obitus.client.reporter import Reporter

    if not settings.off and active_reporter() is None:
        use(Reporter(settings, family=family))


def install(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch ``multiprocessing.Process``, whatever its start method."""

    from importlib import import_module

    util = import_module(module.__name__.rpartition(".")[0] + ".util")

    def starting(before: Any) -> Any:
        def start(process: Any) -> None:
            process.__dict__[_PASSENGER] = _Passenger(reporter.settings, reporter.base.family)
            try:
                before(process)
            finally:
                process.__dict__.pop(_PASSENGER, None)
                reporter.life.started_a_child()

        return start

    def living(before: Any) -> Any:
        def _bootstrap(process: Any, *args: Any, **kwargs: Any) -> Any:
            state.living.append(process)
            try:
                return before(process, *args, **kwargs)
            finally:
                # A forked child leaves without running exit handlers.
                reporter.life.last_words()

        return _bootstrap

    def ending(before: Any) -> Any:
        def _exit_function(*args: Any, **kwargs: Any) -> Any:
            # Called while the exception that ends the process is still being raised.
            error = sys.exc_info()[1]
            if state.living and error is not None and not isinstance(error, SystemExit | KeyboardInterrupt):
                attributes = {"process.name": state.living[-1].name}
                reporter.failures.record(
                    error, handled=False, captured_by="process", severity="FATAL", attributes=attributes
                )
            return before(*args, **kwargs)

        return _exit_function

    patches.put(module.BaseProcess, "start", starting)
    patches.put(module.BaseProcess, "_bootstrap", living)
    patches.put(util, "_exit_function", ending)
