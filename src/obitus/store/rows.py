"""What readings of the store return: one type for each sort of row. Its fields are the columns of the statement, in their order.

``Reader.all``, ``first`` and ``only`` are given the type, and refuse a statement whose columns are others. Times end in ``_ms``
(Unix, milliseconds), hours and days are counted from 1970.
"""

from __future__ import annotations

from typing import Literal, NamedTuple

from obitus.core.calls import CallKind
from obitus.core.lifecycle import How, State
from obitus.core.priority import Level
from obitus.core.severity import SeverityName

Scope = Literal["read", "decide", "administer"]
"""What a session or token may do."""
Found = Literal["", "ruled out", "suspicious", "unclear"]
"""What a check came to; '' for a note."""
Role = Literal["owner", "member", "reader"]
"""What somebody may do: everything; decide about issues; read."""


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


class App(NamedTuple):
    """One app."""

    id: int
    name: str
    kind: str
    created_ms: int
    first_report_ms: int | None
    last_report_ms: int | None


class Key(NamedTuple):
    """A reporting key, as it is listed."""

    id: int
    app_id: int
    environment: str
    hint: str
    created_ms: int
    revoked_ms: int | None
    may_add_apps: int
    may_deploy: int


class KnownKey(NamedTuple):
    """A reporting key, as somebody reports with it."""

    id: int
    app_id: int
    environment: str
    revoked_ms: int | None
    may_add_apps: int
    may_deploy: int
    app: str


class AppRelease(NamedTuple):
    """A release and its app."""

    id: int
    version: str
    first_ms: int
    app: str
    app_id: int


class Release(NamedTuple):
    """A release of an app, with how many of its commits are known."""

    id: int
    version: str
    first_ms: int
    revision: str
    behind: str | None
    commits: int


class PlacedRelease(NamedTuple):
    """What the order of releases is made of."""

    version: str
    first_ms: int
    behind: str | None


class Deploy(NamedTuple):
    """An arrival of a release in an environment."""

    release_id: int
    version: str
    environment: str
    time_ms: int
    inferred: int
    canary: int
    reported_by: str


class ListedDeploy(NamedTuple):
    """The same, with its app."""

    version: str
    app: str
    environment: str
    time_ms: int
    inferred: int
    canary: int
    reported_by: str


class CommitLine(NamedTuple):
    """A commit, as it is listed."""

    hash: str
    time_ms: int
    author: str
    subject: str
    files: int


class IssueInRelease(NamedTuple):
    """Failures of an issue in a release and environment."""

    release_id: int
    version: str
    environment: str
    failures: int
    first_ms: int
    last_ms: int


class ReleaseSums(NamedTuple):
    """Runs and failures of a release in an environment, with the first and last hour in which there were runs."""

    release_id: int
    environment: str
    runs: int
    failed: int
    failures: int
    first_hour: int | None
    last_hour: int | None


class IssueAtPoint(NamedTuple):
    """Failures of an issue in a release, on an entry point."""

    issue_id: int
    release_id: int
    entry_point: str
    failures: int


class PointInRelease(NamedTuple):
    """Runs of an entry point in a release."""

    entry_point: str
    release_id: int
    runs: int
    failed: int
    refused: int


class HourOfRelease(NamedTuple):
    """Runs of a release in an hour."""

    hour: int
    runs: int
    failed: int


class IssueInHours(NamedTuple):
    """Failures of an issue in a release, in some hours."""

    issue_id: int
    release_id: int
    failures: int


class RateStep(NamedTuple):
    """A rate that stepped up with a release; ``against`` is JSON."""

    id: int
    issue_id: int
    entry_point: str
    environment: str
    against: str
    before_failures: int
    before_runs: int
    failures: int
    runs: int
    chance: float
    sure: int
    reason: str
    found_ms: int
    ended_ms: int | None
    version: str


class DueRate(NamedTuple):
    """From where reports came since the rates were looked at."""

    app_id: int
    release_id: int
    version: str
    environment: str
    batches: int


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


class Rule(NamedTuple):
    """A rule of the team that is active."""

    id: int
    rule: str
    person: str
    created_ms: int


class BrokenOff(NamedTuple):
    """A regrouping that was broken off."""

    id: int
    person_id: int


class Regrouping(NamedTuple):
    """A merge, a split or a regrouping."""

    id: int
    kind: str
    said: str
    person: str
    created_ms: int
    state: str
    moved: int
    total: int
    ended_ms: int | None


class FailureToRegroup(NamedTuple):
    """A failure of an app, as it is looked at again."""

    seq: int
    issue_id: int
    environment: str


class FailureOfIssue(NamedTuple):
    """A failure of an issue, as it is split."""

    seq: int
    environment: str


