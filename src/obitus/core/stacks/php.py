"""PHP's stack traces: of uncaught exceptions and of logged ones, with the previous ones.

Source: PHP's manual on ``Throwable::getTraceAsString`` and uncaught exceptions.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Final, NamedTuple

from obitus.core.frames import ChainLink, Frame
from obitus.core.stacks.lines import CAPITAL, CUT_OFF, MOST_FRAMES, MOST_MESSAGE_LINES, FoundChains, cut

_END = re.compile(r"(?::| on line )(?P<line>\d{1,9})$")
_THROWN = re.compile(
    rf"(?:Uncaught |Next |^|[\s\]|:-])(?P<type>(?:[^\W\d]\w{{0,200}}\\){{0,20}}{CAPITAL}\w{{0,200}})(?:: (?P<message>.*))?$"
)
_STACK: Final = ("Stack trace:", "[stacktrace]")
_FRAME = re.compile(
    r"^\s*#\d{1,5} (?:(?P<file>[^\n]{1,1500}?)\((?P<line>\d{1,9})\): |\[internal function\]: |(?P<main>\{main\}))(?P<call>.*)$"
)
_CALL = re.compile(r"^(?P<name>[\w\\{}:>$@/.-]++)\(")
_LIBRARY: Final = ("/vendor/", "phar://", "/usr/share/php")


def read(lines: Sequence[str]) -> FoundChains:
    """Return each stack trace in ``lines``."""
    chains: FoundChains = []
    i = 0
    while i < len(lines):
        if not any(mark in lines[i] for mark in _STACK):
            i += 1
            continue
        blocks: list[tuple[str, str, list[Frame]]] = []
        first = i
        while i < len(lines) and any(mark in lines[i] for mark in _STACK):
            floor = chains[-1][2] if chains else 0
            header, match = _header_above(lines, i, max(floor, first if blocks else 0))
            first = min(first, header)
            frames, i = _frames(lines, i + 1, match)
            message = "\n".join([match.message, *lines[header + 1 : i]][:1]) if match else ""
            blocks.append((match.type if match else CUT_OFF, message, frames))
            after = i
            while after < min(len(lines), i + MOST_MESSAGE_LINES) and not any(mark in lines[after] for mark in _STACK):
                after += 1
            follows = next((k for k in range(i, min(i + 2, len(lines))) if re.match(r"\s*Next ", lines[k])), None)
            if follows is None or after >= min(len(lines), i + MOST_MESSAGE_LINES):
                break
            i = after
        if i < len(lines) and re.match(r"\s*thrown in ", lines[i]):
            i += 1
        # The first one thrown is printed first, the outermost last.
        chain = [
            ChainLink(kind, message.strip(), frames, "cause" if place else None)
            for place, (kind, message, frames) in enumerate(reversed(blocks))
        ]
        chains.append((chain, first, max(i, first + 1)))
    return chains


class _Thrown(NamedTuple):
    type: str
    message: str
    file: str
    line: int


def _thrown(line: str) -> _Thrown | None:
    """Parse the exception and its place: ``Uncaught RuntimeException: no fare in /srv/Fare.php:12``."""
    line = line.rstrip()
    end = _END.search(line)
    if end is None:
        return None
    message, found, file = line[: end.start()].rpartition(" in ")
    thrown = _THROWN.search(message) if found and file else None
    return _Thrown(thrown["type"], (thrown["message"] or "").rstrip(), file, int(end["line"])) if thrown else None


def _header_above(lines: Sequence[str], stack: int, floor: int) -> tuple[int, _Thrown | None]:
    for i in range(stack, max(floor, stack - MOST_MESSAGE_LINES) - 1, -1):
        thrown = _thrown(cut(lines[i]))
        if thrown is not None:
            return i, thrown
    return stack, None


def _frames(lines: Sequence[str], i: int, header: _Thrown | None) -> tuple[list[Frame], int]:
    """Parse the numbered frames. Each has the called function and the place of the call; so a function belongs to
    the next inner frame."""
    steps: list[tuple[str, int | None, str]] = []
    if header is not None:
        steps.append((header.file, header.line, ""))
    calls: list[str] = []
    while i < len(lines) and len(steps) < MOST_FRAMES:
        match = _FRAME.match(cut(lines[i]))
        if match is None:
            break
        i += 1
        if match["main"]:
            continue
        call = _CALL.match(match["call"])
        calls.append(call["name"] if call else match["call"][:200])
        steps.append((match["file"] or "", int(match["line"]) if match["line"] else None, ""))
    frames = []
    for place, (file, line, _) in enumerate(steps):
        name = calls[place] if place < len(calls) else "{main}"
        owner, method = _split(name)
        own = bool(file) and not any(part in file for part in _LIBRARY)
        frames.append(Frame(method, owner, file, line, own))
    frames.reverse()
    return frames, i


def _split(name: str) -> tuple[str, str]:
    for mark in ("->", "::"):
        owner, found, method = name.rpartition(mark)
        if found:
            return owner, method.rpartition("\\")[2]
    room, _, function = name.rpartition("\\")
    return room, function
