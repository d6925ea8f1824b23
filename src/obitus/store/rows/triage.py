"""Rows of decisions about issues: parking, undo, hand-over."""

from __future__ import annotations

from typing import NamedTuple

from obitus.core.lifecycle import State


class Parking(NamedTuple):
    """The conditions of a parked issue; any of these reopens it."""

    issue_id: int
    time_ms: int
    until_ms: int | None
    failures: int | None
    an_hour: int | None
    people: int | None
    another: str
    """JSON: which of release, environment and app."""
    newest: str | None
    failed: int
    """Failures since."""
    users_then: int
    users: int
    """Now."""
    app_id: int


class OwnerFile(NamedTuple):
    """The CODEOWNERS of an app."""

    app_id: int
    app: str
    body: str
    beneath: str
    person: str
    changed_ms: int


class OwnerName(NamedTuple):
    """The person for an owner's name."""

    owner: str
    person: str


class SettledThen(NamedTuple):
    """An issue that was settled once."""

    id: int
    app: str
    type: str
    cause: str
    place: str
    message: str
    entry_point: str
    state: State
    settled_ms: int
    first_ms: int
    failures: int


class ChangeThen(NamedTuple):
    """A change of an issue: it was new, it reopened, or somebody decided."""

    issue_id: int
    time_ms: int
    person: str | None
    from_state: State | None
    """None where it was new."""
    to_state: State
    reason: str
    app: str
    type: str
    cause: str
    place: str