class FingerprintToLead(NamedTuple):
    """A fingerprint and where it leads; ``apart_by`` is JSON."""

    app_id: int
    fingerprint: str
    issue_id: int
    apart_by: str | None


class Moved(NamedTuple):
    """A failure that a regrouping moved."""

    seq: int
    from_issue: int
    to_issue: int


class PersonWithPassword(NamedTuple):
    """A person, and what their sign-in is checked with."""

    id: int
    name: str
    password: str | None
    code_secret: str | None
    code_step: int


class Somebody(NamedTuple):
    """One of the people, as others see them."""

    id: int
    name: str
    role: Role
    created_ms: int
    has_password: int
    has_codes: int
    subject: str | None
    used_ms: int | None
    apps: str


class Invitation(NamedTuple):
    """An invitation that is open."""

    id: str
    label: str
    role: Role
    apps: str
    made_by: str
    created_ms: int
    expires_ms: int


class UsedInvitation(NamedTuple):
    """What somebody was invited to."""

    id: str
    label: str
    role: Role
    apps: str


class Pass(NamedTuple):
    """A session or a personal token, without its secret."""

    id: str
    label: str
    created_ms: int
    expires_ms: int | None
    used_ms: int | None
    scope: str
    by_link: int
    apps: str


class Act(NamedTuple):
    """Something that somebody did."""

    id: int
    time_ms: int
    act: str
    subject: str
    person: str | None


class Day(NamedTuple):
    """A day of which something was reported."""

    day: int
    last_place: int
    reports: int
    earliest_ms: int
    latest_ms: int


class Named(NamedTuple):
    """What has a number is called this."""

    id: int
    name: str


class Version(NamedTuple):
    """A release, by its number."""

    id: int
    version: str


class Revision(NamedTuple):
    """The commit that a release was made of."""

    version: str
    revision: str


class KnownRelease(NamedTuple):
    """A release of an app, as a report or a person names it."""

    id: int
    version: str
    first_ms: int
    removed_ms: int | None


class KnownDeploy(NamedTuple):
    """The first arrival of a release in an environment."""

    id: int
    time_ms: int
    inferred: int


class KnownCommit(NamedTuple):
    """A commit of a release."""

    id: int
    hash: str
    time_ms: int
    author: str
    subject: str


class CommitFile(NamedTuple):
    """A file that a commit touched; ``ranges`` and ``names`` are JSON."""

    commit_id: int
    path: str
    ranges: str
    names: str


class CommitLibrary(NamedTuple):
    """A library whose version a commit changed."""

    commit_id: int
    name: str
    before: str
    after: str


class RunsInRelease(NamedTuple):
    """Runs in a release and environment."""

    release_id: int
    environment: str
    runs: int


class CountInRelease(NamedTuple):
    """How many of something a release brought."""

    release_id: int
    n: int


class RunsInHour(NamedTuple):
    """Runs in an hour."""

    hour: int
    runs: int


class FailuresInHour(NamedTuple):
    """Failures in an hour."""

    hour: int
    failures: int


class StandingStep(NamedTuple):
    """A rate that stands as stepped up."""

    id: int
    issue_id: int
    entry_point: str


class GrowingTally(NamedTuple):
    """A tally that is there and may grow."""

    release_id: int
    environment: str
    time_ms: int
    runs: int


class IssueInUnit(NamedTuple):
    """Failures of an issue in an hour or a day."""

    issue_id: int
    unit: int
    failures: int


class Bounds(NamedTuple):
    """When the earliest and the latest failure of all happened."""

    earliest_ms: int | None
    latest_ms: int | None


class CameBy(NamedTuple):
    """The fingerprint that a failure came by."""

    seq: int
    fingerprint: str


class KnownTraits(NamedTuple):
    """A known fingerprint, with what it is compared by as JSON."""

    fingerprint: str
    issue_id: int
    traits: str


class AppTraits(NamedTuple):
    """What a fingerprint of an app is compared by, as JSON."""

    app_id: int
    traits: str


class NeverPair(NamedTuple):
    """Two issues that are kept apart, the lower number first."""

    issue_id: int
    other_id: int


class LedFingerprint(NamedTuple):
    """What a regrouping did to a fingerprint; ``from_issue`` is None where it made it."""

    app_id: int
    fingerprint: str
    from_issue: int | None
    to_issue: int
    apart_before: str | None


class EventRow(NamedTuple):
    """An event; ``subject`` is JSON."""

    id: int
    time_ms: int
    kind: str
    subject: str


class PersonWithPass(NamedTuple):
    """Who holds a pass, and which."""

    id: int
    name: str
    role: Role
    has_password: int
    has_codes: int
    pass_id: str
    scope: Scope
    created_ms: int
    used_ms: int | None
    by_link: int
    apps: str | None
    hidden: str


