"""Runs and their trails. The current run travels in a context variable, so runs at the same time never mix."""

from __future__ import annotations

import contextvars
from collections import deque
from collections.abc import Callable
from typing import Any, Final

from obitus.core.clock import to_text
from obitus.core.ids import uuid7

MOST_BREADCRUMBS: Final = 100
MOST_BREADCRUMB_CHARS: Final = 2000
MOST_ATTRIBUTES: Final = 100

Crumb = tuple[str, int, str, str, dict[str, Any]]


class Trail:
    """The breadcrumbs of one run, in order; the oldest go when it is full."""

    __slots__ = ("_crumbs", "left_out")

    def __init__(self) -> None:
        self._crumbs: deque[Crumb] = deque(maxlen=MOST_BREADCRUMBS)
        self.left_out = 0

    def add(self, kind: str, time_ms: int, severity: str, message: str, data: dict[str, Any]) -> None:
        """Add one breadcrumb."""
        if len(self._crumbs) == MOST_BREADCRUMBS:
            self.left_out += 1
        self._crumbs.append((kind, time_ms, severity, message[:MOST_BREADCRUMB_CHARS], data))

    def as_report(self) -> list[dict[str, Any]]:
        """Return the trail in the report's form."""
        return [
            {"kind": kind, "time": to_text(time_ms), "severity": severity, "message": message, "data": data}
            for kind, time_ms, severity, message, data in list(self._crumbs)
        ]


class RunState:
    """One run while it goes on. Its ids are made when somebody asks: most runs end well, and nobody does."""

    __slots__ = (
        "_around",
        "_id",
        "_random_bytes",
        "_span_id",
        "_trace_id",
        "attributes",
        "entry_point",
        "outcome",
        "request",
        "resolve",
        "started_ms",
        "started_s",
        "trail",
    )

    def __init__(
        self,
        entry_point: str,
        started_ms: int,
        started_s: float,
        random_bytes: Callable[[int], bytes],
        *,
        trace_id: str | None = None,
        around: RunState | None = None,
    ) -> None:
        self.entry_point = entry_point
        self.started_ms = started_ms
        self.started_s = started_s
        self.trail = Trail()
        self.attributes: dict[str, Any] = {}
        self.request: dict[str, Any] | None = None
        self.outcome: str | None = None
        self.resolve: Callable[[], None] | None = None
        """Fills in what is known only once the app has begun, such as the route; called before each report."""
        self._random_bytes = random_bytes
        self._around = around
        self._trace_id = trace_id
        self._id: str | None = None
        self._span_id: str | None = None

    @property
    def id(self) -> str:
        """The run's id, UUIDv7."""
        if self._id is None:
            self._id = str(uuid7(self.started_ms, self._random_bytes(10)))
        return self._id

    @property
    def trace_id(self) -> str:
        """The trace it belongs to: the one given, else that of the run around it, else a new one."""
        if self._trace_id is None:
            self._trace_id = self._around.trace_id if self._around is not None else self._random_bytes(16).hex()
        return self._trace_id

    @property
    def span_id(self) -> str:
        """Its own span in that trace."""
        if self._span_id is None:
            self._span_id = self._random_bytes(8).hex()
        return self._span_id

    def as_report(self, now_s: float) -> dict[str, Any]:
        """Return the run in the report's form, with its duration until ``now_s`` by the timer it was started with."""
        run = {
            "id": self.id,
            "entry_point": self.entry_point[:300] or "unnamed",
            "started": to_text(self.started_ms),
            "duration_ms": round((now_s - self.started_s) * 1000, 3),
        }
        if self.outcome is not None:
            run["outcome"] = self.outcome
        return run


current: contextvars.ContextVar[RunState | None] = contextvars.ContextVar("obitus_run", default=None)
