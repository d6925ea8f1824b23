"""One report as it is passed to the store, and the result."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, NamedTuple

from obitus.store.days.failures import FailureRow
from obitus.store.days.logs import LogFacts
from obitus.store.days.runs import RunFacts
from obitus.store.grouping import Decided


@dataclass(frozen=True, slots=True)
class FailureFacts:
    """A failure's columns, in addition to its evidence."""

    severity: str
    handled: bool
    type: str
    cause: str
    place: str
    message: str
    entry_point: str
    user_id: str | None
    trace_id: bytes | None
    decided: Decided
    row: FailureRow
    """Its row in its day's file."""


class TallyFacts(NamedTuple):
    """Counted runs of one entry point that ended with one outcome."""

    entry_point: str
    outcome: str
    runs: int
    grows: bool = False
    """Whether it may be sent again under its id with more runs."""
    status: int = 0
    """The answer's status, 0 where there is none."""
    below_ms: float = 0.0
    """The end of the bucket of durations, 0 beyond all of them."""


class Prepared(NamedTuple):
    """A report that was checked, redacted, fingerprinted and compressed, ready to be written."""

    id: bytes
    kind: Literal["failure", "log", "run", "tally"]
    app_id: int
    environment: str
    release: str
    time_ms: int
    received_ms: int
    day: int
    """Its day (``core.days``)."""
    body: bytes = b""
    """The whole report, compressed; empty for a log record, whose columns hold all of it."""
    dictionary_id: int | None = None
    failure: FailureFacts | None = None
    tally: TallyFacts | None = None
    log: LogFacts | None = None
    run: RunFacts | None = None
    is_wanted: bool = False
    """Whether it was prepared again because its issue may keep it whole."""
    counted: int | None = None
    """The number of failures that its sender only counted; None for a captured one."""

    @property
    def is_brief(self) -> bool:
        """Whether it is a failure that was not fully prepared, and can only be counted."""
        return self.failure is not None and not self.failure.decided.was_prepared


@dataclass(frozen=True, slots=True)
class Taken:
    """The result of one report."""

    already_there: bool
    issue_id: int | None = None
    new_issue: bool = False
    regressed: bool = False
    beyond: bool = False
    """Whether its release is not stored, since the app has too many."""
    hit_of: int = 0
    """The tracepoint of which it is a new hit; 0 for none."""
    among_others: bool = False
    """Whether its entry point is counted together with others, since the app has too many."""
    only_counted: bool = False
    """Whether it was only counted, since its issue fails so often."""
    wants_whole: bool = False
    """Whether nothing was done, since it cannot be only counted and was not fully prepared."""
    is_wanted: bool = False
    """Whether such a one is kept whole even where another represents it by the time it is prepared."""
