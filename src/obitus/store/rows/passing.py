"""Rows of targets."""

from __future__ import annotations

from typing import Literal, NamedTuple

PassingKind = Literal["file", "syslog", "otlp", "webhook"]


class Target(NamedTuple):
    """A target."""

    id: int
    name: str
    kind: PassingKind
    settings: str
    secrets: bytes | None
    passes: str
    question: str
    hides: str
    events_to: int
    passed: int
    refused: int
    lost: int
    passed_ms: int | None
    trouble: str
    trouble_ms: int | None
    made_by: str
    created_ms: int


class PassedTo(NamedTuple):
    """A target's position in a day file."""

    day: int
    place: int
