"""From the text of a stack trace to an exception chain. One module a language; each offers a ``Reader``.

Standard library only: the client uses this too, for programs that do not report themselves.
"""

from __future__ import annotations

import json
import re
from bisect import bisect_left, bisect_right
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cache
from importlib import import_module
from itertools import accumulate
from typing import Any, Final, NamedTuple

from obitus.core.bounds import kept, medium, short
from obitus.core.frames import ChainLink
from obitus.core.stacks.lines import CUT_OFF, MOST_LINE
from obitus.core.stacks.prefixes import streams

MOST_WRAPPED: Final = 1_000_000
MOST_STRINGS: Final = 50
# Collectors of container output, and some logging libraries, wrap each line.
_ONE_LINE = re.compile(r'[{,] *"(?:log|message|msg|line)" *: *"((?:[^"\\]|\\.)*+)"')
_LINE_END = re.compile(r'(?<!\\)(?:\\\\)*+\\n(?!")')
_COLOURS = re.compile(r"\x1b\[[0-9;]{0,20}m")
_QUOTED = re.compile(r'"((?:[^"\\]|\\.)*)"')
_NAMELESS: Final = (CUT_OFF, "goroutine")
_ESCAPED = re.compile(r'\\([nrt"\\])')
_MEANT: Final = {"n": "\n", "r": "", "t": "\t", '"': '"', "\\": "\\"}
_WRAPPED_FRAME = re.compile(
    r"\\n(?:\\t|\s)*+(?:at |File |from |#\d|goroutine |/[^\s\\:]{1,300}\.go:\d|[^\s\\@]{1,300}+@|\d+: |[^\s\\]{1,300}?:\d+:in )|Traceback|called at|goroutine \d+ \[|panicked at"
)


@dataclass(frozen=True, slots=True)
class FoundStack:
    """A stack trace found in text: its chain, its language, and which lines (from 0, end not included) it covers."""

    language: str
    chain: tuple[ChainLink, ...]
    first_line: int
    end_line: int


Reader = Callable[[Sequence[str]], list[tuple[list[ChainLink], int, int]]]
"""Given the lines of a text, returns each stack trace in it: its chain, its first line and the line after its last."""


AT: Final = "\nat "


class Language(NamedTuple):
    """How traces of a language are found: the module that reads them, and texts of which every trace contains one."""

    module: str
    words: tuple[str, ...]
    """Without the indents of lines."""


LANGUAGES: Final = {
    "python": Language("python", ("Traceback (most", '\nFile "', "Fatal Python error: ")),
    "java": Language("java", (AT,)),
    "csharp": Language("dotnet", (AT,)),
    "javascript": Language("javascript", (AT, "@")),
    "go": Language("go", ("\ngoroutine ", ".go:")),
    "ruby": Language("ruby", (":in ",)),
    "php": Language("php", ("Stack trace:", "[stacktrace]")),
    "rust": Language("rust", ("panicked at",)),
    "perl": Language("perl", (" called at ",)),
    "dart": Language("dart", ("(dart:", ".dart:", ".dart ")),
}


_IN_EVERY_TRACE: Final = tuple(
    dict.fromkeys(word.strip('\n"') for language in LANGUAGES.values() for word in language.words)
)
"""Every trace contains one of these, with prefixes before its lines or in JSON, too."""


@cache
def reader_of(language: str) -> Reader:
    """Return the reader of a language; it is imported when a text may contain a trace of that language."""
    read: Reader = import_module(f"obitus.core.stacks.{LANGUAGES[language].module}").read
    return read


def report_form(chain: Sequence[ChainLink]) -> list[dict[str, Any]]:
    """Return a chain as the ``exceptions`` of a report, within the format's bounds."""
    found = []
    for link in chain:
        part: dict[str, Any] = {"type": short(link.type), "message": kept(link.message)}
        if link.relation is not None:
            part["relation"] = link.relation
        part["frames"] = [
            {
                "function": short(frame.function),
                "module": short(frame.module),
                "file": medium(frame.file),
                "line": frame.line,
                **({"column": frame.column} if frame.column else {}),
                "own": frame.own,
                **({"source": {"line": medium(frame.code)}} if frame.code else {}),
            }
            for frame in link.frames
        ]
        found.append(part)
    return found


