"""Runs: one unit of work each. The current run is in a context variable, so concurrent runs never mix."""

from __future__ import annotations

import contextvars
from collections.abc import Callable
from typing import Any, Final, TypeVar

from obitus.client import state
from obitus.client.exception_origin import is_the_apps
from obitus.client.trail import Trail
from obitus.core.bounds import short
from obitus.core.clock import to_text
from obitus.core.ids import uuid7

MOST_ATTRIBUTES: Final = 100
_T = TypeVar("_T")


class RunState:
    """One open run. Its ids are made when they are needed, which for most runs is never."""

    # Most runs end well and need none of these: the class has the defaults.
    attributes: dict[str, Any] | None = None
    request: dict[str, Any] | None = None
    outcome: str | None = None
    kept: str | None = None
    """Why the whole run is sent, in words."""
    failure_ids: list[str] | None = None
    caught: str | None = None
    """The latest failure in it that the app caught, or that something logged."""
    died: bool = False
    """Whether an uncaught failure of it was reported."""
    end_id: str | None = None
    """The id with which the next start would report that the process ended during this run, once that is noted on disk."""
    entry_point_now: Callable[[], str] | None = None
    """Returns the entry point as far as it is known by now, such as with the route that a request went to. Cheap."""
    resolve: Callable[[], None] | None = None
    """Fills in what else is known only once the app has begun, such as the request; called before each report."""
    user: Callable[[], Any] | None = None
    """Returns the user, where the framework knows it."""
    route: str | None = None
    """The template of the route, where a framework has told it."""
    trace_state: str | None = None
    _id: str | None = None
    _trace_id: str | None = None
    _span_id: str | None = None

    def __init__(
        self,
        entry_point: str,
        started_ms: int,
        started_s: float,
        random_bytes: Callable[[int], bytes],
        trace_id: str | None,
        parent_span_id: str | None,
        around: RunState | None,
    ) -> None:
        self.number = next(state.run_numbers)
        self.entry_point = entry_point
        self.started_ms = started_ms
        self.started_s = started_s
        self.trail = Trail()
        self.parent_span_id = parent_span_id
        self._random_bytes = random_bytes
        self.around = around
        if trace_id is not None:
            self._trace_id = trace_id

    @property
    def id(self) -> str:
        """The run's id, UUIDv7."""
        run_id = self._id
        return run_id if run_id is not None else self._once("_id", str(uuid7(self.started_ms, self._random_bytes(10))))

    @property
    def trace_id(self) -> str:
        """The trace it belongs to: the one given, else that of the run around it, else a new one."""
        trace_id = self._trace_id
        if trace_id is not None:
            return trace_id
        return self._once(
            "_trace_id", self.around.trace_id if self.around is not None else self._random_bytes(16).hex()
        )

    @property
    def span_id(self) -> str:
        """Its own span in that trace."""
        span_id = self._span_id
        return span_id if span_id is not None else self._once("_span_id", self._random_bytes(8).hex())

    @property
    def traceparent(self) -> str:
        """The header for its outgoing calls (W3C Trace Context, section 3.2)."""
        return f"00-{self.trace_id}-{self.span_id}-01"

    def _once(self, name: str, made: _T) -> _T:
        """Set an attribute that is not set yet, and return its value. Threads of one run may do so at the same time:
        ``dict.setdefault`` is atomic, so all of them get the same value.
        """
        value: _T = vars(self).setdefault(name, made)
        return value

    def know_entry_point(self) -> str:
        """Take over the entry point as far as it is known by now, and return it."""
        if self.entry_point_now is not None:
            self.entry_point = self.entry_point_now()
        return self.entry_point

    def know_more(self) -> None:
        """Take over what is known by now, for a report."""
        self.know_entry_point()
        if self.resolve is not None:
            self.resolve()

    def attach(self, name: str, value: Any) -> None:
        """Put an attribute on everything that this run reports; beyond the bound new names are ignored."""
        attributes = self.attributes
        if attributes is None:
            attributes = self._once("attributes", {})
        if len(attributes) < MOST_ATTRIBUTES or name in attributes:
            attributes[short(name)] = value

    def note_end(self, report_id: str) -> str:
        """Return the id of the report that the process ended during this run: this one, where none is noted yet."""
        return self._once("end_id", report_id)

    def take_end_id(self) -> str | None:
        """Return the noted id, once. The failure that ends the run takes it: if the process is killed before the note is
        removed, the next start reports the run again, with this id, and the service stores one of them.
        """
        taken: str | None = vars(self).pop("end_id", None)
        return taken

    def add_failure(self, report_id: str) -> None:
        """Remember the id of a failure of this run."""
        ids: list[str] = self._once("failure_ids", [])
        ids.append(report_id)

    def as_report(self, now_s: float) -> dict[str, Any]:
        """Return the run in the report's form, with its duration until ``now_s`` by the timer it was started with."""
        run: dict[str, Any] = {
            "id": self.id,
            "entry_point": short(self.entry_point) or "unnamed",
            "started": to_text(self.started_ms),
            "duration_ms": round((now_s - self.started_s) * 1000, 3),
        }
        parent = self.parent_span_id or (self.around.span_id if self.around is not None else None)
        if parent is not None:
            run["parent_span_id"] = parent
        if self.outcome is not None:
            run["outcome"] = self.outcome
        if self.kept is not None:
            run["kept"] = self.kept
        return run


current: Final[contextvars.ContextVar[RunState | None]] = state.current_run


def leave(token: contextvars.Token[RunState | None]) -> None:
    """Make current again what was current before ``token`` was given out."""
    try:
        current.reset(token)
    except ValueError as interrupted:
        if is_the_apps(interrupted):
            raise
        # It ends in another context than it began in, for example in a generator closed by the garbage collector.
        current.set(None)
