"""What all targets have: a batch is offered, and taken, in part or whole, or not now."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final, Literal, Protocol

PassedKind = Literal["failure", "log", "run", "issue", "alert"]
KINDS: Final[tuple[PassedKind, ...]] = ("failure", "log", "run", "issue", "alert")
Settings = Mapping[str, Any]


class PassingTrouble(Exception):
    """A target does not take a batch now. ``for_good`` where it will never take it; ``after_s`` is when it asks for another try."""

    def __init__(self, said: str, *, for_good: bool = False, after_s: float | None = None) -> None:
        super().__init__(said)
        self.for_good, self.after_s = for_good, after_s


@dataclass(frozen=True, slots=True)
class Taken:
    """What became of a batch that a target acknowledged."""

    refused: int = 0
    """Records of it that it will not have."""
    said: str = ""


class Taker(Protocol):
    """Gives batches to one target. Used by one thread."""

    def parts(self, batch: Sequence[dict[str, Any]]) -> Sequence[Sequence[dict[str, Any]]]:
        """Return a batch as it is handed over: each part is acknowledged, or tried again, for itself."""

    def take(self, batch: Sequence[dict[str, Any]]) -> Taken:
        """Hand a batch over and return once it is acknowledged; raises PassingTrouble."""

    def close(self) -> None:
        """Let go of files and connections."""
