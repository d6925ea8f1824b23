"""Finding stack traces in a log file of any size: block by block, at a steady rate, in flat memory.

Most of a log has no trace. So a block is first searched for the few byte patterns that every trace contains; only
the text around one is split into lines and parsed.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Final

from obitus.core.log_files.records import record_of
from obitus.core.stacks import FoundStack, find_stacks, holds_lines
from obitus.core.stacks.prefixes import BEGINS_A_TRACE, prefix_of

BEFORE: Final = 24
"""Lines before a line that may belong to a trace: its header, and its breadcrumbs."""
BEHIND: Final = 10
"""Lines after it: the rest of a message."""
LINES_BEFORE: Final = 20
"""Log lines that are reported with a trace, as its breadcrumbs."""
BESIDE: Final = 3
"""Records of others that may come between a trace's header and its first frame, or between its last frame and its end."""
SAME: Final = 10
"""Characters at the beginning, most often a date, by which a line counts as a record like another."""
MOST_CARRIED: Final = 1024 * 1024
MOST_LINE: Final = 16 * 1024

# Lines of a trace are indented, or numbered; with a prefix before each, or wrapped in JSON, the indent is
# inside the line. A search for one byte takes a fortieth of any other: a block without it is not searched further.
_RARE: Final = tuple(
    (byte, re.compile(pattern))
    for byte, pattern in (
        (b"\n", rb"\n[\t #]"),
        (b"\t", rb"\t(?:at |/[^\s]{1,300}\.go:|[\w:]{1,80}+\()"),
        (b"\\", rb"\\[t](?:at |/[^\s\\]{1,300}\.go:|[\w:]{1,80}+\()"),
        (b"@", rb"@[h]ttp"),
        (b"#", rb"#[0] "),
    )
)
_INSIDE: Final = (b"  at ", b"  File ", b":in ", b"goroutine ", b"panicked at")


@dataclass(frozen=True, slots=True)
class LoggedStack:
    """A stack trace, its offset in the file (bytes), the lines before it, and its time by the lines."""

    stack: FoundStack
    offset: int
    text: str
    before: tuple[str, ...]
    time: str
    """As written; ``""`` where no line near it bears one."""
    severity: str


class Scanner:
    """Takes blocks of a file, in order; yields the traces. A trace that may continue in the next block is kept until then."""

    def __init__(self, offset: int = 0) -> None:
        self._rest = b""
        self._offset = offset
        """Where ``_rest`` begins in the file."""
        self._last_time = ""

    @property
    def settled(self) -> int:
        """The offset up to which everything was reported: reading may continue from here."""
        return self._offset

    def feed(self, block: bytes, *, end: bool = False) -> Iterator[LoggedStack]:
        """Yield the traces that are complete by now; at the end of the file all of them."""
        data = self._rest + block
        cut = len(data) if end else data.rfind(b"\n") + 1
        if cut == 0 and len(data) > MOST_CARRIED:
            cut = len(data)
        whole, self._rest = data[:cut], data[cut:]
        keep_from = cut
        read_to = 0
        for first, last in self._regions(whole):
            start, stop = _line_start(whole, first, BEFORE), _line_end(whole, last, BEHIND)
            if stop >= len(whole) and not end and len(whole) - start < MOST_CARRIED:
                # It may continue in the next block.
                keep_from = start
                break
            yield from self._read(
                whole, start, stop, whole.count(b"\n", start, first + 1), whole.count(b"\n", start, last + 1)
            )
            read_to = stop
        if keep_from == cut and not end:
            # The block may end with the header of a trace whose first frame is in the next one.
            keep_from = max(read_to, _line_start(whole, max(0, len(whole) - 1), BEFORE))
            if cut - keep_from > MOST_CARRIED:
                keep_from = cut
        if keep_from < cut:
            self._rest = whole[keep_from:] + self._rest
        self._offset += keep_from

    def _regions(self, data: bytes) -> Iterator[tuple[int, int]]:
        """Yield spans with byte patterns of traces, adjacent ones as one."""
        places = [found.start() for byte, sign in _RARE if byte in data for found in sign.finditer(data)]
        for sign in _INSIDE:
            at = data.find(sign)
            while at >= 0:
                places.append(at)
                # The rest of the line belongs to the same trace, or to none.
                after = data.find(b"\n", at + 1)
                if after < 0:
                    break
                at = data.find(sign, after)
        if data[:1] in (b" ", b"\t"):
            places.append(0)
        if not places:
            return
        places.sort()
        first = last = places[0]
        for place in places[1:]:
            if place - last > 200 and data.count(b"\n", last, place) > BEFORE + BEHIND:
                yield first, last
                first = place
            last = place
        yield first, last

    def _read(self, data: bytes, start: int, stop: int, first: int, last: int) -> Iterator[LoggedStack]:
        """Parse the lines between two offsets; the patterns are in the lines from ``first`` to ``last`` of these."""
        raw = data[start:stop].split(b"\n")
        lines = _as_text(raw)
        if not any(lines):
            return
        ends = 0
        from_line, to_line = _records(lines, first, last)
        for inner in find_stacks("\n".join(lines[from_line:to_line])):
            stack = replace(inner, first_line=inner.first_line + from_line, end_line=inner.end_line + from_line)
            offset = self._offset + start + sum(len(line) + 1 for line in raw[: stack.first_line])
            time, severity = self._time(lines, stack.first_line)
            before = [
                line for line in lines[max(ends, stack.first_line - LINES_BEFORE) : stack.first_line] if line.strip()
            ]
            ends = stack.end_line
            yield LoggedStack(
                stack, offset, "\n".join(lines[stack.first_line : stack.end_line]), tuple(before), time, severity
            )

    def _time(self, lines: list[str], first: int) -> tuple[str, str]:
        severity = ""
        for at in range(first, max(-1, first - BEFORE), -1):
            record = record_of(lines[at])
            if record is None:
                continue
            severity = severity or record.severity
            if record.time:
                self._last_time = record.time
                return record.time, severity
        return self._last_time, severity


