"""How long the texts of a report may be, and how many of each it may hold; what a command printed beside a note, too. Said here once.

The models that check reports take these numbers, and so does whoever makes reports: the client, what reads OpenTelemetry's
exports and log files. Standard library only.
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
"""Characters that our own makers of reports keep of a message or an address: less than they may."""
SAID: Final = 1_000
"""Characters that they keep of a text that they put into an attribute."""
OUTPUT: Final = 20_000
"""Characters of what a command printed, beside a note on an issue."""

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
"""What one tracepoint may ask for by name."""
CALL_PARTS: Final = 20
"""What may be said of a call."""
NOTES: Final = 50
DETAILS: Final = 20
FRAMES: Final = 1_000
EXCEPTIONS: Final = 50
STEPS: Final = 500
"""Of a trail."""
FAILURES_OF_A_RUN: Final = 50
COUNTED: Final = 1_000_000
"""Failures that one report may be of, where its sender only counted them."""
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
    """Return what of a name may stand in a report."""
    return text[:SHORT]


def medium(text: str) -> str:
    """Return what of a path, a route or a line of code may."""
    return text[:MEDIUM]


def long(text: str) -> str:
    """Return what of a message or a value may."""
    return text[:LONG]


def kept(text: str) -> str:
    """Return what we keep of a message or an address."""
    return text[:KEPT]


def said(text: str) -> str:
    """Return what we keep of a text in an attribute."""
    return text[:SAID]
