"""Log records: breadcrumbs, log reports, and failures where an exception is logged. By logger name and severity."""

from __future__ import annotations

import logging
from time import monotonic
from typing import Any, Final

from obitus.client.exception_origin import is_the_apps
from obitus.client.failures import Failures
from obitus.client.guard import without_ours
from obitus.client.log import is_ours
from obitus.client.log_orders import LogOrders
from obitus.client.open_runs import OpenRuns
from obitus.client.patches import Patches
from obitus.client.settings import Settings
from obitus.client.values import plain, show
from obitus.core.bounds import said
from obitus.core.redaction import Redactor
from obitus.core.severity import Thresholds, from_python_level

MOST_ARGUMENTS: Final = 20
MOST_EXTRA: Final = 40
TRACEBACK: Final = "Traceback (most recent call last):"
SERVERS: Final = frozenset(
    {
        "uvicorn.error", "hypercorn.error", "gunicorn.error", "daphne.server", "waitress", "cherrypy.error", "cheroot", "aiohttp.server",
        "tornado.application", "sanic.error", "django.request", "granian", "werkzeug", "arq.worker", "apscheduler.executors.default", "huey",
    }
)  # fmt: skip
"""Loggers of servers and frameworks that log exceptions which an app did not handle."""
REDIRECTED: Final = "celery.redirected"
_NOT_WANTED: Final = ("", False, False)
_PLAIN: Final = frozenset({str, int, float, bool, type(None)})

# All attributes that a record has without ``extra``.
_STANDARD: Final = frozenset(vars(logging.makeLogRecord({}))) | {"message", "asctime", "taskName"}


def watch_logging(
    settings: Settings,
    failures: Failures,
    open_runs: OpenRuns,
    orders: LogOrders,
    patches: Patches,
    logger_class: type[logging.Logger],
) -> None:
    """See every record that passed its logger's level and filters.

    Not a handler on the root logger: that would make a later ``logging.basicConfig()`` of the app do nothing.
    """
    records = _Records(settings, failures, open_runs, orders)
    wanted_of, see = records.wanted.get, records.see

    def make(before: Any) -> Any:
        def callHandlers(logger: logging.Logger, record: logging.LogRecord) -> None:
            # The app's handlers come first: their formatted message need not be made again, and where none
            # of them wants it, its arguments are not formatted.
            if orders.ends_s:
                if monotonic() > orders.ends_s:
                    orders.expire()
                if orders.is_for_us_alone(record.name, record.levelno):
                    see(record, wanted_of((record.name, record.levelno)))
                    return
            raised = record.exc_info
            if type(raised) is tuple and raised[1] is not None:
                record.exc_info = (raised[0], raised[1], without_ours(raised[1], raised[2]))
            try:
                before(logger, record)
            finally:
                wanted = wanted_of((record.name, record.levelno))
                if wanted is not _NOT_WANTED:
                    see(record, wanted)

        return callHandlers

    patches.put(logger_class, "callHandlers", make)


