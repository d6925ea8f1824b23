"""Writes source maps as a build does, character by character: the plain way that reading is compared with."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

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


Place = tuple[int, int]


class Scope(NamedTuple):
    """A scope of a source: from and up to a place (both from 0), whether it is a function, and what is inside it."""

    begins: Place
    ends: Place
    name: str | None
    is_function: bool
    inner: Sequence[Scope]


def _unsigned(value: int) -> str:
    text = ""
    while True:
        digit, value = value & 31, value >> 5
        text += ALPHABET[digit | (32 if value else 0)]
        if not value:
            return text


def scopes_of(sources: Sequence[Scope | None]) -> tuple[str, list[str]]:
    """Return the scopes of sources as a map says them, and the names that they count on."""
    names: list[str] = []
    items: list[str] = []
    last_name = 0

    def place(now: Place, before: Place) -> str:
        moved = now[0] - before[0]
        return _unsigned(moved) + _unsigned(now[1] if moved else now[1] - before[1])

    def write(scope: Scope, at: Place) -> Place:
        nonlocal last_name
        flags = (1 if scope.name is not None else 0) | (4 if scope.is_function else 0)
        item = "B" + _unsigned(flags) + place(scope.begins, at)
        if scope.name is not None:
            if scope.name not in names:
                names.append(scope.name)
            item += number(names.index(scope.name) - last_name)
            last_name = names.index(scope.name)
        items.append(item)
        at = scope.begins
        for one in scope.inner:
            at = write(one, at)
        items.append("C" + place(scope.ends, at))
        return scope.ends

    for scope in sources:
        if scope is None:
            items.append("")
        else:
            write(scope, (0, 0))
    return ",".join(items), names
