"""Dart's stack traces, as its virtual machine prints them, and in the shorter form that its tests use.

The type of the exception is not printed, only its text: texts of the core library are mapped back to their types.
Source: Dart's documentation of ``StackTrace`` and of the errors of ``dart:core``.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Final

from obitus.core.frames import ChainLink, Frame
from obitus.core.remembering import remembered
from obitus.core.stacks.lines import CAPITAL, CUT_OFF, MOST_FRAMES, MOST_KNOWN, FoundChains, cut

MOST_ABOVE: Final = 12

_PLACE: Final = r"(?P<file>(?:package:|dart:|file:|org-dartlang-\w+:|[\w./\\:-]*\.dart)[^()\s]{0,1000}?)"
_FRAME = re.compile(
    rf"^\s*#\d{{1,5}}\s+(?P<function>\S.{{0,500}}?) \({_PLACE}(?::(?P<line>\d{{1,9}}))?(?::\d{{1,9}})?\)\s*$"
)
_SHORT = re.compile(rf"^\s*{_PLACE} (?P<line>\d{{1,9}}):\d{{1,9}}\s{{1,60}}(?P<function>\S.{{0,500}})$")
_GAP = re.compile(r"^\s*(?:<asynchronous suspension>|=+ asynchronous gap =+)\s*$")
# After a frame with a number other than 0 the same trace continues, even with other lines in between.
_LATER = re.compile(r"^\s*#(?!0\s)\d{1,5}\s+\S.* \(.*dart")
_UNHANDLED = re.compile(r"Unhandled [eE]xception:\s*(?P<rest>.*)$")
_THROWN = re.compile(r"^The following (?P<type>\w+) was thrown")
_TYPED = re.compile(rf"^(?P<type>_?{CAPITAL}\w*)(?: \([^)]*\))?(?:: (?P<message>.*))?$", re.DOTALL)
_NAMELESS = re.compile(r"^Instance of '(?P<type>[\w<>, ]+)'$")
_TEXTS: Final = (
    ("Bad state: ", "StateError"),
    ("Invalid argument", "ArgumentError"),
    ("Unsupported operation: ", "UnsupportedError"),
    ("Concurrent modification during iteration", "ConcurrentModificationError"),
    ("Null check operator used on a null value", "TypeError"),
    ("Stack Overflow", "StackOverflowError"),
    ("Out of Memory", "OutOfMemoryError"),
    ("Reading from a closed socket", "StateError"),
)
_CAST = re.compile(r"^type '.*' is not a subtype of type '.*'", re.DOTALL)
_ASSERTED = re.compile(r"^'.*': Failed assertion: line \d+", re.DOTALL)
_CLOSURE = re.compile(r"\.?<(?:anonymous closure|anonymous|fn)>|^new |<[^<>]*>$")
LIBRARIES: Final = (
    "dart:", "org-dartlang-", "package:flutter/", "package:flutter_", "package:http/", "package:dio/", "package:shelf", "package:async/",
    "package:collection/", "package:stack_trace/", "package:test", "package:provider/", "package:riverpod/", "package:bloc/", "package:stream_",
    "package:path/", "package:args/", "package:logging/", "package:meta/", "package:matcher/", "package:sqflite", "package:hive/", "package:get_it/",
)  # fmt: skip


def read(lines: Sequence[str]) -> FoundChains:
    """Return each stack trace in ``lines``."""
    chains: FoundChains = []
    i = 0
    while i < len(lines):
        if _frame(lines[i]) is None:
            i += 1
            continue
        first, kind, message = _header(lines, i, chains[-1][2] if chains else 0)
        frames: list[Frame] = []
        while i < len(lines) and len(frames) < MOST_FRAMES:
            frame = _frame(lines[i])
            if frame is not None:
                frames.append(frame)
            elif not _GAP.match(cut(lines[i])) and not any(map(_LATER.match, lines[i + 1 : i + 3])):
                break
            i += 1
        frames.reverse()
        chains.append(([ChainLink(kind, message, frames)], first, i))
    return chains


@remembered(MOST_KNOWN)
def _frame(text: str) -> Frame | None:
    if "dart" not in text:
        return None
    line = cut(text)
    match = _FRAME.match(line) or _SHORT.match(line)
    if match is None:
        return None
    file = match["file"]
    function = _CLOSURE.sub("", match["function"].strip()) or "<anonymous>"
    module = ""
    if file.startswith("package:"):
        module = file.removeprefix("package:").removesuffix(".dart")
    elif file.startswith("dart:"):
        module = file.partition("/")[0]
    own = not file.startswith(LIBRARIES) and ".pub-cache/" not in file
    return Frame(function, module, file, int(match["line"]) if match["line"] else None, own)


def _header(lines: Sequence[str], frame: int, floor: int) -> tuple[int, str, str]:
    """Find the exception above the first frame: return its first line, type and message."""
    for i in range(frame - 1, max(floor, frame - MOST_ABOVE) - 1, -1):
        line = cut(lines[i])
        unhandled, thrown = _UNHANDLED.search(line), _THROWN.match(line)
        if unhandled is not None:
            kind, message = _thrown("\n".join([unhandled["rest"], *lines[i + 1 : frame]]).strip())
            return i, kind or "thrown", message
        if thrown is not None:
            return i, thrown["type"], _thrown(cut(lines[i + 1]).strip())[1] if i + 1 < frame else ""
    above = cut(lines[frame - 1]).strip() if frame > floor else ""
    if not above:
        return frame, CUT_OFF, ""
    kind, message = _thrown(above)
    # A line that names no type may be anything.
    return (frame - 1, kind, message) if kind else (frame, CUT_OFF, "")


def _thrown(text: str) -> tuple[str, str]:
    """Return type and message of an exception's text; the type is ``""`` where the text does not name it."""
    for begins, kind in _TEXTS:
        if text.startswith(begins):
            return kind, text.removeprefix(begins).strip(": ") or text
    if _CAST.match(text):
        return "TypeError", text
    if _ASSERTED.match(text):
        return "AssertionError", text
    nameless = _NAMELESS.match(text)
    if nameless is not None:
        return nameless["type"], ""
    typed = _TYPED.match(text)
    if typed is not None and (typed["message"] is not None or typed["type"].endswith(("Error", "Exception"))):
        return typed["type"], typed["message"] or ""
    return "", text
