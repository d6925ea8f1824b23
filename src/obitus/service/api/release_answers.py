"""Models of answers about releases: deploys, rates, comparisons, since when, and whether a fix held."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

from obitus.service.api.answers import StateName, Time

KindName = Literal["new", "regressed", "worse", "gone", "better", "unchanged", "cannot tell"]
VerdictName = Literal["held", "too early to say", "still there but rarer", "regressed", "cannot tell"]


class IntervalAnswer(BaseModel):
    """A value with its interval of 95% confidence."""

    value: float
    low: float
    high: float | None = Field(description="Absent where it has no upper bound.")


class DeployAnswer(BaseModel):
    """The arrival of a release in an environment."""

    app: str
    release: str
    environment: str
    time: Time
    inferred: bool = Field(
        description="Whether it was taken from the release's first report, since nobody reported it."
    )
    canary: bool = Field(description="Whether it came beside the release that was live, not in its place.")
    reported_by: str = Field(description="Who reported it; empty for an inferred one.")


class DeploysAnswer(BaseModel):
    """Deploys inside a window, latest first."""

    deploys: list[DeployAnswer]


class ReleasePlace(BaseModel):
    """A release in one environment."""

    environment: str
    deployed: Time | None = Field(default=None, description="When it last arrived there.")
    inferred: bool = False
    canary: bool = False
    live: bool = Field(description="Whether it had runs in the last hour in which the app had any there.")
    runs: int
    failed: int = Field(description="Runs that failed.")
    failures: int
    rate: IntervalAnswer | None = Field(default=None, description="Failures per thousand runs.")
    clean: IntervalAnswer | None = Field(default=None, description="Clean-run share: runs that did not fail, over all.")
    first_run: Time | None = Field(default=None, description="Start of the first hour with runs.")
    last_run: Time | None = Field(default=None, description="Start of the last hour with runs.")


class ReleaseRow(BaseModel):
    """A release in the list."""

    release: str
    first_seen: Time | None = Field(default=None, description="When it first came; absent when it was only announced.")
    after: str | None = Field(default=None, description="The release that a person put it after.")
    revision: str = Field(description="The commit it was made of; empty when nobody said.")
    commits: int
    new_issues: int = Field(description="Issues first seen in it.")
    regressed: int = Field(description="Issues that regressed in it.")
    failing_more_often: int = Field(description="Rates that surely are higher since it.")
    places: list[ReleasePlace]


class ReleasesAnswer(BaseModel):
    """An app's releases, newest first, a page at a time."""

    app: str
    releases: list[ReleaseRow]
    releases_in_all: int
    next: str | None = None


class IssueRef(BaseModel):
    """An issue with its title."""

    number: int
    title: str
    state: StateName


class RateRegression(BaseModel):
    """A rate that is higher since a release."""

    release: str
    environment: str
    issue: IssueRef | None = Field(default=None, description="The issue; absent when it is an entry point's rate.")
    entry_point: str | None = None
    reason: str = Field(description="The numbers, in words.")
    factor: float
    chance: float = Field(description="How probable it is by chance.")
    sure: bool = Field(description="Whether it holds among all comparisons; else it is only *perhaps*.")
    found: Time


class CommitAnswer(BaseModel):
    """A commit."""

    id: str
    time: Time
    author: str
    subject: str
    files: int


class PointRate(BaseModel):
    """An entry point in one release."""

    entry_point: str
    runs: int
    failed: int
    refused: int
    clean: IntervalAnswer | None = None


class HourAnswer(BaseModel):
    """One hour of a release."""

    time: Time
    runs: int
    failed: int


class ReleaseAnswer(ReleaseRow):
    """One release, whole."""

    app: str
    previous: str | None = Field(default=None, description="The release before it in the order.")
    beside: str | None = Field(default=None, description="Another release that is live where this one is.")
    deploys: list[DeployAnswer]
    first_here: list[IssueRef] = Field(description="Issues first seen in it, the first hundred.")
    regressed_here: list[IssueRef] = Field(description="Issues that regressed in it.")
    rate_regressions: list[RateRegression]
    entry_points: list[PointRate] = Field(description="Its entry points, most failed runs first.")
    latest_commits: list[CommitAnswer]
    hours: list[HourAnswer] = Field(description="Runs by hour, the latest 336 hours with any.")


