"""What the readers of several languages share: where a trace stands in a log line, and how long lines may be."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final

from obitus.core.frames import ChainLink

MOST_LINE: Final = 5000
MOST_FRAMES: Final = 2000
MOST_MESSAGE_LINES: Final = 40

Found = list[tuple[list[ChainLink], int, int]]
"""Each stack trace: its chain from the outermost exception to the root cause, its first line, the line after its last."""


def cut(line: str) -> str:
    """Return a line within the bound that every pattern is safe with."""
    return line if len(line) <= MOST_LINE else line[:MOST_LINE]


def starts_any(name: str, prefixes: Sequence[str]) -> bool:
    """Whether a dotted name lies in one of the packages."""
    return any(name == prefix or name.startswith(prefix + ".") for prefix in prefixes)
