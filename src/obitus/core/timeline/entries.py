"""Entries of a timeline."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Final, Literal

EntryKind = Literal[
    "run",
    "failure",
    "log",
    "http",
    "statement",
    "process",
    "input",
    "page",
    "mark",
    "deploy",
    "decision",
    "issue",
    "note",
]
KINDS: Final[tuple[EntryKind, ...]] = (
    "run", "failure", "log", "http", "statement", "process", "input", "page", "mark", "deploy", "decision", "issue", "note"
)  # fmt: skip


@dataclass(slots=True)
class Entry:
    """One entry: a run, a step of one, a log record, a failure; or around them a deploy, a decision, a note, a new issue."""

    key: str
    """Its unique key, independent of the order of arrival."""
    kind: EntryKind
    time_ms: float
    """When it began, Unix milliseconds by the clock of its host."""
    said: str
    """One line."""
    app: str = ""
    host: str = ""
    """The owner of its clock: a host, a container or an instance; the app where nothing else is known."""
    severity: str = "INFO"
    duration_ms: float | None = None
    parent: str = ""
    """The key of the step that contains or caused it; '' where neither is known."""
    waits: bool = True
    """Whether its parent waits for it: a queued job may end long after it."""
    run: str = ""
    trace: str = ""
    number: int | None = None
    """The number of its report, where it is a report."""
    data: dict[str, Any] = field(default_factory=dict)
    tellers: tuple[str, ...] = ()
    """The reports that contain it."""

    @property
    def end_ms(self) -> float:
        """When it ended, by its own clock."""
        return self.time_ms + max(0.0, self.duration_ms or 0.0)


@dataclass(frozen=True, slots=True)
class Correction:
    """The correction of one host's clock, and why."""

    host: str
    by_ms: float
    """The correction added to its times."""
    reason: str
    certain: bool = True
    """Whether with it all causes come before their effects."""
