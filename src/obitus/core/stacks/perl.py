"""Perl's traces, as ``Carp::confess`` and ``die`` with a stack write them. Source: the documentation of Carp."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

from obitus.core.frames import ChainLink, Frame
from obitus.core.stacks.lines import CAPITAL, MOST_FRAMES, FoundChains, cut

_PLACE = re.compile(r"(?P<file>\S[^\n]{0,1000}?) line (?P<line>\d{1,9})\.?(?:, <\w*> (?:line|chunk) \d+\.)?\s*$")
_CALLED = re.compile(
    r"^\s+(?P<name>[\w:]+(?:\{[^}]*\})?|eval (?:\{\.\.\.\}|'.*'|q\{.*\})|(?:require|do) \S{1,1000})(?:\((?P<given>.*)\))? called at (?P<file>\S[^\n]{0,1000}?) line (?P<line>\d{1,9})\s*$"
)
_TYPE = re.compile(rf"^(?P<type>{CAPITAL}\w*(?:::\w+)+)(?:=\w+\(0x[0-9a-f]+\))?(?:: | )?(?P<rest>.*)$")
_LIBRARY = re.compile(r"/perl5?/|/usr/(?:share|lib)/|/site_perl/|/vendor_perl/")
_EVAL_OPENS = re.compile(r"^\s+eval '")
_EVAL_CLOSES = re.compile(r"' called at (?P<file>\S[^\n]{0,1000}?) line (?P<line>\d{1,9})\s*$")
_ALONE = re.compile(r"^ at \S[^\n]{0,1000}? line \d{1,9}\.?(?:, <\w*> (?:line|chunk) \d+\.)?\s*$")
_EVAL: Final = "eval "
MOST_EVAL_LINES: Final = 50
_WHOLE_FILES: Final = ("require ", "do ")
_MAIN: Final = "(main program)"
_COMPARED_CHARACTERS: Final = 12


@dataclass(frozen=True, slots=True)
class _Step:
    """One line: the called function, its arguments, and the place of the call."""

    name: str
    given: str
    file: str
    line: int


def read(lines: Sequence[str]) -> FoundChains:
    """Return each trace in ``lines``."""
    chains: FoundChains = []
    i = 1
    while i < len(lines):
        if " called at " not in lines[i]:
            i += 1
            continue
        # The line above is checked first: a line that continues others is not parsed again with all lines after it.
        floor = chains[-1][2] if chains else 0
        again = bool(chains) and i - 1 == floor and _ALONE.match(cut(lines[i - 1])) is not None
        header = None if again else _header(lines, i, floor)
        steps, end = _steps(lines, i) if again or header is not None else ([], i)
        if again and steps:
            # A handler writes the trace again, from its own place.
            chains[-1] = (chains[-1][0], chains[-1][1], end)
            i = end
            continue
        if not steps or header is None:
            i += 1
            continue
        message, place, first = header
        typed = _TYPE.match(message)
        frames = _frames(place, steps, message)
        link = ChainLink(typed["type"], typed["rest"], frames) if typed else ChainLink("die", message, frames)
        chains.append(([link], first, end))
        i = end
    return chains


def _steps(lines: Sequence[str], i: int) -> tuple[list[_Step], int]:
    """Return the calls from a line on, and where they end."""
    steps: list[_Step] = []
    while i < len(lines) and len(steps) < MOST_FRAMES:
        called = _CALLED.match(cut(lines[i]))
        if called is not None:
            steps.append(_Step(called["name"], called["given"] or "", called["file"], int(called["line"])))
        else:
            end = _end_of_eval(lines, i)
            if end is None:
                break
            called, i = end
            steps.append(_Step(_EVAL, "", called["file"], int(called["line"])))
        i += 1
    return steps, i


def _end_of_eval(lines: Sequence[str], i: int) -> tuple[re.Match[str], int] | None:
    """Return the end of code given as a text of several lines, None where none begins here."""
    if _EVAL_OPENS.match(lines[i]) is None:
        return None
    for k in range(i + 1, min(len(lines), i + MOST_EVAL_LINES)):
        closed = _EVAL_CLOSES.search(cut(lines[k])) if "' called at " in lines[k] else None
        if closed is not None:
            return closed, k
    return None


def _header(lines: Sequence[str], i: int, floor: int) -> tuple[str, tuple[str, int], int] | None:
    """Return the message above the calls, its place, and the line where it begins; None where there is none. The
    exception may contain a place itself, or end its line: then the place that counts is on a line of its own.
    """
    message, at, rest = cut(lines[i - 1]).rpartition(" at ")
    place = _PLACE.match(rest) if at else None
    if place is None or message.endswith(" called"):
        return None
    first, message = i - 1, message.strip()
    if not message and first > floor:
        first -= 1
        message = cut(lines[first]).strip()
        thrown, at, rest = message.rpartition(" at ")
        if at and _PLACE.match(rest):
            message = thrown
    return (message, (place["file"], int(place["line"])), first) if message else None


def _frames(place: tuple[str, int], steps: Sequence[_Step], message: str) -> list[Frame]:
    """Return the frames, the outermost first.

    Each line has the called function and the place of the call: so a name belongs to the place on the line before
    it. Code in an ``eval``
    belongs to the function around it, at its own line.
    """
    frames: list[Frame] = []
    places = [place, *((step.file, step.line) for step in steps)]
    inner: tuple[str, int] | None = None
    for k, (file, line) in enumerate(places):
        name = steps[k].name if k < len(steps) else _MAIN
        if name.startswith(_EVAL):
            inner = inner or (file, line)
            continue
        if k < len(steps) and _handles(steps[k].given, message):
            # A handler that got the message, and its caller: the failure was before both.
            frames.clear()
            inner = None
            continue
        if k > 0 and not frames and name.startswith("Carp::"):
            continue
        if inner is not None:
            (file, line), inner = inner if not inner[0].startswith("(eval ") else (file, line), None
        owner, _, function = (_MAIN if name.startswith(_WHOLE_FILES) else name).rpartition("::")
        frames.append(Frame(function, owner, file, line, _LIBRARY.search(file) is None))
    frames.reverse()
    return frames


def _handles(given: str, message: str) -> bool:
    """Whether the only argument of a function is the thrown message, with its place at the end: only handlers get that."""
    text = given.replace("\\", "").removeprefix('"')
    start = message.replace("\\", "")[:_COMPARED_CHARACTERS]
    return (
        bool(start) and given.startswith('"') and text.startswith(start) and (" at " in text or given.endswith('"...'))
    )
