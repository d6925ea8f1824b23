"""Celery, through its signals: each task is a run of the trace that gave it."""

from __future__ import annotations

import sys
from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client.active import active_reporter
from obitus.client.exception_origin import is_the_apps
from obitus.client.instruments.http_clients import trace_headers
from obitus.client.patches import Patches
from obitus.client.scope import RunScope, ended_by
from obitus.core.bounds import short

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter

# Messages of the main process about ended children, and messages that repeat another task's failure.
_LOST = frozenset({"billiard.exceptions.TimeLimitExceeded", "billiard.exceptions.WorkerLostError"})
_REPEATED = frozenset(
    {
        "celery.exceptions.ChordError",
        "billiard.einfo.ExceptionWithTraceback",
        # These log for a chord the exception of one of its members.
        "celery.app.builtins",
        "celery.backends.base",
        "celery.backends.redis",
    }
)
_HELD = "_obitus_run"
_GROUP = "obitus"


def install(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Connect to the signals of publisher and worker."""
    reporter.failures.reported_elsewhere |= _LOST | _REPEATED
    listeners = _Listeners(reporter)
    for name in (
        "before_task_publish",
        "task_prerun",
        "task_postrun",
        "task_failure",
        "task_retry",
        "worker_process_shutdown",
    ):
        getattr(module, name).connect(getattr(listeners, name), weak=False, dispatch_uid=f"{_GROUP} {name}")


class _Listeners:
    def __init__(self, reporter: Reporter) -> None:
        self._started_with = reporter

    @property
    def _reporter(self) -> Reporter | None:
        return active_reporter()

    def before_task_publish(self, sender: Any = None, headers: Any = None, **_: Any) -> None:
        reporter = self._reporter
        if reporter is None or not isinstance(headers, dict):
            return
        for name, value in trace_headers().items():
            headers.setdefault(name, value)
        reporter.runs.breadcrumb(
            "process",
            f"task {sender} given away",
            "INFO",
            {"task.id": str(headers.get("id", "")), "messaging.destination.name": str(sender)},
        )

    def task_prerun(self, task_id: Any = None, task: Any = None, **_: Any) -> None:
        reporter = self._reporter
        if reporter is None:
            return
        # Celery hands headers of the message on as attributes of the request.
        given = getattr(task.request, "traceparent", None) or (task.request.headers or {}).get("traceparent")
        scope = RunScope(reporter, f"job {task.name}", "celery", traceparent=given)
        scope.run.attach("task.id", short(str(task_id)))
        scope.run.attach("task.retries", int(task.request.retries or 0))
        setattr(task.request, _HELD, scope)

    def task_failure(self, task_id: Any = None, exception: Any = None, sender: Any = None, **_: Any) -> None:
        reporter = self._reporter
        if reporter is None or not isinstance(exception, Exception):
            return
        failure = getattr(getattr(sender, "request", None), _HELD, None)
        if failure is None and _name_of(exception) in _LOST:
            # The main process logs that a child has ended: what the child left on disk says more.
            by_itself = "signal" not in str(exception) and "Exceeded" not in type(exception).__name__
            reporter.life.lost_children.expect(
                str(task_id), short(f"job {sender.name}"), exception, by_itself=by_itself
            )
            return
        if failure is not None and isinstance(exception, tuple(getattr(sender, "throws", None) or ())):
            failure.run.outcome = "refused"
        elif failure is not None:
            failure.record(exception)
        else:
            reporter.failures.record(exception, handled=False, captured_by="celery")

    def task_retry(self, request: Any = None, reason: Any = None, **_: Any) -> None:
        reporter = self._reporter
        failure = getattr(request, _HELD, None)
        if failure is not None:
            failure.run.outcome = "failed"
        if reporter is not None:
            reporter.runs.breadcrumb("mark", f"will be tried again: {type(reason).__name__}", "WARN")

    def task_postrun(self, task: Any = None, state: Any = None, **_: Any) -> None:
        reporter = self._reporter
        scope = getattr(task.request, _HELD, None)
        if reporter is None or scope is None:
            return
        # Celery does not handle what is no Exception: it is being raised at this moment.
        leaving = sys.exc_info()[1]
        if isinstance(leaving, SystemExit) and is_the_apps(leaving):
            # The main process ends this one by a signal: it knows why, and finds the run as it is.
            reporter.life.leave_to_parent()
            return
        if leaving is not None and not isinstance(leaving, Exception) and ended_by(leaving) == "failed":
            scope.record(leaving)
            reporter.life.secure()
        delattr(task.request, _HELD)
        outcome = "refused" if state in ("REJECTED", "IGNORED", "REVOKED") else "ok"
        scope.finish(scope.run.outcome or ("failed" if state in ("FAILURE", "RETRY") else outcome))

    def worker_process_shutdown(self, **_: Any) -> None:
        reporter = self._reporter
        if reporter is not None:
            reporter.life.last_words()


def _name_of(error: BaseException) -> str:
    return f"{type(error).__module__}.{type(error).__qualname__}"
