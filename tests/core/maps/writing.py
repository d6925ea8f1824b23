"""Writes source maps as a build does, sign by sign: the plain way that reading is compared with."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

ALPHABET = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/"
Segment = tuple[int, ...]
"""Column; or with source, line and column there, all from 0; or with a name too."""


def number(value: int) -> str:
    """Return one base64 VLQ number."""
    rest = (-value << 1) | 1 if value < 0 else value << 1
    text = ""
    while True:
        digit, rest = rest & 31, rest >> 5
        text += ALPHABET[digit | (32 if rest else 0)]
        if not rest:
            return text


def mappings(lines: Sequence[Sequence[Segment]]) -> str:
    """Return the mappings of lines of segments."""
    before = [0, 0, 0, 0, 0]
    written = []
    for line in lines:
        before[0] = 0
        parts = []
        for segment in line:
            parts.append("".join(number(value - before[at]) for at, value in enumerate(segment)))
            before[: len(segment)] = segment
        written.append(",".join(parts))
    return ";".join(written)


def map_of(
    lines: Sequence[Sequence[Segment]], sources: Sequence[str | None] = ("a.ts",), **more: Any
) -> dict[str, Any]:
    """Return a map."""
    return {"version": 3, "sources": list(sources), "names": [], "mappings": mappings(lines)} | more
