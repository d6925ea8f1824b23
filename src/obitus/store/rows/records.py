"""Rows of reports in the files of the days; and of events."""

from __future__ import annotations

from typing import NamedTuple


class Day(NamedTuple):
    """A day with reports."""

    day: int
    last_place: int
    reports: int
    earliest_ms: int
    latest_ms: int


class GrowingTally(NamedTuple):
    """A stored tally that may grow."""

    release_id: int
    environment: str
    time_ms: int
    runs: int


class Bounds(NamedTuple):
    """When the earliest and the latest failure of all happened."""

    earliest_ms: int | None
    latest_ms: int | None


class EventRow(NamedTuple):
    """An event; ``subject`` is JSON."""

    id: int
    time_ms: int
    kind: str
    subject: str


class RemovedDay(NamedTuple):
    """Whether and why a day was removed."""

    removed_ms: int | None
    removed_why: str | None


class Dictionary(NamedTuple):
    """A dictionary for compressing evidence."""

    id: int
    body: bytes


class PackedReport(NamedTuple):
    """A report in the file of its day."""

    place: int
    body: bytes
    dictionary_id: int | None


class BodyOfReport(NamedTuple):
    """The same, with its kind and app."""

    place: int
    app_id: int
    kind: str
    body: bytes
    dictionary_id: int | None


class IdOfReport(NamedTuple):
    """The id of a report."""

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
    """A log record in the file of its day: numbers of texts, and values that do not repeat."""

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


class FailureInDay(NamedTuple):
    """A failure in the file of its day."""

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
    """A whole run in the file of its day."""

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
