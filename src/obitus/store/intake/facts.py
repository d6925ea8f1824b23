"""What the store is given to keep of one report, and what became of it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, NamedTuple

from obitus.store.days.failures import FailureRow
from obitus.store.days.logs import LogFacts
from obitus.store.days.runs import RunFacts
from obitus.store.grouping import Decided


@dataclass(frozen=True, slots=True)
class FailureFacts:
    """What the store keeps of a failure in columns, beside its evidence."""

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
    """What is kept of it in its day's file."""


@dataclass(frozen=True, slots=True)
class TallyFacts:
    """Counted runs of one entry point that ended with one outcome."""

    entry_point: str
    outcome: str
    runs: int
    grows: bool = False
    """Whether it may come again under its id with more runs."""
    status: int = 0
    """Of the answer, 0 where there is none."""
    below_ms: float = 0.0
    """The end of the bucket of durations, 0 beyond all of them."""


class Prepared(NamedTuple):
    """A report that was checked, redacted, fingerprinted and compressed: all that is left is to write it."""

    id: bytes
    kind: Literal["failure", "log", "run", "tally"]
    app_id: int
    environment: str
    release: str
    time_ms: int
    received_ms: int
    day: int
    """The day that it is kept under (``core.days``)."""
    body: bytes = b""
    """The whole report, compressed; empty for a log record, whose columns hold all of it."""
    dictionary_id: int | None = None
    failure: FailureFacts | None = None
    tally: TallyFacts | None = None
    log: LogFacts | None = None
    run: RunFacts | None = None
    is_wanted: bool = False
    """Whether it was asked for, to be kept whole."""
    counted: int | None = None
    """How many failures it is the report of, where its sender only counted them; None for one that was captured."""

    @property
    def is_brief(self) -> bool:
        """Whether it is a failure that was not prepared, and can be counted and no more."""
        return self.failure is not None and not self.failure.decided.was_prepared


@dataclass(frozen=True, slots=True)
class Taken:
    """What became of one report."""

    already_there: bool
    issue_id: int | None = None
    new_issue: bool = False
    regressed: bool = False
    beyond: bool = False
    """Whether its release is not kept apart, since the app has too many."""
    hit_of: int = 0
    """The tracepoint that it is a new hit of; 0 for none."""
    among_others: bool = False
    """Whether its entry point is not kept apart, since the app has too many."""
    only_counted: bool = False
    """Whether it was counted and not kept whole, since its issue fails so often."""
    wants_whole: bool = False
    """Whether nothing was done, since it was not prepared and is to be kept whole."""
