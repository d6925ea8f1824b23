"""A unit of work in progress: a request, a job, a command, a block of code. It is one run."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from obitus.client import runs
from obitus.core.trace_context import MOST_STATE, read_traceparent

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter


def ended_by(error: BaseException) -> str:
    """Return the outcome of work that an exception ended.

    It is refused where the caller went away, a person interrupted it or the server stops; every other exception is a
    failure, also one that a server raises at its time limit.
    """
    if isinstance(error, GeneratorExit | KeyboardInterrupt) or type(error).__name__ == "CancelledError":
        return "refused"
    if isinstance(error, SystemExit) and error.code in (None, 0):
        return "refused"
    return "failed"


class RunScope:
    """Opens a run and makes it the current one; records what ended it; finishes it once."""

    __slots__ = ("_captured_by", "_ended", "_token", "reporter", "run")

    def __init__(
        self,
        reporter: Reporter,
        entry_point: str,
        captured_by: str,
        *,
        traceparent: Any = None,
        tracestate: Any = None,
        lasting: bool = False,
    ) -> None:
        self.reporter, self._captured_by, self._ended = reporter, captured_by, False
        trace = read_traceparent(traceparent) if isinstance(traceparent, str) else None
        if trace is None:
            self.run = reporter.runs.new(entry_point, lasting=lasting)
        else:
            self.run = reporter.runs.new(entry_point, trace_id=trace[0], parent_span_id=trace[1], lasting=lasting)
            if isinstance(tracestate, str) and 0 < len(tracestate) <= MOST_STATE:
                self.run.trace_state = tracestate
        self._token: Any = runs.current.set(self.run)

    def enter(self) -> None:
        """Make the run the current one again, after ``leave``."""
        if self._token is None:
            self._token = runs.current.set(self.run)

    def leave(self) -> None:
        """Make the previous run current again; this one stays open."""
        token, self._token = self._token, None
        if token is not None:
            runs.leave(token)

    def record(self, error: BaseException, *, severity: str = "ERROR", captured_by: str | None = None) -> None:
        """The work raised, or answers for an exception inside it: it has failed."""
        self.run.outcome = "failed"
        self.reporter.failures.record(
            error, handled=False, captured_by=captured_by or self._captured_by, severity=severity, run=self.run
        )

    def ended_by(self, error: BaseException) -> str:
        """Return the outcome of what an exception ended; a failure is reported."""
        outcome = ended_by(error)
        if outcome == "failed":
            self.record(error)
        return outcome

    def finish(self, outcome: str, status: int | None = None) -> None:
        """The work is over."""
        if self._ended:
            return
        self._ended = True
        self.leave()
        self.reporter.runs.finish(self.run, outcome, status)

    @property
    def is_over(self) -> bool:
        """Whether it was finished."""
        return self._ended