def find_stacks(text: str) -> list[FoundStack]:
    """Return all stack traces in ``text``, in order of their first lines. Never raises for bad input.

    The text may be a log: with times, levels and threads before the lines, lines of others in between, or traces
    wrapped into one line by JSON or by escapes.
    """
    if "\x1b" in text:
        text = _COLOURS.sub("", text)
    # Characters may be written in JSON as their numbers.
    if "\\u" not in text and not any(word in text for word in _IN_EVERY_TRACE):
        return []
    lines = _unwrapped(text.splitlines())
    found: list[FoundStack] = []
    for stream in streams(lines):
        texts = [line.text for line in stream]
        for one in _find(texts):
            end = stream[one.end_line - 1].number + 1
            found.append(replace(one, first_line=stream[one.first_line].number, end_line=end))
    wrapped = _wrapped(lines)
    taken = {one.first_line for one in wrapped}
    whole = [one for one in _once(found) if one.first_line not in taken]
    return sorted([*whole, *wrapped], key=lambda one: one.first_line)


def holds_lines(line: str) -> bool:
    """Whether a line contains escaped line ends, except one at the end of a value."""
    return _LINE_END.search(line) is not None


def _unwrapped(lines: list[str]) -> list[str]:
    """Return the lines, with those unwrapped that were wrapped in JSON."""
    if not any(line.startswith("{") for line in lines):
        return lines
    return [_unwrapped_line(line) if line.startswith("{") else line for line in lines]


def _unwrapped_line(line: str) -> str:
    found = _ONE_LINE.search(line[:MOST_LINE])
    if found is None or holds_lines(line):
        return line
    if "\\" not in found[1]:
        return found[1]
    try:
        return str(json.loads(f'"{found[1]}"')).rstrip("\r\n")
    except ValueError:
        return line


def _once(found: list[FoundStack]) -> list[FoundStack]:
    """Of traces that were found in two ways, keep the better one."""
    best: dict[tuple[str, int], FoundStack] = {}
    for one in found:
        for edge in (("first", one.first_line), ("end", one.end_line)):
            known = best.get(edge)
            if known is None or _worth(one) >= _worth(known):
                best[edge] = one
    kept = [one for one in found if best["first", one.first_line] is one and best["end", one.end_line] is one]
    whole = [one for one in kept if one.chain[0].type not in _NAMELESS]
    lines = _Covered(whole)
    by_language = {name: _Covered([one for one in whole if one.language == name]) for name in LANGUAGES}
    kept = [
        one
        for one in kept
        if one.chain[0].type not in _NAMELESS
        # Without a type it is a part of a whole one.
        or not (
            lines.holds(one.first_line, one.end_line) or by_language[one.language].touches(one.first_line, one.end_line)
        )
    ]
    return _without_repeats(sorted(kept, key=lambda one: one.first_line))


class _Covered:
    """Which lines traces cover, with binary search."""

    def __init__(self, found: Sequence[FoundStack]) -> None:
        ordered = sorted((one.first_line, one.end_line) for one in found)
        self._firsts = [first for first, _ in ordered]
        self._latest_ends = list(accumulate((end for _, end in ordered), max))

    def holds(self, first: int, end: int) -> bool:
        """Whether one trace covers all of these lines."""
        count = bisect_right(self._firsts, first)
        return count > 0 and self._latest_ends[count - 1] >= end

    def touches(self, first: int, end: int) -> bool:
        """Whether a trace covers one of these lines."""
        count = bisect_left(self._firsts, end)
        return count > 0 and self._latest_ends[count - 1] > first


def _without_repeats(found: list[FoundStack]) -> list[FoundStack]:
    """Some runtimes write the exception that ended them twice, one right after the other."""
    return [
        one
        for place, one in enumerate(found)
        if not place
        or one.first_line - found[place - 1].end_line > 1
        or not _repeats(one.chain, found[place - 1].chain)
    ]


def _repeats(chain: Sequence[ChainLink], before: Sequence[ChainLink]) -> bool:
    return len(chain) == len(before) and all(
        link.type == other.type and list(link.frames) == list(other.frames) and link.message.startswith(other.message)
        for link, other in zip(chain, before, strict=True)
    )


