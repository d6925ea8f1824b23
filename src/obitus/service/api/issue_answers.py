"""Models of answers about issues, their failures and decisions."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, Field

from obitus.core.priority import Level
from obitus.service.api.answers import AsKept, StateName, Time, WindowAnswer
from obitus.service.intake.formats import KeptFailure


class PartAnswer(BaseModel):
    """One part of a fingerprint."""

    kind: str
    value: str
    counted: bool
    reason: str


class FingerprintAnswer(BaseModel):
    """A fingerprint and its reasons."""

    fingerprint: str
    joined: str = Field(default="", description="Why it belongs to the issue, when it did not begin it.")
    parts: list[PartAnswer]


class PriorityAnswer(BaseModel):
    """The priority of an issue."""

    level: Level
    reason: str = Field(description="Why, in one line, the heaviest first.")
    said: bool = Field(description="Whether somebody said so.")


class ParkedAnswer(BaseModel):
    """The conditions of a parked issue."""

    said: str = Field(description="In words; '' where only a person reopens it.")
    so_far: str = Field(description="Progress of the condition, in words.")


class IssueRow(BaseModel):
    """An issue in a list."""

    number: int
    app: str
    title: str = Field(description="Type and place in one line.")
    type: str
    cause: str = Field(description="Type of the root cause, empty when it is the same.")
    place: str = Field(description="Where the fault is: module and function.")
    message: str = Field(description="Message of the latest failure.")
    entry_point: str
    state: StateName
    state_since: Time
    settled_in: str | None = Field(default=None, description="The release with the fix, where one was named or came.")
    first_seen: Time
    last_seen: Time
    began_in: str
    latest_in: str
    failures: int = Field(description="Failures inside the window and filter.")
    failures_in_all: int
    from_older_releases: int = Field(description="Failures from releases older than the one it was settled in.")
    merged_into: int | None = Field(default=None, description="The issue that it was merged into.")
    holder: str | None = Field(description="Who has it: takes care of it.")
    priority: PriorityAnswer
    waits_for: str = Field(description="Whom or what it waits for, in words.")
    parked: ParkedAnswer | None = Field(description="The conditions of its parking, where it is parked.")
    reopened: str = Field(description="Why it was reopened, where it was parked and nobody has decided on it since.")
    over_time: list[int] = Field(
        description="Failures per slice of the window, oldest first: at most 31, of so many whole hours each, beyond 14 days of whole days."
    )


class IssuesAnswer(BaseModel):
    """A page of issues."""

    window: WindowAnswer
    issues: list[IssueRow]
    issues_in_all: int = Field(description="Issues that match, over all pages.")
    failures_in_all: int = Field(description="Failures that match, over all pages.")
    next: str | None = Field(default=None, description="Give it as `cursor` to get the next page.")


class QuietAnswer(BaseModel):
    """Trouble without an exception: new, or more frequent than usual."""

    id: int
    app: str
    environment: str
    kind: Literal["refused", "warning", "silent"] = Field(
        description="`refused`: an entry point refuses more runs than usual; `warning`: records that warn are new or more than usual; `silent`: a job did not run."
    )
    subject: str = Field(description="The entry point or job, or what the records say, values left out.")
    reason: str = Field(description="Why it is reported, in words, with its numbers.")
    found: Time
    held: Time = Field(description="When it was last found to hold.")
    issue: int | None = Field(description="The issue that collects it, where there is one.")
    left_by: str | None = Field(description="Who said that it is nothing to act on.")
    records: Literal["run", "log"] = Field(description="What the question below is asked of.")
    question: str = Field(description="A question that finds its records.")


class DeskAnswer(BaseModel):
    """The desk: what needs a decision now."""

    window: WindowAnswer
    issues: int
    failures: int
    mine: list[IssueRow] = Field(
        description="Open issues that the asker has, whatever the window; failures are those of all time."
    )
    regressed: list[IssueRow] = Field(
        description="Issues that were settled and have failed again, and that nobody has."
    )
    reopened: list[IssueRow] = Field(
        description="Unassigned issues that were parked and have been reopened, whatever the window; failures are those of all time."
    )
    new: list[IssueRow] = Field(
        description="First seen inside the window; nobody has decided on them, and nobody has them."
    )
    quiet: list[QuietAnswer] = Field(description="Quiet failures now that nobody has decided on.")
    most_failures: list[IssueRow] = Field(
        description="Most failures inside the window, whatever their state but settled; not those above."
    )


class FailureRow(BaseModel):
    """A failure in a list."""

    id: str
    issue: int
    app: str
    environment: str
    release: str
    time: Time
    received: Time
    severity: str
    handled: bool
    message: str
    entry_point: str
    user: str | None = None
    trace_id: str | None = None
    verdict: str = Field(description="Its effect on the issue's state, if any.")
    represents: int = Field(
        description="Itself, and those like it that were only counted, since the issue failed so often at once."
    )


class FailuresAnswer(BaseModel):
    """A page of failures, latest first."""

    failures: list[FailureRow]
    next: str | None = None


class FailureAnswer(FailureRow):
    """One failure, whole."""

    earlier: str | None = Field(default=None, description="Id of the failure of the same issue just before.")
    later: str | None = Field(default=None, description="Id of the failure of the same issue just after.")
    report: Annotated[dict[str, Any], AsKept(KeptFailure)] | None = Field(
        description="The report as it was kept. Absent when it is no longer kept."
    )
    gone: str | None = Field(default=None, description="Why the report is no longer kept, in words.")


class ReleaseCount(BaseModel):
    """Failures of an issue in one release."""

    release: str
    first_report: Time | None = Field(description="When its first report arrived; absent when it was only announced.")
    failures: int
    environments: dict[str, int]


class HistoryEntry(BaseModel):
    """A change of state."""

    time: Time
    person: str | None = Field(default=None, description="Who decided; absent when a failure did it.")
    from_state: StateName | None = None
    to_state: StateName
    reason: str
    failure: str | None = Field(default=None, description="Id of the failure that caused it.")


class IssueAnswer(IssueRow):
    """One issue, whole. `failures` and `over_time` cover the window; everything else covers its whole existence."""

    what_failed: str = Field(description="One sentence: type, where, how often, for whom, since when.")
    users: int = Field(description="Users that its failures hit, since it began.")
    why: list[FingerprintAnswer] = Field(description="Why these failures are one issue.")
    collects: str | None = Field(
        default=None, description="What it collects, in words, where it was made of a quiet failure."
    )
    releases: list[ReleaseCount] = Field(
        description="Releases of the app in order, with this issue's failures: all that have some, and the newest. Rates are at `/since`."
    )
    history: list[HistoryEntry]
    latest: FailureAnswer
    first: FailureAnswer


class LikeAnswer(BaseModel):
    """An issue that may be the same fault."""

    number: int
    title: str
    state: StateName
    failures_in_all: int
    reason: str = Field(description="Similarities and differences, in words.")


class LikesAnswer(BaseModel):
    """The issues that may be the same fault as one, and those that people keep apart from it."""

    perhaps: list[LikeAnswer]
    never: list[int] = Field(description="Issues that are kept apart from it, because somebody said so.")
