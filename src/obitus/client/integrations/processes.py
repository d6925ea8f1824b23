"""multiprocessing: children that are forked or started anew report what they die of, and send it before they go."""

from __future__ import annotations

import dataclasses
import pickle
from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client.patches import Patches
from obitus.client.settings import Settings

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter

_PASSENGER = "_obitus"
LAST_WORDS_S = 2.0


class _Passenger:
    """Travels with a process object into a child that starts anew, and begins to report there."""

    def __init__(self, settings: Settings) -> None:
        self._settings = settings

    def __reduce__(self) -> Any:
        settings = self._settings
        try:
            pickle.dumps(settings)
        except Exception:
            # A function that only exists in the parent cannot come along: the team's edit is left behind, and
            # what it would have changed must not go out unchanged.
            settings = dataclasses.replace(settings, off=True, edit=None)
        return _begin_in_child, (settings,)


def _begin_in_child(settings: Settings) -> None:
    import obitus
    from obitus.client.reporter import Reporter

    if not settings.off and obitus._reporter() is None:
        obitus._use(Reporter(settings))


def install(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch ``multiprocessing.Process``, however its children come to be."""

    def starting(before: Any) -> Any:
        def start(process: Any) -> None:
            process.__dict__[_PASSENGER] = _Passenger(reporter.settings)
            try:
                before(process)
            finally:
                process.__dict__.pop(_PASSENGER, None)

        return start

    def living(before: Any) -> Any:
        def _bootstrap(process: Any, *args: Any, **kwargs: Any) -> Any:
            inner = process.run

            def run() -> None:
                try:
                    inner()
                except Exception as error:
                    attributes = {"process.name": process.name}
                    reporter.record(
                        error, handled=False, captured_by="process", severity="FATAL", attributes=attributes
                    )
                    raise

            process.run = run
            try:
                return before(process, *args, **kwargs)
            finally:
                # A forked child leaves without running exit handlers.
                reporter.last_words(LAST_WORDS_S)

        return _bootstrap

    patches.put(module.BaseProcess, "start", starting)
    patches.put(module.BaseProcess, "_bootstrap", living)