def _as_text(raw: list[bytes]) -> list[str]:
    """Return lines as text within bounds, without characters that other programs treat as the end of a line."""
    text = b"\n".join(raw).decode("utf-8", "replace")
    lines = text.split("\n")
    plain = "\0" not in text and "\r" not in text and max(map(len, raw)) <= MOST_LINE
    if plain and len(lines) - len(text.splitlines()) in (0, 1):
        return lines
    lines = [line[:MOST_LINE].decode("utf-8", "replace").rstrip("\r").replace("\0", "") for line in raw]
    return ["".join(line.splitlines()) for line in lines]


def _records(lines: list[str], first: int, last: int) -> tuple[int, int]:
    """Return which lines to search: from the record with the first pattern to the one after the last. Where frames
    have prefixes themselves, or each is wrapped in JSON, a trace spans many records: then all lines are searched.
    """
    whole_in_one = lines[first].startswith("{") and holds_lines(lines[first])
    # A trace in one value of JSON is complete: no other line belongs to it.
    if whole_in_one and first == last and _begins_record(lines[first + 1] if first + 1 < len(lines) else "{"):
        return first, first + 1
    if not whole_in_one and any(_begins_record(line) for line in lines[first : last + 1]):
        return 0, len(lines)
    while first > 0 and not _begins_record(lines[first]):
        first -= 1
    last += 1
    while last < len(lines) and not _begins_record(lines[last]):
        last += 1
    before, behind = lines[max(0, first - BESIDE) : first], lines[last : last + BESIDE]
    begins = lines[first][:SAME] if _begins_record(lines[first]) else None
    from_line = first - (len(before) if _may_belong(before, begins) else 0)
    return from_line, last + (len(behind) if _may_belong(behind, begins) else 0)


def _may_belong(beside: list[str], begins: str | None) -> bool:
    """Whether parts of a trace may be among the lines around a record that begins so: records of others have none."""
    return any(
        line and ((line[:SAME] != begins and not _begins_record(line)) or BEGINS_A_TRACE.search(line))
        for line in beside
    )


def _begins_record(line: str) -> bool:
    return line[:1] == "{" or prefix_of(line) is not None


def _line_start(data: bytes, at: int, lines: int) -> int:
    for _ in range(lines + 1):
        before = data.rfind(b"\n", 0, at)
        if before < 0:
            return 0
        at = before
    return at + 1


def _line_end(data: bytes, at: int, lines: int) -> int:
    for _ in range(lines + 1):
        after = data.find(b"\n", at + 1)
        if after < 0:
            return len(data)
        at = after
    return at
