"""The W3C extended log file format. Source: W3C working draft WD-logfile-960323, with the sub-status that servers add."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC
from functools import lru_cache, partial
from typing import NamedTuple
from urllib.parse import unquote

from obitus.core.log_files.requests import (
    Counts,
    Hours,
    Request,
    Step,
    count_in_steps,
    line_behind,
    point_of_each,
)
from obitus.core.log_files.times import time_of

_ANY = rb"[^ ]*+"
_LAST = rb"[^ \r\n]++"
_CLOCK = rb":[0-5]\d:[0-5]\d(?:\.\d{1,9})?+"
_PATH = {"cs-uri-stem": rb"/[^ \r\n]*+)", "cs-uri": rb"/[^ ?\r\n]*+)[^ \r\n]*+"}


class W3c:
    """The format, read piece by piece: the fields are named in the file, and may change in its middle. Times are UTC."""

    def __init__(self) -> None:
        self.header = Header()
        """What holds for the lines that come next."""

    def read(self, piece: bytes) -> Counts:
        """Read whole lines."""
        counts = Counts()
        for start, end in self._between_directives(piece):
            count_in_steps(counts, piece, start, end, partial(_Step, header=self.header))
        return counts

    def pass_over(self, piece: bytes) -> None:
        """Take note of the fields that whole lines name."""
        for _ in self._between_directives(piece):
            pass

    def _between_directives(self, piece: bytes) -> Iterator[tuple[int, int]]:
        """Yield where lines stand that one header holds for; the header is then theirs."""
        start = 0
        while start < len(piece):
            directive = _directive(piece, start)
            end = len(piece) if directive is None else directive
            if start < end:
                yield start, end
            if directive is None:
                return
            line = line_behind(piece, directive - 1)
            self.header = self.header.after(line)
            start = directive + len(line) + 1


def _directive(piece: bytes, start: int) -> int | None:
    at = piece.find(b"#", start)
    while at > 0 and piece[at - 1] != 10:
        at = piece.find(b"#", at + 1)
    return None if at < 0 else at


@dataclass(frozen=True, slots=True)
class Header:
    """What the directives before a line say: the fields, in order, and the date of times that bear none."""

    fields: tuple[str, ...] = ()
    date: str = ""

    def after(self, directive: bytes) -> Header:
        """Return the header behind a line that begins with ``#``."""
        name, _, rest = directive.decode("utf-8", "replace").partition(":")
        words = tuple(rest.split())
        if name == "#Fields":
            return Header(words, self.date)
        if name == "#Date" and words:
            return Header(self.fields, words[0])
        return self

    def request(self, line: bytes) -> Request | None:
        """Read one line, whole; None where it is no request."""
        return _request(line.decode("utf-8", "replace").split(), self)


class _Step(Step):
    def __init__(self, lines: bytes, place: int, header: Header) -> None:
        super().__init__(lines, place, header, Hours(UTC, 0))
        self._header = header
        self._patterns = _patterns(header.fields)

    def next_hour(self, place: int) -> tuple[bytes, re.Pattern[bytes]] | None:
        if self._patterns is None:
            return None
        found = self._patterns.hour.search(self.lines, place)
        return None if found is None else (self._written(found[1]), _other_than(found[1]))

    def count_hour(self, start: int, first: int, end: int) -> None:
        assert self._patterns is not None
        runs, not_well = self.mine.runs, set()
        found = self._patterns.line.findall(self.lines, first, end)
        if found:
            asked, statuses = zip(*found, strict=True)
            for (point, status), times in Counter(zip(point_of_each(asked), statuses, strict=True)).items():
                runs[start, point, int(status)] += times
                if status >= b"400":
                    not_well.add(status)
        for status in not_well:
            at = self.lines.find(b" " + status, first, end)
            while at >= 0:
                newline = self.lines.rfind(b"\n", 0, at)
                line = self._patterns.line.match(self.lines, newline)
                if line is not None and line.start(2) == at + 1:
                    self.tell(newline)
                at = self.lines.find(b" " + status, at + 1, end)

    def count_each(self, first: int) -> None:
        if self._patterns is not None:
            for found in self._patterns.each.finditer(self.lines, first):
                start = self.hours.of(self._written(found[1]))
                if start is not None:
                    self.add(start, found[2], int(found[3]), found.start())

    def is_counted(self, newline: int) -> bool:
        if self._patterns is None:
            return False
        if newline < self.together:
            return self._patterns.line.match(self.lines, newline) is not None
        found = self._patterns.each.match(self.lines, newline)
        return found is not None and self.hours.of(self._written(found[1])) is not None

    def _written(self, hour: bytes) -> bytes:
        date = b"" if b" " in hour else self._header.date.encode() + b" "
        return date + hour + b":00:00"


