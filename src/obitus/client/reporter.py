"""The reporter: one running client. ``obitus.watch`` starts one for the process."""

from __future__ import annotations

import functools
import inspect
import os
import platform
import socket
import sys
import threading
import time
import weakref
from collections.abc import Callable, Mapping
from contextlib import ContextDecorator
from types import TracebackType
from typing import Any, Final, TypeVar, cast

from obitus.client import runs
from obitus.client.capture import Capture
from obitus.client.hooks import Hooks
from obitus.client.sender import Sender, log
from obitus.client.settings import Settings
from obitus.client.values import plain
from obitus.core.clock import to_text
from obitus.core.ids import uuid7
from obitus.core.redaction import Redactor
from obitus.core.severity import SEVERITIES

_Function = TypeVar("_Function", bound=Callable[..., Any])

_REPORTED: Final = "__obitus_reported__"


def clock_ms() -> int:
    """Return the Unix time in milliseconds."""
    return time.time_ns() // 1_000_000


class Reporter:
    """Captures, keeps the trail, and hands reports to its sender. No method of it ever raises into the app."""

    def __init__(
        self,
        settings: Settings,
        *,
        clock_ms: Callable[[], int] = clock_ms,
        random_bytes: Callable[[int], bytes] = os.urandom,
        timer: Callable[[], float] = time.perf_counter,
        process: Mapping[str, Any] | None = None,
        says_time: bool = True,
        hooks: bool = True,
    ) -> None:
        if settings.url is None or settings.key is None:
            raise ValueError("a reporter needs an address and a key")
        self.settings = settings
        self.clock_ms = clock_ms
        self.random_bytes = random_bytes
        self._timer = timer
        self._says_time = says_time
        self.redactor = Redactor()
        self._capture = Capture(self.redactor, settings.own)
        self._sender = Sender(settings.url, settings.key, self.redactor, says_time=says_time)
        self._trail = runs.Trail()
        self._attributes: dict[str, Any] = {}
        self._process = {
            "host.name": socket.gethostname()[:300],
            "process.pid": os.getpid(),
            "process.runtime.name": platform.python_implementation().lower(),
            "process.runtime.version": platform.python_version(),
            "process.command": (sys.argv[0] if sys.argv else "")[:300],
        }
        if settings.environment:
            self._process["deployment.environment.name"] = settings.environment
        self._process |= process or {}
        self._hooks = Hooks(self) if hooks else None
        if self._hooks is not None:
            self._hooks.install()
        self._after_fork()

    @property
    def counts(self) -> dict[str, int]:
        """How many reports were sent, refused and dropped."""
        return dict(self._sender.counts)

    @property
    def waiting(self) -> int:
        """How many reports wait to be sent."""
        return self._sender.waiting

    def record(
        self,
        error: BaseException,
        *,
        handled: bool,
        captured_by: str,
        severity: str = "ERROR",
        attributes: Mapping[str, Any] | None = None,
    ) -> str | None:
        """Report an exception once, however often it is met on its way up; return the report's id."""
        try:
            return self._record(error, handled, captured_by, severity, attributes)
        except Exception as trouble:
            log.warning("Obitus: an exception could not be captured (%s: %s).", type(trouble).__name__, trouble)
            return None

    def breadcrumb(
        self, kind: str, message: str, severity: str = "INFO", data: Mapping[str, Any] | None = None
    ) -> None:
        """Add a step to the trail of the current run, or of the process when there is none."""
        try:
            run = runs.current.get()
            trail = self._trail if run is None else run.trail
            held = {str(name)[:300]: plain(value, self.redactor) for name, value in data.items()} if data else {}
            trail.add(kind, self.clock_ms(), severity if severity in SEVERITIES else "INFO", str(message), held)
        except Exception as trouble:
            log.warning("Obitus: a breadcrumb could not be kept (%s).", type(trouble).__name__)

    def attach(self, attributes: Mapping[str, Any]) -> None:
        """Put attributes on the current run, or on the process when there is none."""
        try:
            run = runs.current.get()
            held = self._attributes if run is None else run.attributes
            for name, value in attributes.items():
                if len(held) < runs.MOST_ATTRIBUTES or name in held:
                    held[str(name)[:300]] = plain(value, self.redactor)
        except Exception as trouble:
            log.warning("Obitus: attributes could not be attached (%s).", type(trouble).__name__)

    def new_run(self, entry_point: str, *, trace_id: str | None = None) -> runs.RunState:
        """Return a new run; it joins the trace of the run around it, or the one given."""
        return runs.RunState(
            entry_point,
            self.clock_ms(),
            self._timer(),
            self.random_bytes,
            trace_id=trace_id,
            around=runs.current.get() if trace_id is None else None,
        )

    def flush(self, timeout_s: float) -> bool:
        """Wait until everything was sent; return whether it was."""
        return self._sender.flush(timeout_s)

    def stop(self, timeout_s: float) -> None:
        """Take the hooks away, send what is queued, and end."""
        if self._hooks is not None:
            self._hooks.remove()
        self._sender.stop(timeout_s)

    def _record(
        self,
        error: BaseException,
        handled: bool,
        captured_by: str,
        severity: str,
        attributes: Mapping[str, Any] | None,
    ) -> str | None:
        held = getattr(error, "__dict__", {})
        if held.get(_REPORTED) is not None:
            known: str = held[_REPORTED]
            return known
        now_ms = self.clock_ms()
        report_id = str(uuid7(now_ms, self.random_bytes(10)))
        try:
            error.__dict__[_REPORTED] = report_id
        except (AttributeError, TypeError):
            pass
        run = runs.current.get()
        trail = self._trail if run is None else run.trail
        if run is not None and run.resolve is not None:
            run.resolve()
        run_part = run.as_report(self._timer()) if run is not None else None
        report: dict[str, Any] = {
            "kind": "failure",
            "id": report_id,
            "time": to_text(now_ms),
            "severity": severity if severity in SEVERITIES else "ERROR",
            "handled": handled,
            "captured_by": captured_by,
            "exceptions": self._capture.chain(error),
            "trail": trail.as_report(),
            "attributes": self._process
            | {"thread.name": threading.current_thread().name}
            | self._attributes
            | (run.attributes if run is not None else {})
            | {name: plain(value, self.redactor) for name, value in (attributes or {}).items()},
        }
        if trail.left_out:
            report["trail_left_out"] = trail.left_out
        if self.settings.release:
            report["release"] = self.settings.release[:300]
        if run is not None:
            report["run"] = run_part
            report["trace_id"], report["span_id"] = run.trace_id, run.span_id
            if run.request is not None:
                report["request"] = dict(run.request)
        self.breadcrumb(
            "failure", f"{report['exceptions'][0]['type']} was reported", "ERROR", {"failure.id": report_id}
        )
        self._sender.put(report)
        return report_id

    def _after_fork(self) -> None:
        """A child forked here holds a dead thread and perhaps a held lock: it gets a sender of its own."""
        mine = weakref.ref(self)

        def renew() -> None:
            reporter = mine()
            if reporter is not None:
                settings = reporter.settings
                reporter._sender = Sender(
                    settings.url or "", settings.key or "", reporter.redactor, says_time=reporter._says_time
                )
                reporter._process["process.pid"] = os.getpid()

        if hasattr(os, "register_at_fork"):
            os.register_at_fork(after_in_child=renew)


