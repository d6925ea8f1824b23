"""What was read, what becomes of it, and in which pieces."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Final

BLOCK_BYTES: Final = 2 * 1024 * 1024
STEP_BYTES: Final = 256 * 1024
PART_BYTES: Final = 8 * 1024 * 1024
"""Parts of a file that are read for themselves; of an access log, also what is reported as one."""

Send = Callable[[dict[str, Any]], None]
"""Sends one report, or only counts it."""


def part_begin(place: int) -> int:
    """Return the place at which, or behind which with the end of its line, the part begins that ends or goes on at a place.

    Parts depend neither on how large the file is by now, nor on where reading begins.
    """
    return max(0, place - 1) // PART_BYTES * PART_BYTES


def part_end(place: int) -> int:
    """Return the place behind which, with the end of its line, the part ends that begins at a place."""
    return part_begin(place) + PART_BYTES


@dataclass
class Outcome:
    """What was read, and what became of it."""

    files: int = 0
    lines: int = 0
    bytes: int = 0
    failures: int = 0
    records: int = 0
    """Log records, where lines are kept."""
    runs: int = 0
    runs_reported: int = 0
    compared: int = 0
    """Runs that went well and are reported whole, to compare with."""
    unreadable: int = 0
    cut_off: int = 0
    known_before: int = 0
    """Bytes that an earlier reading had read already."""
    examples: list[str] = field(default_factory=list)
    issues: Counter[str] = field(default_factory=Counter)
    forms: dict[str, str] = field(default_factory=dict)
    outcomes: Counter[str] = field(default_factory=Counter)
