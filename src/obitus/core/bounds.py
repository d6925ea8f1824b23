"""Bounds of reports: how long texts may be, and how many of each there may be; of the output beside a note, too. The
models that check reports use these numbers, and so do all makers of reports: the client, and the readers of
OpenTelemetry's exports and log files. Standard library only.
"""

from __future__ import annotations

from typing import Final

SHORT: Final = 300
"""Characters of names: of types, functions, modules, attributes, releases, entry points."""
MEDIUM: Final = 2_000
"""Characters of paths, routes and lines of code."""
LONG: Final = 20_000
"""Characters of messages and values."""
BODY: Final = 70_000
"""Characters of the text of a request's body."""
KEPT: Final = 8_000
"""Characters of a message or an address that our own makers of reports keep: fewer than allowed."""
SAID: Final = 1_000
"""Characters of an attribute that they keep."""
OUTPUT: Final = 20_000
"""Characters of a command's output beside a note on an issue."""

ATTRIBUTES: Final = 300
ATTRIBUTES_OF_A_STEP: Final = 100
SOURCE_LINES: Final = 20
STACK: Final = 32_768
BOXES: Final = 200
SKETCHES: Final = 8
DEBUG_IDS: Final = 48
"""Lines before or after the line of a frame."""
LOCALS: Final = 200
VALUES_OF_A_HIT: Final = 20
"""Bounds of one tracepoint."""
CALL_PARTS: Final = 20
"""Bounds of a call."""
PARAMETERS: Final = 30
"""Parameters of a function that a frame names."""
NOTES: Final = 50
DETAILS: Final = 20
FRAMES: Final = 1_000
EXCEPTIONS: Final = 50
STEPS: Final = 500
"""Of a trail."""
FAILURES_OF_A_RUN: Final = 50
COUNTED: Final = 1_000_000
"""Most failures that one report of counted failures may have."""
HEADERS: Final = 200
FIELDS: Final = 300
"""Of a form, of a query string, and its files."""
LINE: Final = 100_000_000
"""Number of a line or column."""
STATUS: Final = 999
DURATIONS_MS: Final = (1, 2, 5, 10, 25, 50, 100, 250, 500, 1000, 2500, 5000, 10_000, 30_000, 120_000)
"""Ends of the buckets that durations are counted in, in milliseconds."""
RUNS: Final = 1_000_000_000


def short(text: str) -> str:
    """Return a name cut to its bound."""
    return text[:SHORT]


def medium(text: str) -> str:
    """Return a path, a route or a line of code cut to its bound."""
    return text[:MEDIUM]


def long(text: str) -> str:
    """Return a message or a value cut to its bound."""
    return text[:LONG]


def kept(text: str) -> str:
    """Return a message or an address cut to what our own makers keep."""
    return text[:KEPT]


def said(text: str) -> str:
    """Return an attribute's text cut to what our own makers keep."""
    return text[:SAID]
