"""The W3C extended log file format. Source: W3C working draft WD-logfile-960323, with the sub-status that servers add."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC
from functools import lru_cache
from typing import TYPE_CHECKING, NamedTuple
from urllib.parse import unquote

from obitus.core.log_files.requests import Counts, Hours, Request, count_in_steps, point_of
from obitus.core.log_files.times import time_of

if TYPE_CHECKING:
    from obitus.core.log_files.columns import Block, Columns

_UTC = Hours(UTC, 0)
_LINE = re.compile(rb"\d\d:[0-5]\d:\d\d(?:\.\d+)? [A-Za-z]+ /[^ ]* \d{3}")


class W3c:
    """The format, read piece by piece: the fields are named in the file, and may change in its middle. Times are UTC."""

    def __init__(self, *, at_once: bool = False) -> None:
        self.at_once = at_once
        """Whether to read many lines together, which needs NumPy."""
        self.header = Header()
        """What holds for the lines that come next."""

    def read(self, piece: bytes, *, tells: bool = True) -> Counts:
        """Read whole lines; ``tells`` says whether those that did not go well are kept."""
        counts = Counts(tells)
        for start, end in self._between_directives(piece):
            count_in_steps(counts, piece, start, end, self.header, at_once=self.at_once)
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
        values = line.split()
        if len(values) != len(self.fields):
            return None
        return _request([value.decode("utf-8", "replace") for value in values], self)

    def asked(self, line: bytes) -> tuple[int, str, int] | None:
        """Return only the hour, the entry point and the status of a line that is written as most are; None for others."""
        values = line.split()
        places = _places(self.fields)
        if places is None or len(values) != len(self.fields):
            return None
        date, time, method, path, status = places
        day = self.date.encode() if date is None else values[date]
        if _LINE.fullmatch(b" ".join((values[time], values[method], values[path], values[status]))) is None:
            return None
        start = _UTC.start_of_minute(day + b" " + values[time][:5], b"")
        if start is None:
            return None
        return start, point_of(values[method] + b" " + values[path].partition(b"?")[0]), int(values[status])

    def columns(self, block: Block) -> Columns | None:
        """Return what many lines say, as columns of numbers; None where they have to be read one by one."""
        from obitus.core.log_files.column_forms import extended

        places = _places(self.fields)
        return None if places is None else extended(block, len(self.fields), places, self.date, _UTC)


class FieldPlaces(NamedTuple):
    """Where the fields stand that are counted by; a file may name the date once for all lines."""

    date: int | None
    time: int
    method: int
    path: int
    status: int


@lru_cache(maxsize=64)
def _places(fields: tuple[str, ...]) -> FieldPlaces | None:
    """Return where the date, the time, the method, the path and the status stand; None where one but the date is missing."""
    place = {name: number for number, name in enumerate(fields)}
    path = place.get("cs-uri-stem", place.get("cs-uri"))
    time, method, status = (place.get(name) for name in ("time", "cs-method", "sc-status"))
    if time is None or method is None or path is None or status is None:
        return None
    return FieldPlaces(place.get("date"), time, method, path, status)


def _request(values: Sequence[str], header: Header) -> Request | None:
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