class _Records:
    def __init__(self, settings: Settings, failures: Failures, open_runs: OpenRuns, orders: LogOrders) -> None:
        self._settings, self._failures, self._runs = settings, failures, open_runs
        self._redactor = failures.redactor
        self._orders = orders
        self._kept = Thresholds({} if "log" in settings.leave_out else settings.breadcrumbs)
        self.wanted: dict[tuple[str, int], tuple[str, bool, bool]] = {}
        """By logger and level: its severity, whether it becomes a breadcrumb, whether it is sent."""
        orders.listen(self.wanted.clear)

    def see(self, record: logging.LogRecord, wanted: tuple[str, bool, bool] | None) -> None:
        """Handle a record by the settings. Never raises: the app's own handlers complain about a broken record."""
        try:
            severity, kept, sent = wanted if wanted is not None else self._look_up(record.name, record.levelno)
            if is_ours():
                return
            if kept:
                attributes = record.__dict__
                text = attributes.get("message")
                if type(text) is str:
                    written = (
                        _written,
                        text,
                        None,
                        attributes["name"],
                        attributes["pathname"],
                        attributes["lineno"],
                        attributes["funcName"],
                    )
                else:
                    parts = _parts_of(record, self._redactor)
                    written = (_written, *parts, record.name, record.pathname, record.lineno, record.funcName)
                self._runs.step("log", severity, written)
            if sent:
                self._send(record, severity)
        except Exception as interrupted:
            if is_the_apps(interrupted):
                raise
            return

    def _look_up(self, name: str, level: int) -> tuple[str, bool, bool]:
        severity = from_python_level(level)
        ours = name == "obitus" or name.startswith("obitus.")
        entry = (
            severity,
            not ours and self._kept.passes(name, severity),
            not ours and self._orders.sent.passes(name, severity),
        )
        if name == REDIRECTED and name not in self._settings.logs:
            # The output of a job runner's workers, line by line: useful as breadcrumbs, not as hundreds of reports.
            entry = (severity, entry[1], False)
        if not entry[1] and not entry[2]:
            entry = _NOT_WANTED
        if len(self.wanted) < 5000:
            self.wanted[name, level] = entry
        return entry

    def _send(self, record: logging.LogRecord, severity: str) -> None:
        text, arguments = _parts_of(record, self._redactor)
        message = text if arguments is None else text % arguments
        error = record.exc_info[1] if type(record.exc_info) is tuple else None
        attributes: dict[str, Any] = _place_of(record.pathname, record.lineno, record.funcName) | self._extra(record)
        failure_id = self._failure(record, error, message, severity)
        if error is not None:
            attributes["exception.type"] = type(error).__qualname__
        if failure_id is not None:
            attributes["failure.id"] = failure_id
        self._say_arguments(record, attributes)
        template = record.msg if type(record.msg) is str else ""
        self._runs.log_record(message, severity, record.name, attributes, template)

    def _failure(self, record: logging.LogRecord, error: Any, message: str, severity: str) -> str | None:
        """Report the exception of a record, or the traceback in its text."""
        if error is not None and self._failures.is_reported_elsewhere(error, record.name):
            return None
        attributes = {"log.logger": record.name, "log.message": said(message)} | self._extra(record)
        if isinstance(error, BaseException) and not isinstance(error, KeyboardInterrupt | SystemExit | GeneratorExit):
            # Event loops and servers log unhandled exceptions; all other loggers handled ones.
            by_loop = record.name == "asyncio"
            return self._failures.record(
                error,
                handled=not by_loop and record.name not in SERVERS,
                captured_by="asyncio" if by_loop else "logging",
                severity=severity,
                attributes=attributes,
            )
        if error is None and TRACEBACK in message and severity in ("ERROR", "FATAL"):
            return self._failures.record_text(message, attributes, severity)
        return None

    def _say_arguments(self, record: logging.LogRecord, attributes: dict[str, Any]) -> None:
        arguments = record.args
        if arguments:
            values = list(arguments.items()) if isinstance(arguments, dict) else list(enumerate(arguments))
            redactor = self._redactor
            for place, value in values[:MOST_ARGUMENTS]:
                attributes[f"log.argument.{place}"] = plain(value, redactor)

    def _extra(self, record: logging.LogRecord) -> dict[str, Any]:
        found = [(name, value) for name, value in vars(record).items() if name not in _STANDARD]
        return {name: plain(value, self._redactor) for name, value in found[:MOST_EXTRA]}


def _parts_of(record: logging.LogRecord, redactor: Redactor) -> tuple[str, Any]:
    """Return a record's message, or its template and the plain values that go into it."""
    text = record.__dict__.get("message")
    if type(text) is str:
        # A formatter of the app has formatted it.
        return text, None
    template, arguments = record.msg, record.args
    if type(template) is not str:
        return show(template, redactor), None
    if not arguments:
        return template, None
    values = arguments.values() if type(arguments) is dict else arguments if type(arguments) is tuple else ()
    if all(type(value) in _PLAIN for value in values):
        return template, arguments
    # Nobody formatted these, and neither does this: their fields are shown.
    shown: Any = (
        {name: _plain_or_shown(value, redactor) for name, value in arguments.items()}
        if type(arguments) is dict
        else tuple(_plain_or_shown(value, redactor) for value in values)
    )
    try:
        return template % shown, None
    except (TypeError, ValueError, KeyError) as interrupted:
        if is_the_apps(interrupted):
            raise
        return f"{template} {shown}", None


def _plain_or_shown(value: Any, redactor: Redactor) -> Any:
    return value if type(value) in _PLAIN else show(value, redactor)


def _written(
    text: str, arguments: Any, name: str, path: str, line: int, function: str | None
) -> tuple[str, dict[str, Any]]:
    """Return the breadcrumb of a record, as message and data."""
    message = text if arguments is None else text % arguments
    return message, {"logger": name} | _place_of(path, line, function)


def _place_of(path: str, line: int, function: str | None) -> dict[str, Any]:
    return {"code.file.path": path, "code.line.number": line, "code.function.name": function or ""}
