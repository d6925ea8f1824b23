""".NET's and Mono's stack traces, as ``Exception.ToString`` writes them.

Inner exceptions, rethrown ones, and the names that the compiler makes for async methods, lambdas and local
functions, mapped back to those in the source. Source: .NET's documentation of ``Exception.ToString`` and ``Environment.StackTrace``.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Final, NamedTuple

from obitus.core.frames import ChainLink, Frame
from obitus.core.remembering import remembered
from obitus.core.stacks.lines import (
    CAPITAL,
    CUT_OFF,
    MOST_FRAMES,
    MOST_KNOWN,
    MOST_MESSAGE_LINES,
    FoundChains,
    begins_with_at,
    cut,
    lies_in,
)

_CALL = re.compile(r"at (?P<whole>[\w.`<>+|,$\[\]~?& -]{1,800}+)\(")
# Where the source is known, its place follows the arguments; Mono puts an offset in between.
_BEFORE_PLACE = re.compile(r"\)(?: \[0x[0-9a-f]{1,16}\])? in ")
_LINE_BEHIND = re.compile(r":(?:line )?(?P<line>\d{1,9})$")
_OFFSET = re.compile(r" \[0x[0-9a-f]{1,16}\]$")
_OTHERS_PLACE = re.compile(
    r"\.(?:java|kt|scala|m?[jt]sx?)(?::\d+){0,2}$|^(?:Native Method|Unknown Source|native|<anonymous>)$|:\d+:\d+$"
)
_HEADER = re.compile(
    rf"(?:^|[\s\]|>:-])(?P<type>(?:(?:{CAPITAL}\w*\.)+{CAPITAL}\w*|{CAPITAL}\w*(?:Exception|Error))\b(?:`\d+\[[^\]]*\])?)(?::\s?(?P<message>.*))?$"
)
_BREAKS: Final = ("--- End of stack trace from previous location", "--- End of inner exception stack trace ---")
_ARROW: Final = "---> "
_ASYNC = re.compile(r"[.+]<(?P<name>[\w.]+)>(?:d__\d+|c__Iterator\d+)(?:`\d+)?\.MoveNext$")
_LAMBDA = re.compile(
    r"(?:[.+]<>c(?:__DisplayClass[\d_]+)?(?:`\d+)?)?\.<(?P<name>[\w.]+)>[bgm]__(?:(?P<local>\w+)\|)?[\d_]+$"
)
_TOP_LEVEL = re.compile(r"<(\w+)>\$?$")
_ARITY = re.compile(r"`\d+|\[[\w`, ]*\]")
LIBRARIES: Final = (
    "System.",
    "Microsoft.",
    "Mono.",
    "MS.",
    "Interop.",
    "Newtonsoft.",
    "Npgsql.",
    "Internal.",
    "Windows.",
    "Xunit.",
    "NUnit.",
)


def read(lines: Sequence[str]) -> FoundChains:
    """Return each stack trace in ``lines``."""
    chains: FoundChains = []
    # All headers above this line have been used.
    looked = 0
    i = 0
    while i < len(lines):
        if not begins_with_at(lines[i]) or _frame(lines[i]) is None or not _is_ours(lines[i]):
            i += 1
            continue
        first = _header_above(lines, i, max(looked, chains[-1][2] if chains else 0))
        if first is None:
            looked = i
            i += 1
            continue
        names = _names(lines, first, i)
        # The innermost exception's frames are printed first, each one's up to its end mark.
        stacks: list[list[Frame]] = [[]]
        while i < len(lines) and sum(map(len, stacks)) < MOST_FRAMES:
            frame = _frame(lines[i])
            text = lines[i].strip()
            if frame is not None:
                stacks[-1].append(frame)
            elif text.startswith(_BREAKS[1]):
                stacks.append([])
            elif not text.startswith(_BREAKS[0]):
                break
            i += 1
        chain = []
        for place, (name, message) in enumerate(names):
            from_end = len(names) - 1 - place
            frames = stacks[from_end][::-1] if from_end < len(stacks) else []
            chain.append(ChainLink(name, message, frames, "cause" if place else None))
        chains.append((chain, first, i))
    return chains


@remembered(MOST_KNOWN)
def _is_ours(text: str) -> bool:
    """Whether a frame is .NET's and not Java's or JavaScript's: these have no blank before ``in``, nor types as arguments."""
    parts = _parts(text)
    return parts is not None and (bool(parts.file) or _OTHERS_PLACE.search(parts.arguments) is None)


class _Parts(NamedTuple):
    whole: str
    arguments: str
    file: str
    line: int | None


def _parts(text: str) -> _Parts | None:
    """Parse a line: ``at Harbour.Gate.Open(String name) in /srv/Gate.cs:line 12``."""
    text = cut(text).strip()
    call = _CALL.match(text)
    if call is None:
        return None
    file, line, rest = "", None, text[call.end() :]
    before = _BEFORE_PLACE.search(rest)
    place = _LINE_BEHIND.search(rest) if before is not None else None
    if before is not None and place is not None and place.start() > before.end():
        file, line = rest[before.end() : place.start()], int(place["line"])
        rest = rest[: before.start() + 1]
    rest = _OFFSET.sub("", rest)
    return _Parts(call["whole"].removesuffix(" "), rest[:-1], file, line) if rest.endswith(")") else None


def _header_above(lines: Sequence[str], frame: int, floor: int) -> int | None:
    best = None
    for i in range(frame - 1, max(floor, frame - MOST_MESSAGE_LINES) - 1, -1):
        line = cut(lines[i])
        if _HEADER.search(line.split(_ARROW)[0].rstrip()) or _HEADER.search(line.split(_ARROW)[-1].rstrip()):
            best = i
            if not line.lstrip().startswith("--->"):
                break
        elif not line.strip():
            break
    return best


def _names(lines: Sequence[str], first: int, frame: int) -> list[tuple[str, str]]:
    """Return type and message of each exception, from the outermost; they come before the first frame, after arrows."""
    text = "\n".join(cut(line) for line in lines[first:frame])
    names = []
    for part in text.split(_ARROW):
        head, _, rest = part.strip().partition("\n")
        match = _HEADER.search(head.strip()) or _HEADER.search(head.strip().split(" --- ")[0])
        if match is not None:
            message = (match["message"] or "") + ("\n" + rest if rest.strip() else "")
            names.append((match["type"], message.strip()))
    return names or [(CUT_OFF, "")]


@remembered(MOST_KNOWN)
def _frame(text: str) -> Frame | None:
    parts = _parts(text)
    if parts is None or "." not in parts.whole:
        return None
    whole = readable(parts.whole.strip().removeprefix("async "))
    owner, _, method = whole.rpartition(".")
    own = not lies_in(owner, LIBRARIES)
    return Frame(method, owner, parts.file, parts.line, own)


def readable(name: str) -> str:
    """Return a method's name as the source has it: ``Gate.<Open>d__3.MoveNext`` is ``Gate.Open``."""
    name = _ASYNC.sub(lambda found: "." + found["name"], name)
    name = _LAMBDA.sub(lambda found: "." + (found["local"] or found["name"]), name)
    return _ARITY.sub("", _TOP_LEVEL.sub(r"\1", name)).replace("+", ".")