class RemovedDay(NamedTuple):
    """Whether and why a day was removed."""

    removed_ms: int | None
    removed_why: str | None


class Dictionary(NamedTuple):
    """What evidence is packed with."""

    id: int
    body: bytes


class PackedReport(NamedTuple):
    """A report as it lies in the file of its day."""

    place: int
    body: bytes
    dictionary_id: int | None


class IdOfReport(NamedTuple):
    """The id that a report came with."""

    place: int
    id: bytes


class ReportOfDay(NamedTuple):
    """A report of a day, by its id."""

    id: bytes
    place: int


class Place(NamedTuple):
    """A place in the file of a day."""

    place: int


class LogRow(NamedTuple):
    """A log record, as it lies in the file of its day: numbers of texts, and what does not repeat."""

    place: int
    time_ms: int
    late_ms: int
    app_id: int
    release_id: int
    environment_id: int
    severity: int
    logger_id: int
    template_id: int
    message_id: int
    message: str | None
    filled: str | None
    trace_id: bytes | None
    span_id: bytes | None
    run_id: bytes | None
    entry_point_id: int
    shared: bytes | None
    attributes: str | None
    rest: str | None


class RunsInSlot(NamedTuple):
    """Runs in a slot of time."""

    slot: int
    runs: int
    failed: int


class RunsAlike(NamedTuple):
    """Runs of an entry point that ended alike and took about as long."""

    app: str
    entry_point: str
    outcome: str
    status: int
    below_ms: float
    runs: int


class RunsWhole(NamedTuple):
    """Runs of an entry point that ended alike, and those of them that were sent whole."""

    app: str
    entry_point: str
    outcome: str
    runs: int
    whole: int
    whole_ms: float


class CallsAlike(NamedTuple):
    """Calls to one target from runs that ended alike, which took about as long."""

    app: str
    entry_point: str
    outcome: str
    kind: CallKind
    target: str
    below_ms: float
    calls: int
    failed: int
    spent_ms: float


class LinkedRuns(NamedTuple):
    """Runs of one app that another called, which took about as long."""

    caller: str
    app: str
    below_ms: float
    runs: int
    failed: int


class AnswersAt(NamedTuple):
    """The app that answers at a name."""

    kind: CallKind
    name: str
    app: str
    runs: int


class FailuresInSlot(NamedTuple):
    """Failures in a slot of time."""

    slot: int
    failures: int


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


class FailureInDay(NamedTuple):
    """A failure, as far as the file of its day is asked for it."""

    place: int
    time_ms: int
    late_ms: int
    app_id: int
    release_id: int
    environment_id: int
    severity: int
    handled: str
    type_id: int
    message: str
    entry_point_id: int
    trace_id: bytes | None
    run_id: bytes | None
    shared: bytes | None
    attributes: str | None


class RunRow(NamedTuple):
    """A whole run, as far as the file of its day is asked for it."""

    place: int
    time_ms: int
    late_ms: int
    app_id: int
    release_id: int
    environment_id: int
    entry_point_id: int
    outcome: str
    status: int | None
    duration_ms: float | None
    request: str
    kept_id: int
    trace_id: bytes | None
    run_id: bytes | None
    shared: bytes | None
    attributes: str | None


DayRow = LogRow | FailureInDay | RunRow


class SavedQuestion(NamedTuple):
    """A question with a name."""

    id: int
    name: str
    for_all: int
    view: str
    changed_ms: int
    person_id: int
    person: str


class BoardRow(NamedTuple):
    """A board."""

    id: int
    name: str
    panes: str
    revision: int
    changed_ms: int
    person: str | None


class LogOrder(NamedTuple):
    """From which severity a logger sends for a while."""

    id: int
    app_id: int
    environment: str
    logger: str
    severity: SeverityName
    made_ms: int
    until_ms: int
    person: str


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


class Note(NamedTuple):
    """A note or a check on an issue."""

    id: int
    issue_id: int
    person: str
    time_ms: int
    looked_at: str
    found: Found
    text: str
    output: str
    version: int
    changed_ms: int | None


class NoteVersion(NamedTuple):
    """What a note said before."""

    version: int
    person: str
    time_ms: int
    looked_at: str
    found: Found
    text: str


class Attachment(NamedTuple):
    """A file that was put to an issue, without what it holds."""

    id: int
    issue_id: int
    person: str
    time_ms: int
    name: str
    type: str
    bytes: int


class AttachedBody(NamedTuple):
    """What an attachment holds."""

    name: str
    body: bytes


class CheckList(NamedTuple):
    """What is looked at when something is wrong."""

    id: int
    app: str | None
    name: str
    items: str
    version: int
    person: str
    changed_ms: int


class LinkPattern(NamedTuple):
    """How the team writes of tickets, and where they are."""

    id: int
    pattern: str
    address: str


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
