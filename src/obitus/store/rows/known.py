"""Rows of what people wrote and put together: saved questions, boards, notes, lists."""

from __future__ import annotations

from typing import Literal, NamedTuple

Found = Literal["", "ruled out", "suspicious", "unclear"]
"""What a check came to; '' for a note."""


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
