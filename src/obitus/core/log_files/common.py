"""The common and the combined log format. Source: the documentation of NCSA's server, which made them."""

from __future__ import annotations

import re
from datetime import tzinfo
from typing import TYPE_CHECKING, Final

from obitus.core.log_files.requests import Counts, Hours, Request, count_in_steps, point_of
from obitus.core.log_files.times import time_of

if TYPE_CHECKING:
    from obitus.core.log_files.columns import Block, Columns

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
# What is counted of most lines: the hour, the minute, what was asked up to the query, the status.
_ASKED = re.compile(
    rb"[^\[\n]*+\[(\d\d/\w{3}/\d{4}:\d\d:[0-5]\d):\d\d((?: [+-]\d{4})?)\] "
    rb'"([A-Z]{1,20} [^ ?"\\\n]*+)[^"\\\n]*+" (\d\d\d) [\d-]'
)


def is_line(line: bytes) -> bool:
    """Whether a line is one of this format."""
    return _match(line) is not None


def _match(line: bytes) -> re.Match[bytes] | None:
    return _WHOLE_LINE.match(line.rstrip(b"\r")[:MOST_LINE])


class Common:
    """The common and the combined format; times without an offset are in ``zone``, of a file last written about then.

    ``at_once`` says whether to read many lines together, which needs NumPy.
    """

    def __init__(self, zone: tzinfo, about_ms: int, *, at_once: bool = False) -> None:
        self.zone, self.about_ms, self.at_once = zone, about_ms, at_once
        self._hours = Hours(zone, about_ms)

    def read(self, piece: bytes, *, tells: bool = True) -> Counts:
        """Read whole lines; ``tells`` says whether those that did not go well are kept."""
        counts = Counts(tells)
        count_in_steps(counts, piece, 0, len(piece), self, at_once=self.at_once)
        return counts

    def asked(self, line: bytes) -> tuple[int, str, int] | None:
        """Return only the hour, the entry point and the status of a line that is written as most are; None for others."""
        found = _ASKED.match(line)
        if found is None:
            return None
        minute, offset, request, status = found.groups()
        start = self._hours.start_of_minute(minute, offset)
        return None if start is None else (start, point_of(request), int(status))

    def columns(self, block: Block) -> Columns:
        """Return what many lines say, as columns of numbers."""
        from obitus.core.log_files.column_forms import common

        return common(block, self._hours)

    def request(self, line: bytes) -> Request | None:
        """Read one line, whole; None where it is none."""
        found = _match(line)
        if found is None:
            return None
        part = {name: (value or b"").decode("utf-8", "replace") for name, value in found.groupdict().items()}
        part["user"] = part["user"].removesuffix(" ")
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
