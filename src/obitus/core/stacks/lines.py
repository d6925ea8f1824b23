"""Shared by the readers of several languages: the place of a trace in a log line, and the bound of lines."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Final

from obitus.core.frames import ChainLink

MOST_LINE: Final = 5000
MOST_FRAMES: Final = 2000
MOST_MESSAGE_LINES: Final = 40

BEGINS_ANEW: Final = re.compile(
    r"panic: |fatal error: |thread '.{0,200}' .{0,40}panicked at|Exception in thread |(?:PHP )?(?:Fatal error: +)?Uncaught "
    r"|\S{1,500}\.rb:\d+:in |goroutine \d+ \[|Unhandled [eE]xception"
)
"""Beginnings of traces that are neither the rest of a message nor a part of the trace before."""
MOST_KNOWN: Final = 1024
"""Size of each language's cache of frame lines: a log has the same ones again and again."""

CAPITAL: Final = r"[^\W\d_a-z]"
"""The pattern of a letter that begins the name of a class: a capital, or any letter of another alphabet than A to Z."""

CUT_OFF: Final = "unknown (the text is cut off)"
"""The type where the text is cut off before it."""

FoundChains = list[tuple[list[ChainLink], int, int]]
"""Each stack trace: its chain from the outermost exception to the root cause, its first line, the line after its last."""


def cut(line: str) -> str:
    """Return a line cut to the bound within which every pattern is fast."""
    return line if len(line) <= MOST_LINE else line[:MOST_LINE]


def begins_with_at(line: str) -> bool:
    """Whether a line begins like frames of several languages: `` at …``. Patterns take ten times as long to fail."""
    return line.lstrip().startswith("at ")


def lies_in(name: str, packages: tuple[str, ...]) -> bool:
    """Whether a dotted name is in one of the packages, each of which ends with its dot."""
    return f"{name}.".startswith(packages)


def header_above(
    lines: Sequence[str], frame: int, floor: int, *patterns: re.Pattern[str]
) -> tuple[int, re.Match[str] | None]:
    """Find the line with the type above the first frame: a message may have several lines between them.

    Returns the frame's own line and None where there is none before an empty line, or ``floor``.
    """
    for i in range(frame - 1, max(floor, frame - MOST_MESSAGE_LINES) - 1, -1):
        line = cut(lines[i])
        match = next((found for pattern in patterns if (found := pattern.search(line)) is not None), None)
        if match is not None:
            return i, match
        if not line.strip():
            break
    return frame, None
