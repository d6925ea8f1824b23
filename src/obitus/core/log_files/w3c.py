"""The W3C extended log file format. Source: W3C working draft WD-logfile-960323, with the sub-status that servers add."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC
from functools import lru_cache
from typing import Final
from urllib.parse import unquote

from obitus.core.bounds import medium, said, short
from obitus.core.log_files.requests import Counts, Hours, Request, Usual, count, point_of
from obitus.core.log_files.times import time_of

_UTC = Hours(UTC, 0)
# Patterns of the counted fields in most lines; any other field is anything without a blank.
_FORMS: Final = {
    "date": rb"(\d{4}-\d\d-\d\d)",
    "time": rb"(\d\d:[0-5]\d):\d\d(?:\.\d+)?",
    "cs-method": rb"([A-Za-z]+)",
    "path": rb"(/[^\s?]*+)\S*+",
    "sc-status": rb"(\d{3})",
}
_ANY: Final = rb"\S++"


class W3c:
    """The format, read piece by piece: the fields are named in the file, and may change inside of it. Times are UTC."""

    def __init__(self) -> None:
        self.header = Header()
        """The header for the next lines."""

    def read(self, piece: bytes, *, tells: bool = True) -> Counts:
        """Read whole lines; ``tells`` says whether failed and refused ones are kept."""
        counts = Counts(tells)
        for start, end in self._between_directives(piece):
            count(counts, piece, start, end, self.header)
        return counts

    def pass_over(self, piece: bytes) -> None:
        """Store the fields that whole lines name."""
        for _ in self._between_directives(piece):
            pass

    def _between_directives(self, piece: bytes) -> Iterator[tuple[int, int]]:
        """Yield spans of lines with one header, after making it the current one."""
        start = 0
        while start < len(piece):
            directive = _directive(piece, start)
            end = len(piece) if directive is None else directive
            if start < end:
                yield start, end
            if directive is None:
                return
            line = piece[directive : piece.find(b"\n", directive) + 1 or len(piece)].removesuffix(b"\n")
            self.header = self.header.after(line)
            start = directive + len(line) + 1


def _directive(piece: bytes, start: int) -> int | None:
    at = piece.find(b"#", start)
    while at > 0 and piece[at - 1] != 10:
        at = piece.find(b"#", at + 1)
    return None if at < 0 else at


@dataclass(frozen=True, slots=True)
class Header:
    """The directives before a line: the fields, in order, and the date of times without one."""

    fields: tuple[str, ...] = ()
    date: str = ""

    def after(self, directive: bytes) -> Header:
        """Return the header after a line that begins with ``#``."""
        name, _, rest = directive.decode("utf-8", "replace").partition(":")
        words = tuple(rest.split())
        if name == "#Fields":
            return Header(words, self.date)
        if name == "#Date" and words:
            return Header(self.fields, words[0])
        return self

    def request(self, line: bytes) -> Request | None:
        """Read one line, whole; None where it is no request."""
        values = line.split()
        if len(values) != len(self.fields):
            return None
        return _request([value.decode("utf-8", "replace") for value in values], self)

    @property
    def usual(self) -> Usual | None:
        """The pattern of most lines with these fields; None where a counted field is missing."""
        return _usual(self.fields, self.date)


@lru_cache(maxsize=64)
def _usual(fields: tuple[str, ...], named_date: str) -> Usual | None:
    """Return the same for lines without a date where the file names one."""
    path = "cs-uri-stem" if "cs-uri-stem" in fields else "cs-uri"
    wanted = ("date", "time", "cs-method", path, "sc-status")
    if any(fields.count(name) != 1 for name in wanted[1:]) or fields.count("date") > 1:
        return None
    parts = [(_FORMS["path" if name == path else name] if name in wanted else _ANY) for name in fields]
    order = [name for name in fields if name in wanted]
    time, method, target, status = (order.index(name) for name in wanted[1:])
    date = order.index("date") if "date" in order else None
    named = named_date.encode()
    start_of = _UTC.start_of_minute

    def asked(groups: tuple[bytes, ...]) -> tuple[int, str, int] | None:
        day = named if date is None else groups[date]
        start = start_of(b"%b %b" % (day, groups[time]), b"")
        return (
            None
            if start is None
            else (start, point_of(b"%b %b" % (groups[method], groups[target])), int(groups[status]))
        )

    return Usual(re.compile(rb"^" + rb" ".join(parts) + rb"\r?$", re.MULTILINE), asked)


def _request(values: Sequence[str], header: Header) -> Request | None:
    part = {name: "" if value == "-" else value for name, value in zip(header.fields, values, strict=True)}
    status = part.get("sc-status", "")
    time_ms = time_of(f"{part.get('date') or header.date} {part.get('time', '')}", UTC, 0)
    if time_ms is None or not status.isdigit():
        return None
    target = part.get("cs-uri-stem") or part.get("cs-uri", "").partition("?")[0]
    taken = part.get("time-taken", "")
    # Milliseconds where it is a whole number, as by servers that add a sub-status; else seconds.
    duration = (
        (float(taken) if taken.isdigit() else float(taken) * 1000) if re.fullmatch(r"\d+(?:\.\d+)?", taken) else None
    )
    detail = ".".join(part[name] for name in ("sc-status", "sc-substatus", "sc-win32-status") if part.get(name))
    size = part.get("sc-bytes", "")
    return Request(
        time_ms,
        part.get("cs-method") or "?",
        medium(target),
        int(status),
        detail=detail if "." in detail else "",
        client=(part.get("c-ip") or "")[:100],
        user=(part.get("cs-username") or "")[:100],
        agent=short(unquote(part.get("cs(User-Agent)", "").replace("+", " "))),
        referrer=said(part.get("cs(Referer)", "")),
        duration_ms=duration,
        bytes=int(size) if size.isdigit() else None,
    )
