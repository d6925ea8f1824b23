"""Requests in access logs, counted by entry point, hour and status."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import tzinfo
from typing import Final, NamedTuple, Protocol

from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.core.entry_points import entry_point
from obitus.core.log_files.times import time_of

MOST_EXAMPLES: Final = 5
MOST_REMEMBERED: Final = 100_000
MOST_WELL: Final = 2_000
STEP_BYTES: Final = 16 * 1024
"""Bytes that are counted at a time: a line of another form makes only these be parsed line by line."""


@dataclass(frozen=True, slots=True)
class Request:
    """One line: a request that was answered."""

    time_ms: int
    method: str
    target: str
    status: int
    detail: str = ""
    """Sub-status and the system's own code, where the server has them: ``500.19.5``."""
    client: str = ""
    user: str = ""
    agent: str = ""
    referrer: str = ""
    duration_ms: float | None = None
    bytes: int | None = None

    @property
    def entry_point(self) -> str:
        """Method and path, with ``{id}`` for the varying parts."""
        return entry_point(self.method, self.target)

    @property
    def hour_ms(self) -> int:
        """The start of its hour, Unix milliseconds."""
        return self.time_ms // HOUR_MS * HOUR_MS

    @property
    def outcome(self) -> str:
        """``failed`` from 500 on, ``refused`` from 400 on, else ``ok``."""
        return outcome_of(self.status)


Runs = Counter[tuple[int, str, int]]
"""By start of the hour (Unix milliseconds), entry point, and status."""


class WholeLine(NamedTuple):
    """A line that is to be reported whole: its offset (bytes from the start of the piece), and its fields."""

    place: int
    line: bytes
    form: LineForm


class Usual(NamedTuple):
    """The form of most lines, from which only the counted fields have to be taken."""

    pattern: re.Pattern[bytes]
    """A whole line, from ``^`` on (MULTILINE), with the counted fields as groups."""
    asked: Callable[[tuple[bytes, ...]], tuple[int, str, int] | None]
    """Given the groups, returns the start of the hour, the entry point and the status; None where one of them is none."""


class LineForm(Protocol):
    """A reader of the lines of an access log."""

    @property
    def usual(self) -> Usual | None:
        """The pattern of most lines; None where each has to be parsed whole."""

    def request(self, line: bytes) -> Request | None:
        """Read one line, whole; None where it is no request."""


