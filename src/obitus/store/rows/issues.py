"""Rows of issues and their failures: what one is, where it stands, what became of it."""

from __future__ import annotations

from typing import NamedTuple

from obitus.core.lifecycle import How, State
from obitus.core.priority import Level
from obitus.store.rows.known import Found


class Issue(NamedTuple):
    """One issue; ``failures`` are those inside the window of the list that it stands in, else all."""

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
    """Of all failures, those that were not kept whole."""
    users: int
    app_id: int
    merged_into: int | None
    waits_for: str
    reopened: str
    """Why it came back, where it was parked and nobody has decided on it since."""
    holder: str | None
    began_in: str | None
    latest_in: str | None
    failures: int


class IssueName(NamedTuple):
    """What names an issue, and where it stands."""

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
    """What a list has in all."""

    issues: int
    failures: int


class Fingerprint(NamedTuple):
    """A fingerprint that leads to an issue; ``parts`` are JSON."""

    fingerprint: str
    parts: str
    joined: str


class Change(NamedTuple):
    """A change of an issue's state, or something that was done with it."""

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
    """A failure, and what its issue is called."""

    seq: int
    id: bytes
    issue_id: int
    time_ms: int
    app: str
    type: str
    cause: str
    place: str


class OnlyCounted(NamedTuple):
    """A failure that was kept, and how many of somebody's it stands for that were only counted."""

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
    """A failure that an issue regressed with."""

    seq: int
    version: str


class SettledBy(NamedTuple):
    """What an issue was settled by."""

    environment: str
    how: How
    release: str | None
    after: str | None
    time_ms: int


class WaitingSettling(NamedTuple):
    """What an issue was settled by that waits for the coming release."""

    issue_id: int
    environment: str
    how: How
    release: str | None
    after: str | None
    time_ms: int


class Revealing(NamedTuple):
    """An issue that another one's fix revealed, or that one."""

    other: int
    entry_point: str
    reason: str


class SettledCandidate(NamedTuple):
    """A settled issue that was met on an entry point."""

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
    """The fingerprint that a failure came by."""

    seq: int
    fingerprint: str


class IssueCount(NamedTuple):
    """How many failures of an issue."""

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
    """What became of an issue: its state, or who has it, and why."""

    id: int
    issue_id: int
    time_ms: int
    reason: str
    app: str


class NamedCount(NamedTuple):
    """How many there are of a name."""

    name: str
    n: int


class Weighed(NamedTuple):
    """What of an issue's latest failure counts for its priority, and what somebody said of that."""

    id: int
    severity: str
    handled: int
    priority: Level | None
    priority_by: str | None


class SpreadTo(NamedTuple):
    """Where an issue was met for the first time of late."""

    issue_id: int
    name: str


class WrittenThen(NamedTuple):
    """A note or a check that was written, and on which issue."""

    id: int
    issue_id: int
    time_ms: int
    looked_at: str
    found: Found
    text: str
    person: str
    app: str
