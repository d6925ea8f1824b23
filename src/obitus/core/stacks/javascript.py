"""JavaScript's stack traces: V8's (Node, Chromium), and those of Firefox and Safari.

Async frames, ``new``, aliases, code from ``eval``, the ``cause`` of an error as Node prints it, and members of an
AggregateError. Sources: V8's documentation of its stack trace API; MDN on ``Error.prototype.stack``.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from obitus.core.frames import ChainLink, Frame, looks_like_library
from obitus.core.remembering import remembered
from obitus.core.stacks.lines import (
    CAPITAL,
    CUT_OFF,
    MOST_FRAMES,
    MOST_KNOWN,
    FoundChains,
    begins_with_at,
    cut,
    header_above,
)

_V8 = re.compile(
    r"^\s*at (?:(?P<async>async )?(?P<function>(?:new )?[^()\n]{1,500}?)(?: \[as (?P<alias>[^\]]{1,200})\])? \()?"
    r"(?P<place>(?:[a-zA-Z][\w+.-]*:)?[^\s():][^()\n]{0,2000}?|<anonymous>|native|node:[\w/]+)(?::(?P<line>\d{1,9}))?(?::(?P<column>\d{1,9}))?\)?$"
)
_EVAL = re.compile(
    r"^\s*at (?:async )?(?P<function>[^()\n]{1,500}?) \(eval at .{0,2000}?\((?P<place>[^()\n]{1,2000}?):(?P<line>\d+):\d+\)(?:\)|,).*$"
)
# A combinator of promises: "at async Promise.all (index 0)" is no place in a file.
_NO_PLACE = re.compile(r"^\s*at async [\w$.]{1,100} \(index \d{1,9}\)(?:,| \{)?\s*$")
_OTHER = re.compile(
    r"^\s*(?P<function>[^@\s()]{0,300}(?:\([^()]{0,100}\))?)@(?P<place>[^\s@][^\n]{0,2000}?):(?P<line>\d{1,9}):(?P<column>\d{1,9})$"
)
# A function's name may be a property's key with spaces; then only an address can follow.
_WITH_SPACES = re.compile(
    r"^\s*(?P<function>[^@\n]{0,300})@(?P<place>[a-z][a-z-]{1,20}://[^\s@][^\n]{0,2000}?):(?P<line>\d{1,9}):(?P<column>\d{1,9})$"
)
_HEADER = re.compile(
    rf"(?:^|[\s\]|:-])(?:Uncaught (?:\(in promise\) )?)?(?P<type>{CAPITAL}[\w$]*(?:Error|Exception|Warning|Rejection)|Error)(?: \[\w+\])?(?::\s?(?P<message>.*))?$"
)
_CAUSE = re.compile(
    r"^\s*+\[(?P<how>cause|errors)\]: \[?(?:(?P<type>(?!\d)[\w$]++)(?::\s?(?P<message>.*))?+)?+\s*+\{?$"
)
_MEMBER = re.compile(rf"^\s*(?P<type>{CAPITAL}[\w$]*Error)(?::\s?(?P<message>.*?))?$")
_CODE_PLACE = re.compile(
    r"(?::\d+){1,2}$|^(?:node:|file:|https?:|webpack|native$|<anonymous>$)|[\\/]|\.(?:m|c)?[jt]sx?\b"
)


def read(lines: Sequence[str]) -> FoundChains:
    """Return each stack trace in ``lines``."""
    chains: FoundChains = []
    i = 0
    while i < len(lines):
        if _frame(lines[_past_no_places(lines, i)]) is None:
            i += 1
            continue
        floor = chains[-1][2] if chains else 0
        header, match = header_above(lines, i, floor, _HEADER)
        message = [match["message"] or "", *lines[header + 1 : i]] if match else [""]
        type_name = match["type"] if match else CUT_OFF
        frames, end = _frames(lines, i)
        chain = [ChainLink(type_name, "\n".join(message).strip(), frames)]
        end = _inner(lines, end, chain)
        chains.append((chain, header, end))
        i = end
    return chains


def _frames(lines: Sequence[str], i: int) -> tuple[list[Frame], int]:
    frames: list[Frame] = []
    while i < len(lines) and len(frames) < MOST_FRAMES:
        frame = _frame(lines[i])
        if frame is not None:
            frames.append(frame)
        elif not _is_no_place(lines[i]):
            break
        i += 1
    frames.reverse()
    return frames, i


def _is_no_place(text: str) -> bool:
    return "(index " in text and _NO_PLACE.match(cut(text)) is not None


def _past_no_places(lines: Sequence[str], i: int) -> int:
    """Return the first line from here on that is no such combinator, or the last line."""
    while i < len(lines) - 1 and _is_no_place(lines[i]):
        i += 1
    return i


def _inner(lines: Sequence[str], i: int, chain: list[ChainLink]) -> int:
    """Parse what Node prints in brackets after an error: its cause, or the members of an aggregate."""
    members = False
    while i < len(lines):
        line = cut(lines[i])
        inner = _CAUSE.match(line)
        member = _MEMBER.match(line) if members else None
        match = inner if inner is not None and inner["type"] else member
        if inner is not None and inner["how"] == "errors":
            members = True
        if match is None:
            if (
                inner is not None
                or (members and re.fullmatch(r"\s*[\[\]{},]*", line))
                or re.fullmatch(r"\s*[}\]]+,?", line)
            ):
                i += 1
                continue
            return i
        frames, i = _frames(lines, i + 1)
        relation = "member" if members else "cause"
        # A bracket after the message opens further fields of the error.
        message = (match["message"] or "").strip().removesuffix("{").rstrip()
        chain.append(ChainLink(match["type"], message, frames, relation))
    return i


def _frame(text: str) -> Frame | None:
    return _known_frame(text) if begins_with_at(text) or "@" in text else None


@remembered(MOST_KNOWN)
def _known_frame(text: str) -> Frame | None:
    if begins_with_at(text):
        # Node opens a bracket after the last frame where an error has more fields, and lists members with commas.
        line = cut(text).rstrip().removesuffix(",").removesuffix(" {")
        match = _EVAL.match(line) or _V8.match(line)
        if match is None or not _CODE_PLACE.search(_whole_place(match)):
            return None
        name = match["function"] or "<anonymous>"
    else:
        match = _OTHER.match(cut(text)) or _WITH_SPACES.match(cut(text))
        if match is None:
            return None
        name = match["function"] or "<anonymous>"
    place = match["place"]
    own = not (
        looks_like_library(place) or place.startswith(("internal/", "native", "<anonymous>", "chrome-extension:"))
    )
    column_text = match.groupdict().get("column")
    column = int(column_text) if column_text else None
    return Frame(name.strip(), "", place, int(match["line"]) if match["line"] else None, own, column=column or None)


def _whole_place(match: re.Match[str]) -> str:
    place: str = match["place"]
    # Java's frames look alike, but name a file without a folder and a line without a column.
    column = match.groupdict().get("column")
    if re.fullmatch(r"[\w$ -]+\.(?:java|kt|scala|groovy|clj)", place) or place in ("Native Method", "Unknown Source"):
        return ""
    return f"{place}:{match['line']}" if column or match["line"] else place
