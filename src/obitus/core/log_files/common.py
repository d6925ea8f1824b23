"""The common and the combined log format. Source: the documentation of NCSA's server, which made them."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import tzinfo
from functools import lru_cache
from typing import Final

from obitus.core.log_files.requests import Counts, Hours, Request, Step, count_in_steps, point_of, points_of
from obitus.core.log_files.times import time_of

MOST_LINE: Final = 16 * 1024

_LINE = re.compile(
    rb'^(?P<client>\S+) \S+ (?P<user>.*?) \[(?P<time>[^\]\n]{10,40})\] "(?:(?P<method>[A-Z]{1,20}) (?P<target>[^ "\n]*)[^"\n]*|[^"\n]*)" '
    rb'(?P<status>\d{3}) (?P<bytes>\d+|-)(?: "(?P<referrer>(?:[^"\\\n]|\\.)*)" "(?P<agent>(?:[^"\\\n]|\\.)*)")?(?P<rest>[^\n]*)$'
)
# Most requests are answered with 200. One match a line, from the newline before it: what was asked, up to the query.
_WELL = re.compile(rb'\n[^"]*+(?<=[+-]\d\d\d\d\] )"([A-Z]++ [^ ?"\n]*+)[^"]*+" 200 ')
_OTHERS = re.compile(rb'" [13-9]\d\d ')
_OTHERS_WELL = re.compile(rb'" 2(?!00)\d\d ')
_REQUEST = re.compile(rb'(?<=[+-]\d\d\d\d\] )"([A-Z]++ [^ ?"\n]*+)[^"\n]*+" \d\d\d ')
_LINE_COUNTED = re.compile(rb'\n[^"\n]*+' + _REQUEST.pattern)
_BY_MINUTE = re.compile(
    rb"\n[^\[\n]*+\[(\d\d/\w{3}/\d{4}:\d\d:\d\d):\d\d((?: [+-]\d\d\d\d)?)\] "
    rb'"([A-Z]++ [^ ?"\n]*+)[^"\n]*+" (\d\d\d)(?= )'
)
_HOUR = re.compile(rb" \[(\d\d/\w{3}/\d{4}:\d\d):\d\d:\d\d( [+-]\d\d\d\d)\]")


def is_line(line: bytes) -> bool:
    """Whether a line is one of this format."""
    return _match(line) is not None


def _match(line: bytes) -> re.Match[bytes] | None:
    return _LINE.match(line.rstrip(b"\r")[:MOST_LINE])


@dataclass(frozen=True, slots=True)
class Common:
    """The common and the combined format; times without an offset are in ``zone``, of a file last written about then."""

    zone: tzinfo
    about_ms: int

    def read(self, piece: bytes) -> Counts:
        """Read whole lines."""
        counts = Counts()
        count_in_steps(counts, piece, 0, len(piece), lambda lines, place: _Step(lines, place, self))
        return counts

    def request(self, line: bytes) -> Request | None:
        """Read one line, whole; None where it is none."""
        found = _match(line)
        if found is None:
            return None
        part = {name: (value or b"").decode("utf-8", "replace") for name, value in found.groupdict().items()}
        time_ms = time_of(part["time"], self.zone, self.about_ms)
        if time_ms is None:
            return None
        duration = re.search(r"(?:^| )(\d+\.\d{3,6})(?: |$)", part["rest"])
        return Request(
            time_ms,
            part["method"] or "?",
            part["target"][:2000],
            int(part["status"]),
            client=part["client"][:100],
            user="" if part["user"] in ("-", "") else part["user"][:100],
            agent=part["agent"][:300],
            referrer="" if part["referrer"] == "-" else part["referrer"][:500],
            duration_ms=float(duration[1]) * 1000 if duration else None,
            bytes=int(part["bytes"]) if part["bytes"].isdigit() else None,
        )


class _Step(Step):
    def __init__(self, lines: bytes, place: int, form: Common) -> None:
        super().__init__(lines, place, form, Hours(form.zone, form.about_ms))
        self._parts: list[tuple[int, int, int]] = []

    def next_hour(self, place: int) -> tuple[bytes, re.Pattern[bytes]] | None:
        first = _HOUR.search(self.lines, place)
        return None if first is None else (first[1] + b":00:00" + first[2], _other_than(first[1], first[2]))

    def count_hour(self, start: int, first: int, end: int) -> None:
        runs = self.mine.runs
        for point, times in points_of(_WELL.findall(self.lines, first, end)).items():
            runs[start, point, 200] += times
        self._others(_OTHERS, start, first, end)
        self._parts.append((start, first, end))

    def count_odd(self) -> None:
        for start, first, end in self._parts:
            self._others(_OTHERS_WELL, start, first, end)

    def _others(self, answered: re.Pattern[bytes], start: int, first: int, end: int) -> None:
        """Count the requests of one hour that were answered as the pattern says."""
        lines, runs = self.lines, self.mine.runs
        for found in answered.finditer(lines, first, end):
            at = found.start()
            request = _REQUEST.match(lines, lines.rfind(b'"', 0, at))
            if request is not None:
                status = int(lines[at + 2 : at + 5])
                runs[start, point_of(request[1]), status] += 1
                if status >= 400:
                    self.tell(lines.rfind(b"\n", 0, at))

    def count_each(self, first: int) -> None:
        for found in _BY_MINUTE.finditer(self.lines, first):
            start = self.hours.of(found[1] + b":00" + found[2])
            if start is not None:
                self.add(start, found[3], int(found[4]), found.start())

    def is_counted(self, newline: int) -> bool:
        if newline < self.together:
            return _LINE_COUNTED.match(self.lines, newline) is not None
        found = _BY_MINUTE.match(self.lines, newline)
        return found is not None and self.hours.of(found[1] + b":00" + found[2]) is not None


@lru_cache(maxsize=256)
def _other_than(hour: bytes, offset: bytes) -> re.Pattern[bytes]:
    """Return what finds the time of a line that is of another hour or bears another offset."""
    return re.compile(rb"\[(?!" + hour + rb":\d\d:\d\d" + re.escape(offset) + rb"\])\d\d/\w{3}/\d{4}:")