def _worth(one: FoundStack) -> tuple[bool, int]:
    return one.chain[0].type != CUT_OFF, _frames_of(one)


def stack_of(kind: str, message: str, text: str) -> FoundStack:
    """Return the exception of a record; without a stack trace in its text it has only type and message."""
    found = find_stacks(text) or _bare_frames(kind or "Error", text)
    if not found:
        return FoundStack("", (ChainLink(kind or "unknown", message or kept(text)),), 0, 0)
    first = found[-1].chain[0]
    # The separate fields are what the sender knew; frames alone, or a cut text, do not have them.
    if kind and (first.type in _NAMELESS or not first.message):
        said = replace(first, type=kind if first.type in _NAMELESS else first.type, message=message)
        return replace(found[-1], chain=(said, *found[-1].chain[1:]))
    return found[-1]


def _bare_frames(kind: str, text: str) -> list[FoundStack]:
    """Parse frames without the line with type and message: some senders cut it off."""
    headers = {"python": "Traceback (most recent call last):", "ruby": f"{kind}Error ():", "php": "Stack trace:"}
    for language, header in headers.items():
        found = [one for one in _find([header, *text.splitlines()]) if one.language == language and _frames_of(one)]
        if found:
            chain = (replace(found[-1].chain[0], type=CUT_OFF, message=""), *found[-1].chain[1:])
            return [replace(found[-1], chain=chain)]
    return []


def _find(lines: Sequence[str]) -> list[FoundStack]:
    bare = [line.lstrip() for line in lines]
    text = "\n" + "\n".join(bare)
    found: list[FoundStack] = []
    all_java = False
    for name, language in LANGUAGES.items():
        words = [word for word in language.words if word in text]
        # Where every such frame is Java's, no other reader finds more.
        if not words or (all_java and words == [AT]):
            continue
        found += [FoundStack(name, tuple(chain), first, end) for chain, first, end in reader_of(name)(lines)]
        all_java = all_java or (name == "java" and _all_inside(found, bare))
    found.sort(key=lambda one: (one.first_line, -one.end_line))
    kept: list[FoundStack] = []
    for one in found:
        # Two readers may accept the same lines: the one that finds more frames counts.
        if kept and one.first_line < kept[-1].end_line:
            if _frames_of(one) > _frames_of(kept[-1]):
                kept[-1] = one
            continue
        kept.append(one)
    return kept


def _all_inside(found: list[FoundStack], bare: Sequence[str]) -> bool:
    """Whether the traces found cover every line that begins with ``at``."""
    covered = _Covered(found)
    return all(covered.holds(number, number + 1) for number, line in enumerate(bare) if line.startswith(AT[1:]))


def _wrapped(lines: Sequence[str]) -> list[FoundStack]:
    """Find traces in one line with escaped line ends: in JSON, or in a quoted value."""
    found: list[FoundStack] = []
    for number, line in enumerate(lines):
        if "\\n" not in line or len(line) > MOST_WRAPPED or not _WRAPPED_FRAME.search(line):
            continue
        for inner in _texts_in(line):
            found += [
                replace(one, first_line=number, end_line=number + 1)
                for one in _without_repeats(_find(inner.splitlines()))
            ]
    return found


def _texts_in(line: str) -> list[str]:
    start = line.find("{")
    if start >= 0:
        try:
            value, _ = json.JSONDecoder().raw_decode(line, start)
        except (ValueError, RecursionError):
            pass
        else:
            if (found := _strings(value)) or line[:start].strip() == "":
                return found
    quoted = [one for one in _QUOTED.findall(line) if "\\n" in one]
    return [_ESCAPED.sub(lambda found: _MEANT[found[1]], text) for text in quoted or [line]]


def _strings(value: Any) -> list[str]:
    waiting: list[Any] = [value]
    found: list[str] = []
    while waiting and len(found) < MOST_STRINGS:
        one = waiting.pop(0)
        if isinstance(one, dict):
            waiting += one.values()
        elif isinstance(one, list):
            waiting += one
        elif isinstance(one, str) and "\n" in one:
            found.append(one)
    return found


def _frames_of(found: FoundStack) -> int:
    return sum(len(link.frames) for link in found.chain)