class Side(BaseModel):
    """One side of a comparison."""

    release: str
    runs: int
    failed: int
    failures: int
    rate: IntervalAnswer | None = None
    clean: IntervalAnswer | None = None


class ComparedSide(BaseModel):
    """The failures of one side."""

    failures: int
    runs: int
    rate: IntervalAnswer | None = None


class ComparedAnswer(BaseModel):
    """The result for an issue or an entry point."""

    kind: KindName
    reason: str
    issue: IssueRef | None = None
    entry_point: str | None = None
    before: ComparedSide
    now: ComparedSide
    factor: IntervalAnswer | None = Field(default=None, description="By what factor the rate changed.")
    chance: float | None = Field(default=None, description="How probable the change is by chance.")


class CompareAnswer(BaseModel):
    """Two releases compared by their rates."""

    app: str
    environment: str | None
    same_time: bool = Field(description="Whether only hours count in which both were live.")
    hours: int = Field(description="How many hours those are; 0 when all of their lives is compared.")
    before: Side
    now: Side
    sentence: str
    issues: list[ComparedAnswer]
    entry_points: list[ComparedAnswer]
    counts: dict[KindName, int] = Field(description="Issues of each kind.")
    false_share: float = Field(description="At most this share of those called worse or better is so by chance.")


class LaneEntry(BaseModel):
    """An issue in one release."""

    release: str
    failures: int
    runs: int = Field(description="Runs of the entry points on which the issue occurs.")
    rate: IntervalAnswer | None = None
    environments: dict[str, int] = Field(description="Failures by environment.")
    deployed: Time | None = Field(default=None, description="When it first arrived anywhere.")
    inferred: bool = False
    last_seen: Time | None = None
    has_fix: bool | None = Field(default=None, description="Whether it should have the fix, when the issue is settled.")
    fails_more_often: bool = False


class VerdictAnswer(BaseModel):
    """Whether a fix held."""

    verdict: VerdictName
    environment: str = Field(description="Where it was settled; empty for everywhere.")
    settled: str = Field(description="The choice when it was settled, in words.")
    reason: str
    confidence: float | None = None
    expected: float | None = Field(default=None, description="Failures that would be expected at the old rate.")
    failures: int = Field(description="Failures since, where the fix should be in.")
    runs: float = Field(description="Runs since (or hours, where no runs are counted).")
    ready: Time | None = Field(default=None, description="About when it can be said, at the traffic of late.")


class RevealedAnswer(BaseModel):
    """An issue revealed by another one's fix."""

    issue: IssueRef
    entry_point: str
    reason: str


class LikelyChangeAnswer(BaseModel):
    """A commit that likely caused a failure."""

    commit: CommitAnswer
    score: float = Field(description="How closely it touches the failing stack, from 0 to 1.")
    reasons: list[str]


class ChangesAnswer(BaseModel):
    """The likely changes of one release for one issue."""

    release: str
    what: str = Field(description="What happened in it: the issue began, or regressed.")
    commits_in_all: int
    note: str = Field(description="Why there is none, when there is none.")
    commits: list[LikelyChangeAnswer]


class SinceAnswer(BaseModel):
    """Since when an issue exists, whether its fix held, and which change likely caused it."""

    sentence: str
    lane: list[LaneEntry] = Field(description="Releases in order, oldest first.")
    verdicts: list[VerdictAnswer]
    revealed_by: RevealedAnswer | None = None
    revealed: list[RevealedAnswer] = Field(description="Issues that this one's fix revealed.")
    rate_regressions: list[RateRegression]
    changes: list[ChangesAnswer]
    releases: list[str] = Field(description="The app's releases, newest first, to settle in.")
