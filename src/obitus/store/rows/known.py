"""Rows of saved questions, boards, notes and checklists."""

from __future__ import annotations

from typing import Literal, NamedTuple

CheckResult = Literal["", "ruled out", "suspicious", "unclear"]
"""The result of a check; '' for a note."""


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


class Note(NamedTuple):
    """A note or a check on an issue."""

    id: int
    issue_id: int
    person: str
    time_ms: int
    looked_at: str
    found: CheckResult
    text: str
    output: str
    version: int
    changed_ms: int | None


class NoteVersion(NamedTuple):
    """An earlier text of a note."""

    version: int
    person: str
    time_ms: int
    looked_at: str
    found: CheckResult
    text: str


class Attachment(NamedTuple):
    """An attachment of an issue, without its content."""

    id: int
    issue_id: int
    person: str
    time_ms: int
    name: str
    type: str
    bytes: int


class AttachedBody(NamedTuple):
    """The content of an attachment."""

    name: str
    body: bytes


class CheckList(NamedTuple):
    """A checklist."""

    id: int
    app: str | None
    name: str
    items: str
    version: int
    person: str
    changed_ms: int


class LinkPattern(NamedTuple):
    """A pattern of tickets, and their address."""

    id: int
    pattern: str
    address: str
