"""The common and the combined log format. Source: the documentation of NCSA's server, which made them."""

from __future__ import annotations

import re
from datetime import tzinfo
from typing import Final

from obitus.core.bounds import medium, said, short
from obitus.core.log_files.requests import Counts, Hours, Request, Usual, count, point_of
from obitus.core.log_files.times import time_of

MOST_LINE: Final = 16 * 1024

_QUOTED = rb'(?:[^"\\\n]|\\.)*+'
_WHOLE_LINE = re.compile(
    rb"^(?P<client>\S+) \S+ (?P<user>(?:[^\[\n]|\[(?!\d))*+)(?<= )\[(?P<time>[^\]\n]{10,40})\] "
    rb'"(?:(?P<method>[A-Z]{1,20}) (?P<target>(?:[^ "\\\n]|\\.)*+)' + _QUOTED + rb"|" + _QUOTED + rb')" '
    rb'(?P<status>\d{3}) (?P<bytes>\d++|-)(?: "(?P<referrer>'
    + _QUOTED
    + rb')" "(?P<agent>'
    + _QUOTED
    + rb')")?(?P<rest>[^\n]*)$'
)
# The counted fields of most lines: the hour, the minute, the request up to its query, the status.
_USUAL = re.compile(
    rb"^[^\[\n]*+\[(\d\d/\w{3}/\d{4}:\d\d:[0-5]\d):\d\d((?: [+-]\d{4})?)\] "
    rb'"([A-Z]{1,20} [^ ?"\\\n]*+)[^"\\\n]*+" (\d\d\d) [\d-][^\n]*+',
    re.MULTILINE,
)


def is_line(line: bytes) -> bool:
    """Whether a line is one of this format."""
    return _match(line) is not None


def _match(line: bytes) -> re.Match[bytes] | None:
    return _WHOLE_LINE.match(line.rstrip(b"\r")[:MOST_LINE])


class Common:
    """The common and the combined format; times without an offset are in ``zone``, of a file last written at about that time."""

    def __init__(self, zone: tzinfo, about_ms: int) -> None:
        self.zone, self.about_ms = zone, about_ms
        self._hours = Hours(zone, about_ms)

    @property
    def usual(self) -> Usual:
        """The pattern of most lines."""
        return Usual(_USUAL, self._asked)

    def read(self, piece: bytes, *, tells: bool = True) -> Counts:
        """Read whole lines; ``tells`` says whether failed and refused ones are kept."""
        counts = Counts(tells)
        count(counts, piece, 0, len(piece), self)
        return counts

    def _asked(self, groups: tuple[bytes, ...]) -> tuple[int, str, int] | None:
        minute, offset, request, status = groups
        start = self._hours.start_of_minute(minute, offset)
        return None if start is None else (start, point_of(request), int(status))

    def request(self, line: bytes) -> Request | None:
        """Read one line, whole; None where it is none."""
        match = _match(line)
        if match is None:
            return None
        part = {name: (value or b"").decode("utf-8", "replace") for name, value in match.groupdict().items()}
        part["user"] = part["user"].removesuffix(" ")
        time_ms = time_of(part["time"], self.zone, self.about_ms)
        if time_ms is None:
            return None
        duration = re.search(r"(?:^| )(\d+\.\d{3,6})(?: |$)", part["rest"])
        return Request(
            time_ms,
            part["method"] or "?",
            medium(part["target"]),
            int(part["status"]),
            client=part["client"][:100],
            user="" if part["user"] in ("-", "") else part["user"][:100],
            agent=short(part["agent"]),
            referrer="" if part["referrer"] == "-" else said(part["referrer"]),
            duration_ms=float(duration[1]) * 1000 if duration else None,
            bytes=int(part["bytes"]) if part["bytes"].isdigit() else None,
        )
