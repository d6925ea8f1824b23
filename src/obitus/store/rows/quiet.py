"""Rows of statements about quiet failures."""

from __future__ import annotations

from typing import NamedTuple

from obitus.core.quiet.finding import Kind


class PointInHours(NamedTuple):
    """Runs of an entry point, in the last hours or before them."""

    app_id: int
    environment: str
    entry_point: str
    recent: int
    runs: int
    refused: int


class WarnedInHours(NamedTuple):
    """Log records with one text, in the last hours or before them."""

    app_id: int
    environment: str
    said: str
    recent: int
    records: int


class WarnedInRelease(NamedTuple):
    """Log records with one text, in a release."""

    release_id: int
    environment: str
    said: str
    records: int


class ReleaseInHours(NamedTuple):
    """A release that ran in the last hours, in an environment."""

    release_id: int
    app_id: int
    version: str
    environment: str


class JobHour(NamedTuple):
    """An hour in which a job ran."""

    app_id: int
    environment: str
    entry_point: str
    hour: int


class QuietRow(NamedTuple):
    """A quiet failure."""

    id: int
    app_id: int
    app: str
    environment: str
    kind: Kind
    subject: str
    reason: str
    chance: float
    found_ms: int
    held_ms: int
    ended_ms: int | None
    left_ms: int | None
    left_by: str | None
    issue_id: int | None


class Collected(NamedTuple):
    """What an issue collects."""

    issue_id: int
    app_id: int
    app: str
    kind: Kind
    subject: str
    made_ms: int


class LookedTo(NamedTuple):
    """The position in a day's file."""

    day: int
    place: int
