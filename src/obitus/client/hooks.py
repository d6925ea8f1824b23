"""The places where Python hands over what nobody caught. Hooks that were there before still run."""

from __future__ import annotations

import logging
import sys
import threading
from types import TracebackType
from typing import TYPE_CHECKING, Any

from obitus.client.sender import sending
from obitus.core.severity import from_python_level

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter


class Hooks:
    """Puts the hooks in place for one reporter, and takes them away again."""

    def __init__(self, reporter: Reporter) -> None:
        self._reporter = reporter
        self._main_before: Any = None
        self._thread_before: Any = None
        self._handle_before: Any = None

    def install(self) -> None:
        """Put the hooks in place."""
        self._main_before, sys.excepthook = sys.excepthook, self._main
        self._thread_before, threading.excepthook = threading.excepthook, self._thread
        # Logger.handle sees every record that passed its logger's level. A handler on the root logger would make a
        # later logging.basicConfig() of the app do nothing.
        self._handle_before = before = logging.Logger.handle
        reporter = self._reporter

        def handle(logger: logging.Logger, record: logging.LogRecord) -> None:
            _log_breadcrumb(reporter, record)
            before(logger, record)

        self._handle = handle
        logging.Logger.handle = handle  # type: ignore[method-assign,assignment]

    def remove(self) -> None:
        """Take away the hooks that are still ours; one that another library put on top of ours stays."""
        if sys.excepthook == self._main:
            sys.excepthook = self._main_before
        if threading.excepthook == self._thread:
            threading.excepthook = self._thread_before
        if logging.Logger.handle is self._handle:
            logging.Logger.handle = self._handle_before  # type: ignore[method-assign]

    def _main(self, kind: type[BaseException], error: BaseException, traceback: TracebackType | None) -> None:
        if not issubclass(kind, KeyboardInterrupt | SystemExit):
            self._reporter.record(error, handled=False, captured_by="main thread", severity="FATAL")
        self._main_before(kind, error, traceback)

    def _thread(self, args: threading.ExceptHookArgs) -> None:
        if args.exc_value is not None and not issubclass(args.exc_type, SystemExit):
            attributes = {"thread.name": args.thread.name} if args.thread is not None else {}
            self._reporter.record(args.exc_value, handled=False, captured_by="thread", attributes=attributes)
        self._thread_before(args)


def _log_breadcrumb(reporter: Reporter, record: logging.LogRecord) -> None:
    try:
        if record.levelno < logging.INFO or record.name == "obitus" or getattr(sending, "now", False):
            return
        data: dict[str, Any] = {
            "logger": record.name,
            "code.file.path": record.pathname,
            "code.line.number": record.lineno,
            "code.function.name": record.funcName or "",
        }
        reporter.breadcrumb("log", record.getMessage(), from_python_level(record.levelno), data)
    except Exception:
        # A message whose arguments do not fit is the app's to complain about, not ours.
        return