@dataclass
class Counts:
    """The content of a piece of an access log: counted requests, failed and refused ones, and unreadable lines."""

    tells: bool = True
    """Whether failed and refused ones are kept, to be reported whole."""
    runs: Runs = field(default_factory=Counter)
    not_well: int = 0
    whole_lines: list[WholeLine] = field(default_factory=list)
    well: dict[tuple[int, str], WholeLine] = field(default_factory=dict)
    """By day (since 1970) and entry point, the first healthy request, to compare with."""
    lines: int = 0
    unreadable: int = 0
    examples: list[str] = field(default_factory=list)

    def lacks(self, request: tuple[int, str, int]) -> bool:
        """Whether a healthy request is the first of its day and entry point."""
        hour_ms, point, status = request
        return (
            self.tells and status < 400 and len(self.well) < MOST_WELL and (hour_ms // DAY_MS, point) not in self.well
        )

    def tell(self, request: tuple[int, str, int], line: WholeLine) -> None:
        """Keep a line whole, where it failed or was refused, or is the first healthy one of its day and entry point."""
        if request[2] >= 400:
            self.whole_lines.append(line)
        elif self.lacks(request):
            self.well[request[0] // DAY_MS, request[1]] = line

    def cannot_read(self, line: bytes) -> None:
        """Count a line that is no request."""
        self.unreadable += 1
        if len(self.examples) < MOST_EXAMPLES:
            self.examples.append(line[:160].decode("utf-8", "replace"))


def outcome_of(status: int) -> str:
    """Return the outcome of a run that was answered with this status."""
    return "failed" if status >= 500 else "refused" if status >= 400 else "ok"


_POINTS: dict[bytes, str] = {}


def point_of(request: bytes) -> str:
    """Return the entry point of a method and a path in a log."""
    point = _POINTS.get(request)
    if point is None:
        method, _, path = request.decode("utf-8", "replace").partition(" ")
        if len(_POINTS) >= MOST_REMEMBERED:
            _POINTS.clear()
        point = _POINTS[request] = entry_point(method, path)
    return point


class Hours:
    """Parsed times, cached by their text."""

    def __init__(self, zone: tzinfo, about_ms: int) -> None:
        self._zone, self._about_ms = zone, about_ms
        self._moments: dict[bytes, int | None] = {}
        self._starts: dict[tuple[bytes, bytes], int | None] = {}

    def moment(self, written: bytes) -> int | None:
        """Return a written time, Unix milliseconds; None where it is none."""
        if written not in self._moments:
            if len(self._moments) >= MOST_REMEMBERED:
                self._moments.clear()
            self._moments[written] = time_of(written.decode("ascii", "replace"), self._zone, self._about_ms)
        return self._moments[written]

    def start_of_minute(self, minute: bytes, offset: bytes) -> int | None:
        """Return the start of the hour of a minute, Unix milliseconds; None where it is none. ``minute`` is a time
        up to its minute, ``offset`` the text after the seconds.
        """
        try:
            return self._starts[minute, offset]
        except KeyError:
            time_ms = self.moment(minute + b":00" + offset)
        if len(self._starts) >= MOST_REMEMBERED:
            self._starts.clear()
        start = self._starts[minute, offset] = None if time_ms is None else time_ms // HOUR_MS * HOUR_MS
        return start


def count(counts: Counts, piece: bytes, start: int, end: int, form: LineForm) -> None:
    """Count whole lines between two offsets, some at a time: equal values are handled once. Where one of them has
    another form, these few are parsed one by one, with the same result.
    """
    while start < end:
        stop = min(piece.find(b"\n", start + STEP_BYTES) + 1 or end, end)
        lines = piece[start:stop]
        if not _count_alike(counts, lines, start, form):
            _count_each(counts, lines, start, form)
        start = stop


def _count_alike(counts: Counts, lines: bytes, place: int, form: LineForm) -> bool:
    """Count lines that all have the usual form; else count none of them, and return False."""
    usual = form.usual
    if usual is None:
        return False
    matches = usual.pattern.findall(lines)
    if len(matches) != lines.count(b"\n") + (not lines.endswith(b"\n")):
        return False
    alike = Counter(matches)
    requests = {groups: usual.asked(groups) for groups in alike}
    if None in requests.values():
        return False
    counts.lines += len(matches)
    not_well = 0
    for groups, times in alike.items():
        request = requests[groups]
        assert request is not None
        counts.runs[request] += times
        not_well += times * (request[2] >= 400)
    counts.not_well += not_well
    if counts.tells and (
        not_well or any(request is not None and counts.lacks(request) for request in requests.values())
    ):
        at = place
        for line, groups in zip(lines.split(b"\n"), matches, strict=False):
            request = requests[groups]
            if request is not None:
                counts.tell(request, WholeLine(at, line, form))
            at += len(line) + 1
    return True


def _count_each(counts: Counts, lines: bytes, place: int, form: LineForm) -> None:
    """Count lines one by one; ``place`` is where they begin in the piece."""
    for line in lines.split(b"\n"):
        if line and not line.isspace():
            _count_line(counts, line, place, form)
        place += len(line) + 1


def _count_line(counts: Counts, line: bytes, place: int, form: LineForm) -> None:
    counts.lines += 1
    usual = form.usual
    match = usual.pattern.match(line) if usual is not None else None
    counted = usual.asked(match.groups()) if usual is not None and match is not None else None
    if counted is None:
        request = form.request(line)
        if request is None:
            counts.cannot_read(line)
            return
        counted = request.hour_ms, request.entry_point, request.status
    counts.runs[counted] += 1
    counts.not_well += counted[2] >= 400
    if counts.tells:
        counts.tell(counted, WholeLine(place, line, form))
