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
# Collectors of container output, the system's journal, and some logging libraries, wrap each line.
_ONE_LINE = re.compile(r'[{,] *"(?:log|message|MESSAGE|msg|line)" *: *"((?:[^"\\]|\\.)*+)"')
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
    links = []
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
        links.append(part)
    return links


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
    stacks: list[FoundStack] = []
    for stream in streams(lines):
        texts = [line.text for line in stream]
        for stack in _find(texts):
            end = stream[stack.end_line - 1].number + 1
            stacks.append(replace(stack, first_line=stream[stack.first_line].number, end_line=end))
    wrapped = _wrapped(lines)
    taken = {stack.first_line for stack in wrapped}
    whole = [stack for stack in _once(stacks) if stack.first_line not in taken]
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
    match = _ONE_LINE.search(line[:MOST_LINE])
    if match is None or holds_lines(line):
        return line
    if "\\" not in match[1]:
        return match[1]
    try:
        return str(json.loads(f'"{match[1]}"')).rstrip("\r\n")
    except ValueError:
        return line


def _once(stacks_found: list[FoundStack]) -> list[FoundStack]:
    """Of traces that were found in two ways, keep the better one."""
    best: dict[tuple[str, int], FoundStack] = {}
    for stack in stacks_found:
        for edge in (("first", stack.first_line), ("end", stack.end_line)):
            longest = best.get(edge)
            if longest is None or _worth(stack) >= _worth(longest):
                best[edge] = stack
    stacks = [
        stack
        for stack in stacks_found
        if best["first", stack.first_line] is stack and best["end", stack.end_line] is stack
    ]
    whole = [stack for stack in stacks if stack.chain[0].type not in _NAMELESS]
    lines = _Covered(whole)
    by_language = {name: _Covered([stack for stack in whole if stack.language == name]) for name in LANGUAGES}
    stacks = [
        stack
        for stack in stacks
        if stack.chain[0].type not in _NAMELESS
        # Without a type it is a part of a whole one.
        or not (
            lines.holds(stack.first_line, stack.end_line)
            or by_language[stack.language].touches(stack.first_line, stack.end_line)
        )
    ]
    return _without_repeats(sorted(stacks, key=lambda one: one.first_line))


class _Covered:
    """Which lines traces cover, with binary search."""

    def __init__(self, stacks: Sequence[FoundStack]) -> None:
        ordered = sorted((one.first_line, one.end_line) for one in stacks)
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


def _without_repeats(stacks: list[FoundStack]) -> list[FoundStack]:
    """Some runtimes write the exception that ended them twice, one right after the other."""
    return [
        stack
        for place, stack in enumerate(stacks)
        if not place
        or stack.first_line - stacks[place - 1].end_line > 1
        or not _repeats(stack.chain, stacks[place - 1].chain)
    ]


def _repeats(chain: Sequence[ChainLink], before: Sequence[ChainLink]) -> bool:
    return len(chain) == len(before) and all(
        link.type == other.type and list(link.frames) == list(other.frames) and link.message.startswith(other.message)
        for link, other in zip(chain, before, strict=True)
    )


def _worth(stack: FoundStack) -> tuple[bool, int]:
    return stack.chain[0].type != CUT_OFF, _frames_of(stack)


def stack_of(kind: str, message: str, text: str) -> FoundStack:
    """Return the exception of a record; without a stack trace in its text it has only type and message."""
    stacks = find_stacks(text) or _bare_frames(kind or "Error", text)
    if not stacks:
        return FoundStack("", (ChainLink(kind or "unknown", message or kept(text)),), 0, 0)
    first = stacks[-1].chain[0]
    # The separate fields are what the sender knew; frames alone, or a cut text, do not have them.
    if kind and (first.type in _NAMELESS or not first.message):
        named = replace(first, type=kind if first.type in _NAMELESS else first.type, message=message)
        return replace(stacks[-1], chain=(named, *stacks[-1].chain[1:]))
    return stacks[-1]


def _bare_frames(kind: str, text: str) -> list[FoundStack]:
    """Parse frames without the line with type and message: some senders cut it off."""
    headers = {"python": "Traceback (most recent call last):", "ruby": f"{kind}Error ():", "php": "Stack trace:"}
    for language, header in headers.items():
        stacks = [
            stack for stack in _find([header, *text.splitlines()]) if stack.language == language and _frames_of(stack)
        ]
        if stacks:
            chain = (replace(stacks[-1].chain[0], type=CUT_OFF, message=""), *stacks[-1].chain[1:])
            return [replace(stacks[-1], chain=chain)]
    return []


def _find(lines: Sequence[str]) -> list[FoundStack]:
    bare = [line.lstrip() for line in lines]
    text = "\n" + "\n".join(bare)
    stacks: list[FoundStack] = []
    all_java = False
    for name, language in LANGUAGES.items():
        words = [word for word in language.words if word in text]
        # Where every such frame is Java's, no other reader finds more.
        if not words or (all_java and words == [AT]):
            continue
        stacks += [FoundStack(name, tuple(chain), first, end) for chain, first, end in reader_of(name)(lines)]
        all_java = all_java or (name == "java" and _all_inside(stacks, bare))
    stacks.sort(key=lambda one: (one.first_line, -one.end_line))
    remaining: list[FoundStack] = []
    for stack in stacks:
        # Two readers may accept the same lines: the one that finds more frames counts.
        if remaining and stack.first_line < remaining[-1].end_line:
            if _frames_of(stack) > _frames_of(remaining[-1]):
                remaining[-1] = stack
            continue
        remaining.append(stack)
    return remaining


def _all_inside(stacks: list[FoundStack], bare: Sequence[str]) -> bool:
    """Whether the traces found cover every line that begins with ``at``."""
    covered = _Covered(stacks)
    return all(covered.holds(number, number + 1) for number, line in enumerate(bare) if line.startswith(AT[1:]))


def _wrapped(lines: Sequence[str]) -> list[FoundStack]:
    """Find traces in one line with escaped line ends: in JSON, or in a quoted value."""
    stacks: list[FoundStack] = []
    for number, line in enumerate(lines):
        if "\\n" not in line or len(line) > MOST_WRAPPED or not _WRAPPED_FRAME.search(line):
            continue
        for inner in _texts_in(line):
            stacks += [
                replace(one, first_line=number, end_line=number + 1)
                for one in _without_repeats(_find(inner.splitlines()))
            ]
    return stacks


def _texts_in(line: str) -> list[str]:
    start = line.find("{")
    if start >= 0:
        try:
            value, _ = json.JSONDecoder().raw_decode(line, start)
        except (ValueError, RecursionError):
            pass
        else:
            if (texts := _strings(value)) or line[:start].strip() == "":
                return texts
    quoted = [one for one in _QUOTED.findall(line) if "\\n" in one]
    return [_ESCAPED.sub(lambda found: _MEANT[found[1]], text) for text in quoted or [line]]


def _strings(value: Any) -> list[str]:
    waiting: list[Any] = [value]
    texts: list[str] = []
    while waiting and len(texts) < MOST_STRINGS:
        value_waiting = waiting.pop(0)
        if isinstance(value_waiting, dict):
            waiting += value_waiting.values()
        elif isinstance(value_waiting, list):
            waiting += value_waiting
        elif isinstance(value_waiting, str) and "\n" in value_waiting:
            texts.append(value_waiting)
    return texts


def _frames_of(stack: FoundStack) -> int:
    return sum(len(link.frames) for link in stack.chain)
