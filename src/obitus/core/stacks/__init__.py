"""From the text of a stack trace to an exception chain. One module a language; each offers a ``Reader``.

Standard library only: the client uses this too, for programs that die without it.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Final

from obitus.core.frames import ChainLink
from obitus.core.stacks import dotnet, go, java, javascript, perl, php, python, ruby, rust


@dataclass(frozen=True, slots=True)
class FoundStack:
    """A stack trace found in text: its chain, its language, and which lines (from 0, end not included) it covers."""

    language: str
    chain: tuple[ChainLink, ...]
    first_line: int
    end_line: int


Reader = Callable[[Sequence[str]], list[tuple[list[ChainLink], int, int]]]
"""Given the lines of a text, returns each stack trace in it: its chain, its first line and the line after its last."""

READERS: Final[dict[str, Reader]] = {
    "python": python.read,
    "java": java.read,
    "csharp": dotnet.read,
    "javascript": javascript.read,
    "go": go.read,
    "ruby": ruby.read,
    "php": php.read,
    "rust": rust.read,
    "perl": perl.read,
}


def report_form(chain: Sequence[ChainLink]) -> list[dict[str, Any]]:
    """Return a chain as the ``exceptions`` of a report, within the format's bounds."""
    found = []
    for link in chain:
        part: dict[str, Any] = {"type": link.type[:300], "message": link.message[:8000]}
        if link.relation is not None:
            part["relation"] = link.relation
        part["frames"] = [
            {
                "function": frame.function[:300],
                "module": frame.module[:300],
                "file": frame.file[:2000],
                "line": frame.line,
                "own": frame.own,
            }
            for frame in link.frames
        ]
        found.append(part)
    return found


def find_stacks(text: str) -> list[FoundStack]:
    """Return every stack trace in ``text``, in order of their first lines. Never raises for bad input."""
    lines = text.splitlines()
    found = [
        FoundStack(language, tuple(chain), first, end)
        for language, read in READERS.items()
        for chain, first, end in read(lines)
    ]
    found.sort(key=lambda one: (one.first_line, -one.end_line))
    kept: list[FoundStack] = []
    for one in found:
        # Two languages may claim the same lines: the one that makes more of them has it.
        if kept and one.first_line < kept[-1].end_line:
            if _frames_of(one) > _frames_of(kept[-1]):
                kept[-1] = one
            continue
        kept.append(one)
    return kept


def _frames_of(found: FoundStack) -> int:
    return sum(len(link.frames) for link in found.chain)
