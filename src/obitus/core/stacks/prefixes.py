"""Prefixes of log lines: time, level, thread, logger, the name of a container. Without them a stack trace is
visible. A line's *stream* identifies its writer where several write into one file: the container, the thread, the
process.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import lru_cache
from itertools import groupby
from typing import Final, NamedTuple

from obitus.core.stacks.lines import BEGINS_ANEW

MOST_LOOKED_AT: Final = 400

_TIME: Final = (
    r"\d{4}[-/.]\d{2}[-/.]\d{2}(?:[T ]\d{2}:\d{2}(?::\d{2}(?:[.,]\d{1,9})?)?)?(?: ?(?:Z|UTC|GMT|[+-]\d{2}:?\d{2}))?"
    r"|\d{1,2}[/-](?:\w{3}|\d{2})[/-]\d{2,4}[: T]\d{2}:\d{2}:\d{2}(?:[.,]\d{1,9})?(?: [+-]\d{4})?"
    r"|(?:[A-Z][a-z]{2},? )?[A-Z][a-z]{2} {1,2}\d{1,2}(?:,? \d{4},?)? \d{2}:\d{2}:\d{2}(?:[.,]\d{1,9})?(?: \d{4})?"
    r"|(?:\d{2}-\d{2} )?\d{2}:\d{2}:\d{2}(?:[.,]\d{1,9})?|\d{10}(?:\.\d{1,9}|\d{3})?(?=[ \t\]])"
)
LEVELS: Final = (
    "TRACE|DEBUG|INFO|NOTICE|WARN|WARNING|ERROR|SEVERE|CRITICAL|CRIT|FATAL|ALERT|EMERG|FINE|FINER|FINEST|CONFIG|ERR"
)
_BOX: Final = r"[\w.-]{1,60}+ {0,30}+\|[ ]?|\[[\w.-]{1,80}+/[\w./-]{1,120}+\] "
_STREAM: Final = rf"(?P<box>{_BOX})?"
_TOKEN: Final = (
    rf"\[(?!(?:cause|errors)\]:)[^\]\n]{{0,120}}\]|\([^)\n]{{0,80}}\)|<[^>\n]{{0,80}}>|(?:{LEVELS}|{LEVELS.lower()})(?![\w.]):?"
    r"|(?:std(?:out|err) [FP])|\d{1,9}(?=[ \t])|-{1,3}(?=[ \t])|:(?=[ \t])|\|"
    r"|[VDIWEF][ /][\w.$-]{1,60}+(?:\( *\d+\))? {0,20}:(?=[ \t])|[A-Za-z_][\w.$/-]{2,79}+(?=\t)"
    rf"|[a-z_][\w-]{{0,60}}+\.(?:{LEVELS}):(?=[ \t])|(?!panic:|panicked|goroutine |fatal error)[a-z_][a-z0-9_.-]{{0,79}}+(?:\[\d++\])?+:(?=[ \t]|$)|[a-z][\w.$-]{{0,79}}+\[\d++\]:?"
    r"|[A-Za-z_][\w.$/-]{2,79}+(?= - )"
    r"|(?!goroutine )[a-z][\w.-]{0,60}+(?= [\w./-]{1,60}+(?:\[\d++\])?+: )"
)
_PREFIX = re.compile(
    rf"{_STREAM}(?:[A-Z], )?(?P<time>[\[(<]?(?:{_TIME}))(?: #\d{{1,9}})?[\])>]?(?P<tokens>(?:[ \t]{{1,4}}(?:{_TOKEN})){{0,8}})(?:[ \t]?[-|:>](?=[ \t]))?[ \t]?"
)
_LEVEL_FIRST = re.compile(
    rf"{_STREAM}(?P<time>)(?P<tokens>(?:\[?(?:{LEVELS})\]?:?)(?:[ \t]{{1,4}}(?:{_TOKEN})){{0,8}})(?:[ \t]?[-|:>](?=[ \t]))?[ \t]?"
)
_BOX_ONLY = re.compile(rf"(?P<box>{_BOX})(?P<time>)(?P<tokens>)")
_LEVEL = re.compile(rf"(?<!\w)({LEVELS})(?![\w.])", re.IGNORECASE)
_WHOSE = re.compile(r"\[[^\[\]]*\]|\([^()]*\)|\d{2,9}")
_STACK_PART = re.compile(
    r"[\s|+]*+(?:at [\w<$.[]|File \"|Caused by: |Suppressed: |\.\.\. \d+ (?:more|common)|from \S+:\d+:in |[\w./-]{1,300}+:\d{1,9}:in [`']|#\d+ |goroutine \d+|Traceback \(|--- End of|--- |\d+: {1,3}\S|(?>.*? called at ).* line \d)"
)
BEGINS_A_TRACE: Final = re.compile(
    r"Traceback \(|(?:Error|Exception|EXCEPTION|Throwable|Interrupt)\b(?:[ :(\[]|$)|panic: |fatal error: |panicked at |Uncaught "
)
"""Possible beginnings of a trace: a record with one of these belongs to it."""
_FRAME_LIKE = re.compile(r"\s*(?:at |File \"|from |#\d|\.\.\. \d|Caused by|\d+: |\S.* called at )")
_DIGITS = re.compile(r"\d+")
_ENDS_A_TRACE = re.compile(
    r"(?:\w+\.)*\w*(?:Error|Exception|Warning|Exit|Interrupt|Timeout|Group)\b(?:: |$)|[^\W\d][\w.]*: "
)


class Plain(NamedTuple):
    """A line without its prefix, its index, and whether it had a prefix."""

    text: str
    number: int
    fresh: bool


class Prefix(NamedTuple):
    """The prefix of a line."""

    time: str
    level: str
    box: str
    stream: str
    length: int


def prefix_of(line: str) -> Prefix | None:
    """Return the prefix of a log line, or None where it starts with neither time nor level."""
    if not line or line[0] in " \t":
        return None
    return _prefix_of(line[:MOST_LOOKED_AT])


@lru_cache(maxsize=4096)
def _prefix_of(head: str) -> Prefix | None:
    match = _PREFIX.match(head) or _LEVEL_FIRST.match(head) or _BOX_ONLY.match(head)
    if match is None:
        return None
    box, time, tokens = match.group("box", "time", "tokens")
    box = box.strip(" |") if box else ""
    level, whose = _level_and_whose(tokens)
    return Prefix(time.strip("[]()<>"), level, box, f"{box}/{whose}", match.end())


@lru_cache(maxsize=4096)
def _level_and_whose(tokens: str) -> tuple[str, str]:
    level = _LEVEL.search(tokens)
    whose = [part for part in _WHOSE.findall(tokens) if not _LEVEL.fullmatch(part.strip("[]()"))]
    return level[1].upper() if level else "", " ".join(whose)


def streams(lines: Sequence[str]) -> list[list[Plain]]:
    """Return the lines of each stream, ready to be searched for stack traces.

    Where frames have prefixes, these are removed, and separate the streams. Where frames have none, the text stays
    as it is, without lines of others in the middle of a trace. In a log with both, both are returned: a search finds
    some traces twice, once whole.
    """
    prefixes = [prefix_of(line) for line in lines]
    if not any(prefixes):
        plain = [Plain(line, number, fresh=False) for number, line in enumerate(lines)]
        shifted = _shifted(plain)
        return [plain] if shifted is None else [plain, shifted]
    bearing = any(p and _is_part(line, p.length) for line, p in zip(lines, prefixes, strict=True))
    written = _as_written(lines, prefixes)
    alone = _without_bystanders(written)
    # Without lines in between, the two differ only in the end of a trace.
    streams_read = [alone] if _said(alone) == _said(written) else [written, alone]
    shifted = _shifted(written)
    if shifted is not None:
        streams_read.append(shifted)
    return [*streams_read, *_taken_off(lines, prefixes)] if bearing else streams_read


def _said(lines: Sequence[Plain]) -> list[str]:
    return [line.text for line in lines if line.text]


def _taken_off(lines: Sequence[str], prefixes: Sequence[Prefix | None]) -> list[list[Plain]]:
    by_stream: dict[str, list[Plain]] = {}
    looks: dict[str, str] = {}
    current = ""
    for number, (line, prefix) in enumerate(zip(lines, prefixes, strict=True)):
        if prefix is not None:
            current = prefix.stream
        mine = by_stream.setdefault(current, [])
        text = line if prefix is None else line[prefix.length :]
        if prefix is not None:
            look = _DIGITS.sub("0", line[: prefix.length])
            new = Plain(text, number, fresh=True)
            another = bool(mine) and not mine[-1].fresh
            other = look != looks.get(current) and text[:1] not in (" ", "\t")
            if (mine and _ends_before(mine, new)) or ((another or other) and not _is_part(text)):
                # Another logger or level, or another record: a trace before it has ended.
                mine.append(Plain("", number, fresh=True))
            looks[current] = look
        mine.append(Plain(text, number, fresh=prefix is not None))
    return list(by_stream.values())


def _is_part(line: str, at: int = 0) -> bool:
    """Whether a line, from an offset on, looks like a part of a stack trace."""
    return _STACK_PART.match(line, at, at + MOST_LOOKED_AT) is not None


def _ends_before(lines: Sequence[Plain], line: Plain) -> bool:
    """Whether a trace has probably ended: others have written since, and its last line was the type, or another trace begins."""
    last = lines[-1]
    ended = not _deep(last) and len(lines) > 1 and _deep(lines[-2]) and not _deep(line) and not _is_part(line.text)
    return line.number - last.number > 1 and (ended or BEGINS_ANEW.match(line.text) is not None)


def _deep(line: Plain) -> bool:
    return line.text[:1] in (" ", "\t") and bool(line.text.strip())


def _as_written(lines: Sequence[str], prefixes: Sequence[Prefix | None]) -> list[Plain]:
    """Leave out lines that were written into the middle of a stack trace without prefixes. Where other lines follow
    a prefixed one, it is the head of a record, and its prefix is removed.
    """
    heads = [p is not None and after is None for p, after in zip(prefixes, [*prefixes[1:], None], strict=True)]
    all_lines = [
        Plain(line[p.length :] if p is not None and head else line, n, p is not None)
        for n, (line, p, head) in enumerate(zip(lines, prefixes, heads, strict=True))
    ]
    lines_kept: list[Plain] = []
    for at, line in enumerate(all_lines):
        if line.fresh and lines_kept and _indented(lines_kept[-1]) and not BEGINS_A_TRACE.search(line.text):
            follows = next((other for other in all_lines[at + 1 : at + 8] if not other.fresh), None)
            python = not lines_kept[-1].text.lstrip().startswith("at ")
            if follows is not None and (_indented(follows) or (python and _ENDS_A_TRACE.match(follows.text))):
                continue
        if heads[at] and lines_kept and not lines_kept[-1].fresh:
            # Another record begins: a trace before it has ended.
            lines_kept.append(Plain("", line.number, fresh=True))
        lines_kept.append(line)
    return lines_kept


def _without_bystanders(lines: Sequence[Plain]) -> list[Plain]:
    """Leave out every record that others wrote between lines without a prefix."""
    lines_kept: list[Plain] = []
    for at, line in enumerate(lines):
        inside = line.fresh and lines_kept and not lines_kept[-1].fresh and not BEGINS_A_TRACE.search(line.text)
        if inside and any(not other.fresh for other in lines[at + 1 : at + 8]):
            continue
        ended = not line.fresh and lines_kept and not _deep(line) and _ends_before(lines_kept, line)
        if ended or (line.fresh and lines_kept and not lines_kept[-1].fresh):
            lines_kept.append(Plain("", line.number, line.fresh))
        lines_kept.append(line)
    return lines_kept


def _shifted(lines: Sequence[Plain]) -> list[Plain] | None:
    """Remove the indent of a whole trace; None where there is none. Where only its frames are indented, they stay as they are."""
    lines_shifted: list[Plain] = []
    any_shifted = False
    for fresh, group in groupby(lines, key=lambda line: line.fresh):
        block = list(group)
        first = next((line.text for line in block if line.text.strip()), "")
        if not fresh and first[:1] in (" ", "\t") and not _FRAME_LIKE.match(first):
            margins = [line.text[: len(line.text) - len(line.text.lstrip())] for line in block if line.text.strip()]
            least = min(margins, key=len)
            margin = least if all(one.startswith(least) for one in margins) else ""
            any_shifted = any_shifted or bool(margin)
            block = [line._replace(text=line.text.removeprefix(margin)) for line in block]
        lines_shifted += block
    return lines_shifted if any_shifted else None


def _indented(line: Plain) -> bool:
    return not line.fresh and _deep(line)
