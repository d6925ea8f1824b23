"""Rows of counts: failures and runs by release and hour."""

from __future__ import annotations

from typing import NamedTuple


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


class RateRegressionRow(NamedTuple):
    """A rate regression; ``against`` is JSON."""

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
    """Apps, releases and environments with reports since their rates were compared."""

    app_id: int
    release_id: int
    version: str
    environment: str
    batches: int


class RunsInRelease(NamedTuple):
    """Runs in a release and environment."""

    release_id: int
    environment: str
    runs: int


class CountInRelease(NamedTuple):
    """A count of a release."""

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


class OpenRateRegression(NamedTuple):
    """A rate regression that has not ended."""

    id: int
    issue_id: int
    entry_point: str
