"""The places where Python hands over what nobody caught. Hooks that were there before still run."""

from __future__ import annotations

import logging
import sys
import threading
from types import FrameType, ModuleType, TracebackType
from typing import TYPE_CHECKING, Any, NoReturn

from obitus.client.imports import AfterImport
from obitus.client.integrations import TABLE
from obitus.client.log_records import watch_logging
from obitus.client.patches import Patches
from obitus.client.threads import watch_threads

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter


class _Leaving(SystemExit):
    """What ``sys.exit`` raises with a status other than 0, where that counts as a failure.

    The interpreter hands an exit to no hook. But when it has let go of this one, no frame is left below it; whoever
    catches it and goes on still has one.
    """

    def __init__(self, status: Any, reporter: Reporter, frame: FrameType) -> None:
        super().__init__(status)
        self._reporter = reporter
        self._frames = reporter.stack(frame)

    def __del__(self) -> None:
        if sys._getframe().f_back is None and not self._reporter.knows(self):
            message = f"exit status {self.code}" if isinstance(self.code, int) else str(self.code)[:8000]
            self._reporter.record_exit(message, self._frames)


class Hooks:
    """Puts the hooks in place for one reporter, and takes them away again."""

    def __init__(self, reporter: Reporter) -> None:
        self._reporter = reporter
        self._patches = Patches()
        self._imports = AfterImport({name: self._installer(place) for name, place in TABLE.items()})

    def install(self) -> None:
        """Put the hooks in place."""
        self._patches.put(sys, "excepthook", self._main)
        self._patches.put(sys, "unraisablehook", self._unraisable)
        self._patches.put(threading, "excepthook", self._thread)
        if self._reporter.settings.exits:
            self._patches.put(sys, "exit", self._exit)
        watch_logging(self._reporter, self._patches, logging.Logger)
        watch_threads(self._patches)
        self._imports.begin()

    def remove(self) -> None:
        """Take away the hooks that are still ours; one that another library put on top of ours stays."""
        self._imports.end()
        self._patches.remove()

    def _installer(self, place: str) -> Any:
        def install(module: ModuleType) -> None:
            from importlib import import_module

            name, _, function = place.partition(":")
            getattr(import_module(name), function)(self._reporter, self._patches, module)

        return install

    def _main(self, before: Any) -> Any:
        reporter = self._reporter

        def excepthook(kind: type[BaseException], error: BaseException, traceback: TracebackType | None) -> None:
            if not issubclass(kind, KeyboardInterrupt | SystemExit):
                reporter.record_end(error)
            before(kind, error, traceback)

        return excepthook

    def _exit(self, before: Any) -> Any:
        reporter = self._reporter

        def exit(status: Any = None, /) -> NoReturn:
            if status in (None, 0) or threading.current_thread() is not threading.main_thread():
                before(status)
            raise _Leaving(status, reporter, sys._getframe(1))

        return exit

    def _thread(self, before: Any) -> Any:
        reporter = self._reporter

        def excepthook(args: threading.ExceptHookArgs) -> None:
            if args.exc_value is not None and not issubclass(args.exc_type, SystemExit):
                attributes = {"thread.name": args.thread.name} if args.thread is not None else {}
                reporter.record(args.exc_value, handled=False, captured_by="thread", attributes=attributes)
            before(args)

        return excepthook

    def _unraisable(self, before: Any) -> Any:
        reporter = self._reporter

        def unraisablehook(args: Any) -> None:
            # Finalizers, callbacks of weak references, exit handlers: places that nobody can catch anything from.
            if args.exc_value is not None and not issubclass(args.exc_type, KeyboardInterrupt | SystemExit):
                met_in = (
                    type(args.object).__name__
                    if not callable(args.object)
                    else getattr(args.object, "__qualname__", "?")
                )
                attributes = {"code.function.name": str(met_in)[:300], "python.said": str(args.err_msg or "")[:300]}
                reporter.record(args.exc_value, handled=False, captured_by="unraisable", attributes=attributes)
            before(args)

        return unraisablehook
