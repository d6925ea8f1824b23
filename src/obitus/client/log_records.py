"""Log records: breadcrumbs, log reports, and failures where an exception is logged. By logger name and severity."""

from __future__ import annotations

import logging
from typing import TYPE_CHECKING, Any, Final

from obitus.client.guard import is_the_apps
from obitus.client.log import is_ours
from obitus.client.patches import Patches
from obitus.client.values import plain
from obitus.core.severity import Thresholds, from_python_level

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter

MOST_ARGUMENTS: Final = 20
MOST_EXTRA: Final = 40

# Everything that a record has without anybody's ``extra``.
_STANDARD: Final = frozenset(vars(logging.makeLogRecord({}))) | {"message", "asctime", "taskName"}


def watch_logging(reporter: Reporter, patches: Patches, logger_class: type[logging.Logger]) -> None:
    """See every record that passed its logger's level and filters.

    Not a handler on the root logger: that would make a later ``logging.basicConfig()`` of the app do nothing.
    """
    records = _Records(reporter)

    def make(before: Any) -> Any:
        def callHandlers(logger: logging.Logger, record: logging.LogRecord) -> None:
            if not is_ours():
                records.see(record)
            before(logger, record)

        return callHandlers

    patches.put(logger_class, "callHandlers", make)


class _Records:
    def __init__(self, reporter: Reporter) -> None:
        self._reporter = reporter
        self._sent = Thresholds(reporter.settings.logs)
        self._kept = Thresholds(reporter.settings.breadcrumbs)

    def see(self, record: logging.LogRecord) -> None:
        """Make of a record what the settings say. Never raises: a record that cannot be read is the app's to complain about."""
        try:
            name = record.name
            if name == "obitus" or name.startswith("obitus."):
                return
            severity = from_python_level(record.levelno)
            kept, sent = self._kept.hears(name, severity), self._sent.hears(name, severity)
            if kept or sent:
                self._see(record, severity, kept=kept, sent=sent)
        except Exception as interrupted:
            if is_the_apps(interrupted):
                raise
            return

    def _see(self, record: logging.LogRecord, severity: str, *, kept: bool, sent: bool) -> None:
        message = record.getMessage()
        data = {
            "logger": record.name,
            "code.file.path": record.pathname,
            "code.line.number": record.lineno,
            "code.function.name": record.funcName or "",
        }
        error = record.exc_info[1] if type(record.exc_info) is tuple else None
        if kept:
            self._reporter.breadcrumb("log", message, severity, data)
        if not sent:
            return
        attributes: dict[str, Any] = data | self._extra(record)
        del attributes["logger"]
        if isinstance(error, Exception):
            # An event loop logs what no task asked for; everybody else logs what they caught.
            by_loop = record.name == "asyncio"
            failure_id = self._reporter.record(
                error,
                handled=not by_loop,
                captured_by="asyncio" if by_loop else "logging",
                severity=severity,
                attributes={"log.logger": record.name, "log.message": message[:1000]} | self._extra(record),
            )
            attributes |= {"exception.type": type(error).__qualname__}
            if failure_id is not None:
                attributes["failure.id"] = failure_id
        arguments = record.args
        if arguments:
            values = list(arguments.items()) if isinstance(arguments, dict) else list(enumerate(arguments))
            redactor = self._reporter.redactor
            for place, value in values[:MOST_ARGUMENTS]:
                attributes[f"log.argument.{place}"] = plain(value, redactor)
        template = record.msg if type(record.msg) is str else ""
        self._reporter.log_record(message, severity, record.name, attributes, template)

    def _extra(self, record: logging.LogRecord) -> dict[str, Any]:
        found = [(name, value) for name, value in vars(record).items() if name not in _STANDARD]
        return {name: plain(value, self._reporter.redactor) for name, value in found[:MOST_EXTRA]}
