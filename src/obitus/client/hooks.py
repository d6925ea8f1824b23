"""The places where Python hands over uncaught exceptions. Hooks that were there before still run."""

from __future__ import annotations

import faulthandler
import logging
import os
import sys
import threading
from collections.abc import Callable, Iterator
from types import FrameType, ModuleType, TracebackType
from typing import Any, Protocol

from obitus.client.failures import Failures
from obitus.client.guard import guarded, without_ours
from obitus.client.imports import AfterImport
from obitus.client.instrument_table import TABLE
from obitus.client.log_orders import LogOrders
from obitus.client.log_records import watch_logging
from obitus.client.open_runs import OpenRuns
from obitus.client.patches import Patches
from obitus.client.settings import Settings
from obitus.client.threads import watch_threads
from obitus.core.bounds import kept, short

Install = Callable[[str, Patches, ModuleType], None]
"""Lets the function at a place (``module:function``) watch a library that was just loaded."""


class Ending(Protocol):
    """Called with how the process ends."""

    def give_up_crashes(self) -> None: ...

    def before_hard_exit(self) -> None: ...

    def begin_again(self) -> None: ...


class _Leaving:
    """An object put into the frame that raised a SystemExit, where an exit with a status other than 0 counts as a
    failure. The interpreter calls no hook for an exit. But when it drops the exception, and with it this frame, no
    outer frame is left; code that catches the exception and continues still has one.
    """

    def __init__(self, status: Any, failures: Failures, frame: FrameType) -> None:
        self._status = status
        self._failures = failures
        self._frames = failures.stack(frame)

    def __del__(self) -> None:
        if sys._getframe().f_back is None:
            status = self._status
            message = f"exit status {status}" if isinstance(status, int) else kept(str(status))
            self._failures.record_exit(message, self._frames)


class Hooks:
    """Puts the hooks in place, and takes them away again."""

    def __init__(
        self,
        settings: Settings,
        failures: Failures,
        open_runs: OpenRuns,
        orders: LogOrders,
        ending: Ending,
        install: Install,
    ) -> None:
        self._settings, self._failures, self._runs, self._ending = settings, failures, open_runs, ending
        self._orders = orders
        self._install_at = install
        self._patches = Patches()
        self._imports = AfterImport({name: self._installer(place) for name, place in TABLE.items()})

    def install(self) -> None:
        """Put the hooks in place."""
        for owner, name, make in self._last_hooks():
            self._patches.put(owner, name, make)
        if self._settings.exits:
            self._patches.put(sys, "exit", self._exit)
        watch_logging(self._settings, self._failures, self._runs, self._orders, self._patches, logging.Logger)
        watch_threads(self._patches, self.stand_in_front)
        for name in ("enable", "disable"):
            self._patches.put(faulthandler, name, self._taking_over)
        for name in ("_exit", "execv", "execve"):
            if hasattr(os, name):
                self._patches.put(os, name, self._ending_hard)
        self._imports.begin()

    def stand_in_front(self) -> None:
        """Put our hook in front again where something replaced it meanwhile, such as a library that prints
        tracebacks in its own way."""
        for owner, name, make in self._last_hooks():
            if not self._patches.is_on_top(owner, name):
                self._patches.put(owner, name, make)

    def see_the_end(self) -> None:
        """At the end of the interpreter: report the exception that ended it, also where no hook was called."""
        error = getattr(sys, "last_exc", None) or getattr(sys, "last_value", None)
        if isinstance(error, BaseException) and not isinstance(error, KeyboardInterrupt | SystemExit):
            self._failures.record_end(error)

    def remove(self) -> None:
        """Remove the hooks that are still ours; one that another library put on top of ours stays."""
        self._imports.end()
        self._orders.learn_from({})
        self._patches.remove()

    def _installer(self, place: str) -> Any:
        def install(module: ModuleType) -> None:
            self._install_at(place, self._patches, module)

        return install

    def _last_hooks(self) -> Iterator[tuple[ModuleType, str, Any]]:
        yield sys, "excepthook", self._main
        yield sys, "unraisablehook", self._unraisable
        yield threading, "excepthook", self._thread

    def _main(self, before: Any) -> Any:
        failures = self._failures

        def excepthook(kind: type[BaseException], error: BaseException, traceback: TracebackType | None) -> None:
            if not issubclass(kind, KeyboardInterrupt | SystemExit):
                failures.record_end(error)
            before(kind, error, without_ours(error, traceback))

        return excepthook

    def _taking_over(self, before: Any) -> Any:
        ending = self._ending

        def act(*args: Any, **options: Any) -> Any:
            answer = before(*args, **options)
            ending.give_up_crashes()
            return answer

        return act

    def _ending_hard(self, before: Any) -> Any:
        ending = self._ending

        def end(*args: Any, **options: Any) -> Any:
            try:
                ending.before_hard_exit()
            finally:
                # The call returns only where the program cannot be started.
                try:
                    before(*args, **options)
                finally:
                    ending.begin_again()

        return end

    def _exit(self, before: Any) -> Any:
        failures = self._failures

        def exit(status: Any = None, /) -> Any:
            if status not in (None, 0) and threading.current_thread() is threading.main_thread():
                leaving = guarded(_Leaving)(status, failures, sys._getframe(1))  # noqa: F841 - lives as long as this frame
            before(status)

        return exit

    def _thread(self, before: Any) -> Any:
        failures = self._failures

        def excepthook(args: threading.ExceptHookArgs) -> None:
            if args.exc_value is not None and not issubclass(args.exc_type, SystemExit):
                attributes = {"thread.name": args.thread.name} if args.thread is not None else {}
                failures.record(args.exc_value, handled=False, captured_by="thread", attributes=attributes)
                without_ours(args.exc_value, args.exc_traceback)
            before(args)

        return excepthook

    def _unraisable(self, before: Any) -> Any:
        failures = self._failures

        def unraisablehook(args: Any) -> None:
            # Finalizers, callbacks of weak references, exit handlers: nobody can catch their exceptions.
            if args.exc_value is not None and not issubclass(args.exc_type, KeyboardInterrupt | SystemExit):
                met_in = (
                    type(args.object).__name__
                    if not callable(args.object)
                    else getattr(args.object, "__qualname__", "?")
                )
                attributes = {"code.function.name": short(str(met_in)), "python.said": short(str(args.err_msg or ""))}
                failures.record(args.exc_value, handled=False, captured_by="unraisable", attributes=attributes)
            before(args)

        return unraisablehook