class _Patterns(NamedTuple):
    """What finds the lines that have all fields, each from the newline before it."""

    hour: re.Pattern[bytes]
    line: re.Pattern[bytes]
    each: re.Pattern[bytes]


@lru_cache(maxsize=64)
def _patterns(fields: tuple[str, ...]) -> _Patterns | None:
    """Return the patterns for fields in the order that servers write them; None for any other."""
    times = 2 if fields[:2] == ("date", "time") else 1 if fields[:1] == ("time",) else 0
    method = fields.index("cs-method") if "cs-method" in fields else len(fields)
    path = fields[method + 1] if method + 1 < len(fields) else ""
    if not times or path not in _PATH or "sc-status" not in fields[method:] or len(set(fields)) < len(fields):
        return None
    hour = rb"\d{4}-\d\d-\d\d \d\d" if times == 2 else rb"\d\d"

    def line(before: bytes) -> re.Pattern[bytes]:
        parts = [before + _CLOCK, *[_ANY] * (method - times), rb"([A-Za-z]++ " + _PATH[path]]
        parts += [rb"(\d\d\d)" if name == "sc-status" else _ANY for name in fields[method + 2 :]]
        if parts[-1] == _ANY:
            parts[-1] = _LAST
        return re.compile(rb"\n" + b" ".join(parts) + rb"(?=[\r\n]|\Z)")

    return _Patterns(
        re.compile(rb"\n(" + hour + rb"):"),
        line(hour),
        line(rb"(" + hour + rb")"),
    )


@lru_cache(maxsize=256)
def _other_than(hour: bytes) -> re.Pattern[bytes]:
    """Return what finds a line that is of another hour, or of none."""
    return re.compile(rb"\n(?!" + hour + rb":|\Z)")


def _request(values: Sequence[str], header: Header) -> Request | None:
    if len(values) != len(header.fields):
        return None
    part = {name: "" if value == "-" else value for name, value in zip(header.fields, values, strict=True)}
    status = part.get("sc-status", "")
    time_ms = time_of(f"{part.get('date') or header.date} {part.get('time', '')}", UTC, 0)
    if time_ms is None or not status.isdigit():
        return None
    target = part.get("cs-uri-stem") or part.get("cs-uri", "").partition("?")[0]
    taken = part.get("time-taken", "")
    # Milliseconds where it is a whole number, as the servers write it that add a sub-status; else seconds.
    duration = (
        (float(taken) if taken.isdigit() else float(taken) * 1000) if re.fullmatch(r"\d+(?:\.\d+)?", taken) else None
    )
    detail = ".".join(part[name] for name in ("sc-status", "sc-substatus", "sc-win32-status") if part.get(name))
    size = part.get("sc-bytes", "")
    return Request(
        time_ms,
        part.get("cs-method") or "?",
        target[:2000],
        int(status),
        detail=detail if "." in detail else "",
        client=(part.get("c-ip") or "")[:100],
        user=(part.get("cs-username") or "")[:100],
        agent=unquote(part.get("cs(User-Agent)", "").replace("+", " "))[:300],
        referrer=part.get("cs(Referer)", "")[:500],
        duration_ms=duration,
        bytes=int(size) if size.isdigit() else None,
    )
