"""What all parts of a reporter share: settings, clocks, the common fields of reports, and the sender."""

from __future__ import annotations

import os
import socket
import sys
import threading
import time
from collections.abc import Callable, Mapping
from itertools import islice
from typing import Any, Final

from obitus.client import runs
from obitus.client.held_failures import Held
from obitus.client.log_orders import LogOrders
from obitus.client.sender import Sender
from obitus.client.settings import Settings
from obitus.client.values import plain
from obitus.core.bounds import ATTRIBUTES, short
from obitus.core.clock import to_text
from obitus.core.ids import uuid7
from obitus.core.redaction import Redactor
from obitus.core.severity import SEVERITIES
from obitus.core.trace_context import read_traceparent


def clock_ms() -> int:
    """Return the Unix time in milliseconds."""
    return time.time_ns() // 1_000_000


_system_clock: Final = clock_ms


class Base:
    """Set up once; ``sender`` and ``held`` belong to one process, and are made again in a child that was forked."""

    sender: Sender
    held: Held

    def __init__(
        self,
        settings: Settings,
        *,
        clock_ms: Callable[[], int],
        random_bytes: Callable[[int], bytes],
        timer: Callable[[], float],
        process: Mapping[str, Any],
        joins_trace: bool,
        family: str,
    ) -> None:
        self.settings = settings
        self.clock_ms = clock_ms
        self.now_ns: Callable[[], int] = time.time_ns if clock_ms is _system_clock else lambda: clock_ms() * 1_000_000
        self.random_bytes = random_bytes
        self.timer = timer
        self.redactor = Redactor(settings.hide)
        self.log_orders = LogOrders(settings.logs, fixed=settings.logs_fixed)
        self.family = family or os.urandom(4).hex()
        self.attributes: dict[str, Any] = {}
        """Attributes that the app attached to all reports of this process."""
        self.ending = False
        """Whether the interpreter is ending."""
        self.exit_until_s = 0.0
        self._process = self._describe_process(process)
        # The parent, such as ``obitus run``, may have passed the trace that this process belongs to.
        self._trace = read_traceparent(os.environ.get("TRACEPARENT", "")) if joins_trace else None

    @property
    def process(self) -> Mapping[str, Any]:
        """Attributes of this process, on all its reports."""
        return self._process

    def new_id(self) -> str:
        """Return an id for a report, UUIDv7."""
        return str(uuid7(self.clock_ms(), self.random_bytes(10)))

    def exit_s(self) -> float:
        """Return for how many seconds the end of the process may still be delayed."""
        return max(0.0, self.exit_until_s - time.monotonic())

    def released(self, report: dict[str, Any]) -> dict[str, Any]:
        """Put the release on a report, where one is set, and return it."""
        if self.settings.release:
            report["release"] = short(self.settings.release)
        return report

    def new_report(
        self, kind: str, severity: str, run: runs.RunState | None, attributes: Mapping[str, Any]
    ) -> dict[str, Any]:
        """Return what every report has."""
        now_ms = self.clock_ms()
        report: dict[str, Any] = {
            "kind": kind,
            "id": str(uuid7(now_ms, self.random_bytes(10))),
            "time": to_text(now_ms),
            "severity": severity if severity in SEVERITIES else "ERROR",
            "attributes": self._process | {"thread.name": threading.current_thread().name} | self.attributes,
        }
        self.released(report)
        if run is not None:
            if run.attributes:
                report["attributes"] |= run.attributes
            report["trace_id"], report["span_id"] = run.trace_id, run.span_id
        elif self._trace is not None:
            report["trace_id"] = self._trace[0]
        if attributes:
            # What is beyond the bound is left out here: the service would refuse the whole report.
            room = ATTRIBUTES - len(report["attributes"])
            given = islice(attributes.items(), max(0, room))
            report["attributes"] |= {short(str(name)): plain(value, self.redactor) for name, value in given}
        return report

    def begin_in_child(self) -> None:
        """Begin again in a forked child."""
        self.ending = False
        self._process["process.pid"] = os.getpid()
        self._process["service.instance.id"] = self.new_id()

    def _describe_process(self, more: Mapping[str, Any]) -> dict[str, Any]:
        process: dict[str, Any] = {
            "host.name": short(socket.gethostname()),
            "process.pid": os.getpid(),
            # OpenTelemetry's name for what tells one process of a service from all others, before it and beside it.
            "service.instance.id": self.new_id(),
            "process.runtime.name": sys.implementation.name,
            "process.runtime.version": sys.version.split()[0],
            "process.command": short(sys.argv[0] if sys.argv else ""),
        }
        if self.settings.environment:
            process["deployment.environment.name"] = self.settings.environment
        return process | dict(more)
