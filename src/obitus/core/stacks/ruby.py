"""Ruby's backtraces, in both orders, with the ``cause`` of an exception.

Source: Ruby's documentation of ``Exception#full_message``.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace
from typing import Final

from obitus.core.frames import ChainLink, Frame
from obitus.core.stacks.lines import CAPITAL, CUT_OFF, MOST_FRAMES, FoundChains, cut

_PLACE: Final = r"(?P<file>[^\s:|][^:|\n]{0,300}?\.(?:rb|erb|rake|ru|haml|slim)|-e|<internal:[^>\n]{1,300}>|\(eval[^)\n]{0,300}\)|\S{0,300}/bin/\w{1,100}):(?P<line>\d{1,9}):in [`'](?P<function>[^']{1,300})'"
_RAISED_AT = re.compile(rf"(?:^|[\s|\]]){_PLACE}: ")
_RAISED = re.compile(rf"(?P<message>.*)\((?P<type>{CAPITAL}[\w:]*+)\)\s*+$")
_FROM = re.compile(rf"^\s*(?:\d+: )?from {_PLACE}")
_BARE = re.compile(rf"^\s*{_PLACE}\s*$")
_NAMED = re.compile(rf"(?:^|[\s|\]])(?P<type>(?:{CAPITAL}\w*+::)*+{CAPITAL}\w*+) \(")
MOST_SNIPPET: Final = 8
_ORDERED: Final = "Traceback (most recent call last):"
_LIBRARY = re.compile(
    r"/(?:gems|rubygems|ruby/\d|lib/ruby)/|^<internal:|/bin/(?:bundle|rake|rails|ruby|irb|puma|rspec)$"
)
_BLOCK = re.compile(r"^(?:block (?:\(\d+ levels\) )?in |rescue in |ensure in )+")


def read(lines: Sequence[str]) -> FoundChains:
    """Return each backtrace in ``lines``."""
    chains: FoundChains = []
    i = 0
    while i < len(lines):
        line = cut(lines[i])
        if _ORDERED in line and i + 1 < len(lines) and _FROM.match(cut(lines[i + 1])):
            chain, end = _outermost_first(lines, i + 1)
        elif (header := _header(line)) is not None and not _FROM.match(line):
            chain, end = _innermost_first(lines, i, header)
        elif line.rstrip().endswith("):") and (named := _NAMED.search(line)) is not None:
            chain, end = _logged(lines, i, named["type"], line.rstrip()[named.end() : -2])
        else:
            i += 1
            continue
        if not chain:
            i += 1
            continue
        chains.append((chain, i, end))
        i = end
    return chains


def _header(line: str) -> dict[str, str] | None:
    """Parse the exception and its place: ``fares.rb:24:in 'total': no fare (KeyError)``."""
    at = _RAISED_AT.search(cut(line)) if ":in " in line else None
    raised = _RAISED.match(cut(line), at.end()) if at is not None else None
    if at is None or raised is None:
        return None
    return at.groupdict() | {"type": raised["type"], "message": raised["message"].removesuffix(" ")}


def _innermost_first(lines: Sequence[str], i: int, header: dict[str, str]) -> tuple[list[ChainLink], int]:
    chain: list[ChainLink] = []
    at: dict[str, str] | None = header
    while at is not None:
        i, code = _behind_snippet(lines, i + 1)
        frames = [replace(_frame(at), code=code)]
        while i < len(lines) and len(frames) < MOST_FRAMES and (step := _FROM.match(cut(lines[i]))) is not None:
            frames.append(_frame(step))
            i += 1
        frames.reverse()
        chain.append(ChainLink(at["type"], at["message"], frames, "cause" if chain else None))
        at = _header(lines[i]) if i < len(lines) else None
    return chain, i


def _behind_snippet(lines: Sequence[str], i: int) -> tuple[int, str]:
    """Return where the places continue, and the failing code where it follows the message, marked by carets (since 3.1).

    A message may have several lines.
    """
    code = ""
    for after in range(i, min(i + MOST_SNIPPET, len(lines))):
        line = cut(lines[after])
        if _FROM.match(line):
            return after, code
        if _header(line):
            break
        if line.strip() and not line.strip(" ^") and after > i:
            code = lines[after - 1].strip()[:300]
    return i, ""


def _outermost_first(lines: Sequence[str], i: int) -> tuple[list[ChainLink], int]:
    frames: list[Frame] = []
    while i < len(lines) and len(frames) < MOST_FRAMES and (step := _FROM.match(cut(lines[i]))) is not None:
        frames.append(_frame(step))
        i += 1
    header = _header(lines[i]) if i < len(lines) else None
    if header is None:
        return [ChainLink(CUT_OFF, "", frames)] if frames else [], i
    return [ChainLink(header["type"], header["message"], [*frames, _frame(header)])], i + 1


def _logged(lines: Sequence[str], first: int, kind: str, message: str) -> tuple[list[ChainLink], int]:
    """Parse the logs of frameworks: type and message on a line, then one place a line, innermost first."""
    i = first + 1
    while i < len(lines) and i <= first + 2 and not lines[i].strip():
        i += 1
    frames: list[Frame] = []
    while (
        i < len(lines)
        and len(frames) < MOST_FRAMES
        and (step := _BARE.match(cut(lines[i])) or _FROM.match(cut(lines[i])))
    ):
        frames.append(_frame(step))
        i += 1
    frames.reverse()
    return ([ChainLink(kind, message, frames)], i) if frames else ([], first)


def _frame(match: re.Match[str] | dict[str, str]) -> Frame:
    name = _BLOCK.sub("", match["function"])
    # Since 3.4 the class comes before the method.
    owner, _, method = name.replace("#", ".").rpartition(".")
    return Frame(method or name, owner, match["file"], int(match["line"]), _LIBRARY.search(match["file"]) is None)
