"""What stands on a timeline."""

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
    """One thing that happened: a run, a step of one, a log record, a failure; or around them a deploy, a decision, a note, an issue that began."""

    key: str
    """What tells it from all others, whenever and in whatever order they came."""
    kind: EntryKind
    time_ms: float
    """When it began, Unix milliseconds by the clock of its host."""
    said: str
    """One line."""
    app: str = ""
    host: str = ""
    """Whose clock it was timed by: a host, a container or an instance; the app where that is all that is known."""
    severity: str = "INFO"
    duration_ms: float | None = None
    parent: str = ""
    """The key of the step that contains or caused it; '' where neither is known."""
    waits: bool = True
    """Whether its parent waits for it: what a queue hands over may end long after that."""
    run: str = ""
    trace: str = ""
    number: int | None = None
    """The number of its report, where it is one."""
    data: dict[str, Any] = field(default_factory=dict)
    tellers: tuple[str, ...] = ()
    """Which reports hold it."""

    @property
    def end_ms(self) -> float:
        """When it ended, by its own clock."""
        return self.time_ms + max(0.0, self.duration_ms or 0.0)


@dataclass(frozen=True, slots=True)
class Correction:
    """How the clock of one host was brought together with the others, and why."""

    host: str
    by_ms: float
    """What is added to its times."""
    reason: str
    certain: bool = True
    """Whether all causes came before their effects with it."""
