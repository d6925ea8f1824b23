"""Rows of issues and their failures."""

from __future__ import annotations

from typing import NamedTuple

from obitus.core.lifecycle import How, State
from obitus.core.priority import Level
from obitus.store.rows.known import CheckResult


class Issue(NamedTuple):
    """One issue; ``failures`` are those inside the window of a list, else all."""

    id: int
    app: str
    type: str
    cause: str
    place: str
    message: str
    entry_point: str
    state: State
    state_ms: int
    settled_in: str | None
    settled_ms: int | None
    first_ms: int
    last_ms: int
    first_seq: int
    last_seq: int
    failures_in_all: int
    from_older_releases: int
    only_counted: int
    """The number of failures that were only counted."""
    users: int
    app_id: int
    merged_into: int | None
    waits_for: str
    reopened: str
    """Why it reopened, where it was parked and nobody has decided since."""
    holder: str | None
    began_in: str | None
    latest_in: str | None
    failures: int


class IssueName(NamedTuple):
    """The title and the state of an issue."""

    id: int
    type: str
    cause: str
    place: str
    state: State
    began_in_id: int
    first_ms: int
    last_ms: int
    merged_into: int | None
    entry_point: str


class Sums(NamedTuple):
    """The totals of a list."""

    issues: int
    failures: int


class Fingerprint(NamedTuple):
    """A fingerprint that leads to an issue; ``parts`` are JSON."""

    fingerprint: str
    parts: str
    joined: str


class Change(NamedTuple):
    """An entry of an issue's history."""

    time_ms: int
    person: str | None
    from_state: State | None
    to_state: State
    reason: str
    failure_id: bytes | None


class Failure(NamedTuple):
    """One failure, without its evidence."""

    seq: int
    id: bytes
    issue_id: int
    time_ms: int
    received_ms: int
    severity: str
    handled: int
    message: str
    entry_point: str
    user_id: str | None
    trace_id: bytes | None
    verdict: str
    environment: str
    stands_for: int
    """Itself, and those like it that were only counted."""
    release: str
    app: str


class FailureName(NamedTuple):
    """A failure, and the title of its issue."""

    seq: int
    id: bytes
    issue_id: int
    time_ms: int
    app: str
    type: str
    cause: str
    place: str


class OnlyCounted(NamedTuple):
    """A kept failure, and how many of a user's failures that were only counted it represents."""

    seq: int
    issue_id: int
    time_ms: int
    entry_point: str
    app: str
    type: str
    failures: int


class Neighbours(NamedTuple):
    """The failures just before and just after one."""

    earlier: bytes | None
    later: bytes | None


class CameBack(NamedTuple):
    """A failure with which an issue regressed."""

    seq: int
    version: str


class SettledBy(NamedTuple):
    """A settling of an issue."""

    environment: str
    how: How
    release: str | None
    after: str | None
    time_ms: int


class WaitingSettling(NamedTuple):
    """A settling that waits for the coming release."""

    issue_id: int
    environment: str
    how: How
    release: str | None
    after: str | None
    time_ms: int


class Revealing(NamedTuple):
    """A revealed issue, or the one whose fix revealed it."""

    other: int
    entry_point: str
    reason: str


class SettledCandidate(NamedTuple):
    """A settled issue of an entry point."""

    id: int
    last_seq: int
    environment: str
    how: How
    release: str | None
    after: str | None
    time_ms: int


class IssueInUnit(NamedTuple):
    """Failures of an issue in an hour or a day."""

    issue_id: int
    unit: int
    failures: int


class CameBy(NamedTuple):
    """The fingerprint of a failure."""

    seq: int
    fingerprint: str


class IssueCount(NamedTuple):
    """The number of an issue's failures."""

    issue_id: int
    n: int


class IssueNow(NamedTuple):
    """An issue that failed lately."""

    id: int
    type: str
    cause: str
    place: str
    state: State
    first_ms: int
    entry_point: str
    app: str


class IssueBegun(NamedTuple):
    """An issue, and when it began."""

    id: int
    type: str
    cause: str
    place: str
    first_ms: int
    app: str


class DecidedThen(NamedTuple):
    """A change of an issue: of its state or its person, and why."""

    id: int
    issue_id: int
    time_ms: int
    reason: str
    app: str


class NamedCount(NamedTuple):
    """A name and its count."""

    name: str
    n: int


class Weighed(NamedTuple):
    """The facts of an issue's latest failure for its priority, and the priority set by a person."""

    id: int
    severity: str
    handled: int
    priority: Level | None
    priority_by: str | None


class SpreadTo(NamedTuple):
    """Where an issue was recently seen for the first time."""

    issue_id: int
    name: str


class WrittenThen(NamedTuple):
    """A note or a check, and its issue."""

    id: int
    issue_id: int
    time_ms: int
    looked_at: str
    found: CheckResult
    text: str
    person: str
    app: str
