"""Libraries that do not log through ``logging``: loguru, structlog with its own loggers, Twisted."""

from __future__ import annotations

from functools import lru_cache
from time import monotonic
from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client.active import active_reporter
from obitus.client.guard import guarded
from obitus.client.log import is_ours
from obitus.client.patches import Patches
from obitus.client.values import plain
from obitus.core.bounds import said, short
from obitus.core.severity import Thresholds, from_python_level, severity_of

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter

MOST_FIELDS = 40


@lru_cache(1)
def _kept(reporter: Reporter) -> Thresholds:
    """Return the thresholds of breadcrumbs, which remember loggers."""
    return Thresholds(reporter.settings.breadcrumbs)


@guarded
def handle_record(
    reporter: Reporter,
    logger: str,
    severity: str,
    message: str,
    fields: dict[str, Any],
    error: BaseException | None,
    place: dict[str, Any],
) -> None:
    """Handle a record by the settings, like one of ``logging``."""
    if is_ours():
        return
    orders = reporter.base.log_orders
    if orders.ends_s and monotonic() > orders.ends_s:
        orders.expire()
    if _kept(reporter).passes(logger, severity):
        reporter.runs.breadcrumb("log", message, severity, {"logger": logger} | place)
    if not orders.sent.passes(logger, severity):
        return
    redactor = reporter.base.redactor
    attributes: dict[str, Any] = place | {
        short(str(name)): plain(value, redactor) for name, value in list(fields.items())[:MOST_FIELDS]
    }
    if isinstance(error, Exception):
        about = {"log.logger": logger, "log.message": said(message)}
        failure_id = reporter.failures.record(
            error, handled=True, captured_by="logging", severity=severity, attributes=about
        )
        attributes["exception.type"] = type(error).__qualname__
        if failure_id is not None:
            attributes["failure.id"] = failure_id
    reporter.runs.log_record(message, severity, logger, attributes)


def _active() -> Reporter | None:
    return active_reporter()


def install_loguru(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Add a sink; when the app removes all sinks, as it does to set up its own, add it again."""
    logger = module.logger

    def sink(message: Any) -> None:
        active = _active()
        if active is None:
            return
        record = message.record
        raised = record["exception"]
        place = {
            "code.file.path": record["file"].path,
            "code.line.number": record["line"],
            "code.function.name": record["function"],
        }
        error = raised.value if raised is not None else None
        severity = from_python_level(record["level"].no)
        handle_record(
            active, record["name"] or "loguru", severity, record["message"], dict(record["extra"]), error, place
        )

    def add() -> None:
        # Plain text: the app's own sinks format the traceback.
        logger.add(sink, level=0, format=lambda record: "{message}\n", catch=False)

    def removing(before: Any) -> Any:
        def remove(self: Any, handler_id: Any = None) -> Any:
            answer = before(self, handler_id)
            if handler_id is None and _active() is not None:
                add()
            return answer

        return remove

    patches.put(type(logger), "remove", removing)
    add()


def install_structlog(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Read events before the processors turn them into text; those that go on to ``logging`` are read there."""
    import logging

    @guarded
    def see(bound: Any, method: str, event: Any, fields: dict[str, Any]) -> None:
        active = _active()
        if active is None or isinstance(getattr(bound, "_logger", None), logging.Logger):
            return
        severity = "ERROR" if method == "exception" else severity_of(method) or "INFO"
        exc_info = fields.get("exc_info")
        error = (
            exc_info if isinstance(exc_info, BaseException) else exc_info[1] if isinstance(exc_info, tuple) else None
        )
        if exc_info is True or (method == "exception" and error is None):
            import sys

            error = sys.exc_info()[1]
        rest = {name: value for name, value in fields.items() if name not in ("exc_info", "event")}
        context = dict(getattr(bound, "_context", None) or {})
        name = str(context.pop("logger", "") or "structlog")
        handle_record(active, name, severity, str(event), context | rest, error, {})

    def make(before: Any) -> Any:
        def _proxy_to_logger(bound: Any, method_name: str, event: Any = None, *args: Any, **fields: Any) -> Any:
            see(bound, method_name, event, fields)
            return before(bound, method_name, event, *args, **fields)

        return _proxy_to_logger

    patches.put(module.BoundLoggerBase, "_proxy_to_logger", make)


def install_twisted(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Observe Twisted's log: failures that it was given, and errors in deferreds that nobody handled."""

    @guarded
    def observe(event: dict[str, Any]) -> None:
        active = _active()
        failure = event.get("log_failure")
        error = getattr(failure, "value", None)
        level = getattr(event.get("log_level"), "name", "info")
        severity = severity_of(level) or "INFO"
        if active is None or not isinstance(error, Exception) or is_ours():
            return
        about = {"log.logger": short(str(event.get("log_namespace", "twisted")))}
        # Critical events are exceptions that Twisted itself caught around an app's code.
        active.failures.record(
            error, handled=level != "critical", captured_by="twisted", severity=severity, attributes=about
        )

    module.globalLogPublisher.addObserver(observe)
