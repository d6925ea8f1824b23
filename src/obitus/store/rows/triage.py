"""The rows of what people decide about issues: until what one is parked, what can be taken back, to whom issues are handed."""

from __future__ import annotations

from typing import NamedTuple

from obitus.core.lifecycle import State


class Parking(NamedTuple):
    """Until what an issue is parked; any of these brings it back."""

    issue_id: int
    time_ms: int
    until_ms: int | None
    failures: int | None
    an_hour: int | None
    people: int | None
    another: str
    """JSON: in another of which."""
    newest: str | None
    failed: int
    """Failures since."""
    users_then: int
    users: int
    """Now."""
    app_id: int


class OwnerFile(NamedTuple):
    """Who owns which files of an app."""

    app_id: int
    app: str
    body: str
    beneath: str
    person: str
    changed_ms: int


class OwnerName(NamedTuple):
    """Who is meant by an owner's name."""

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
    """What became of an issue at a time: it came, it came back, or somebody decided on it."""

    issue_id: int
    time_ms: int
    person: str | None
    from_state: State | None
    """None where it came for the first time."""
    to_state: State
    reason: str
    app: str
    type: str
    cause: str
    place: str
