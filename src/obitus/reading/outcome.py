"""Results of reading, and the pieces in which files are read."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Final

READ_BYTES: Final = 2 * 1024 * 1024
STEP_BYTES: Final = 256 * 1024
BLOCK_BYTES: Final = 8 * 1024 * 1024
"""Size of a block of a file; the runs of an access log are reported by block."""

Send = Callable[[dict[str, Any]], None]
"""Sends one report, or only counts it."""


def block_start(offset: int) -> int:
    """Return the offset of the 8 MB block that contains ``offset``; the block's first whole line begins there or
    after. Blocks depend neither on the size of the file, nor on where reading begins.
    """
    return max(0, offset - 1) // BLOCK_BYTES * BLOCK_BYTES


def block_end(offset: int) -> int:
    """Return the offset after which the block that begins at ``offset`` ends, with the end of its line."""
    return block_start(offset) + BLOCK_BYTES


@dataclass
class Outcome:
    """The result of reading."""

    files: int = 0
    lines: int = 0
    bytes: int = 0
    failures: int = 0
    records: int = 0
    """Log records, where lines are kept."""
    runs: int = 0
    runs_reported: int = 0
    compared: int = 0
    """Healthy runs that are reported whole, to compare with."""
    unreadable: int = 0
    cut_off: int = 0
    known_before: int = 0
    """Bytes that had been read before."""
    examples: list[str] = field(default_factory=list)
    issues: Counter[str] = field(default_factory=Counter)
    forms: dict[str, str] = field(default_factory=dict)
    outcomes: Counter[str] = field(default_factory=Counter)