class Run(ContextDecorator):
    """A unit of work: ``with obitus.run("job nightly-manifest"):`` or the same as a decorator of a function."""

    def __init__(
        self, entry_point: str, attributes: Mapping[str, Any], reporter: Callable[[], Reporter | None]
    ) -> None:
        self._entry_point = entry_point
        self._attributes = attributes
        self._reporter = reporter
        self._token: Any = None

    def _recreate_cm(self) -> Run:
        # Each call of a decorated function is a run of its own.
        return Run(self._entry_point, self._attributes, self._reporter)

    def __call__(self, function: _Function) -> _Function:
        """Make each call of ``function`` a run; a coroutine function's run lasts until it is done."""
        if not inspect.iscoroutinefunction(function):
            return super().__call__(function)

        @functools.wraps(function)
        async def inside(*args: Any, **kwargs: Any) -> Any:
            with self._recreate_cm():
                return await function(*args, **kwargs)

        return cast("_Function", inside)

    def __enter__(self) -> None:
        reporter = self._reporter()
        if reporter is not None:
            self._token = runs.current.set(reporter.new_run(self._entry_point))
            if self._attributes:
                reporter.attach(self._attributes)

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, traceback: TracebackType | None
    ) -> None:
        reporter, run = self._reporter(), runs.current.get()
        if reporter is not None and run is not None and isinstance(error, Exception):
            run.outcome = "failed"
            reporter.record(error, handled=False, captured_by="run")
        if self._token is not None:
            try:
                runs.current.reset(self._token)
            except ValueError:
                # A generator was closed in another context than it was started in.
                runs.current.set(None)
