"""The interface of all targets: a batch is accepted, in part or whole, or not now."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final, Literal, Protocol

PassedKind = Literal["failure", "log", "run", "issue", "alert"]
KINDS: Final[tuple[PassedKind, ...]] = ("failure", "log", "run", "issue", "alert")
Settings = Mapping[str, Any]


class PassingTrouble(Exception):
    """A target does not accept a batch now. ``for_good`` where it never will; ``after_s`` is its ``Retry-After``."""

    def __init__(self, said: str, *, for_good: bool = False, after_s: float | None = None) -> None:
        super().__init__(said)
        self.for_good, self.after_s = for_good, after_s


@dataclass(frozen=True, slots=True)
class Taken:
    """The result of a batch that a target acknowledged."""

    refused: int = 0
    """Records of it that the target refused."""
    said: str = ""


class Taker(Protocol):
    """Sends batches to one target. Used by one thread."""

    def parts(self, batch: Sequence[dict[str, Any]]) -> Sequence[Sequence[dict[str, Any]]]:
        """Return a batch in parts: each part is acknowledged, or tried again, separately."""

    def take(self, batch: Sequence[dict[str, Any]]) -> Taken:
        """Send a batch and return once it is acknowledged; raises PassingTrouble."""

    def close(self) -> None:
        """Close files and connections."""
