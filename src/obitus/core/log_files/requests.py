"""What an access log tells: requests that were answered, counted by entry point, hour and status."""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import tzinfo
from functools import lru_cache
from itertools import filterfalse
from typing import Final, NamedTuple, Protocol, cast
from urllib.parse import unquote

from obitus.core.clock import HOUR_MS
from obitus.core.log_files.times import time_of

MOST_EXAMPLES: Final = 5
MOST_REMEMBERED: Final = 100_000
STEP_BYTES: Final = 512 * 1024
SHORT_BYTES: Final = 16 * 1024
"""Lines of one hour that are fewer bytes than these are not worth looking for."""
_SEGMENT = re.compile(r"^(?:\d+|[0-9a-fA-F-]{8,}|(?=[^/]*\d)[\w.~@:+-]{2,}|[\w-]{24,}|.*%.*)$")
_VERSION = re.compile(r"v\d{1,2}")
_STATIC = re.compile(
    r"\.(?:js|mjs|css|map|png|jpe?g|gif|svg|ico|webp|woff2?|ttf|txt|xml|json|html?|pdf)$", re.IGNORECASE
)


@dataclass(frozen=True, slots=True)
class Request:
    """One line: a request that was answered."""

    time_ms: int
    method: str
    target: str
    status: int
    detail: str = ""
    """Sub-status and the system's own code, where the server says: ``500.19.5``."""
    client: str = ""
    user: str = ""
    agent: str = ""
    referrer: str = ""
    duration_ms: float | None = None
    bytes: int | None = None

    @property
    def entry_point(self) -> str:
        """Method and path, with ``{id}`` in the place of what differs from request to request."""
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


class Told(NamedTuple):
    """A line that is to be told whole: where it begins (bytes from the start of the piece), and how it is read."""

    place: int
    line: bytes
    form: LineForm


class LineForm(Protocol):
    """What reads the lines of an access log."""

    def request(self, line: bytes) -> Request | None:
        """Read one line, whole; None where it is no request."""


@dataclass
class Counts:
    """What a piece of an access log holds: requests counted, those that did not go well, and lines that cannot be read."""

    runs: Runs = field(default_factory=Counter)
    told: list[Told] = field(default_factory=list)
    lines: int = 0
    unreadable: int = 0
    examples: list[str] = field(default_factory=list)

    def add(self, other: Counts, place: int) -> None:
        """Add what a piece holds that begins at ``place`` of this one."""
        self.runs.update(other.runs)
        self.told += [told._replace(place=place + told.place) for told in other.told] if place else other.told
        self.lines += other.lines
        self.unreadable += other.unreadable
        self.examples += other.examples[: MOST_EXAMPLES - len(self.examples)]

    def cannot_read(self, line: bytes) -> None:
        """Count a line that is no request."""
        self.unreadable += 1
        if len(self.examples) < MOST_EXAMPLES:
            self.examples.append(line[:160].decode("utf-8", "replace"))


def outcome_of(status: int) -> str:
    """Return the outcome of a run that was answered with this status."""
    return "failed" if status >= 500 else "refused" if status >= 400 else "ok"


@lru_cache(maxsize=65536)
def entry_point(method: str, target: str) -> str:
    """Return method and path, with ``{id}`` for segments that hold numbers or look made up."""
    path = target.partition("?")[0].partition("#")[0]
    if path.startswith(("http://", "https://")):
        path = "/" + path.split("/", 3)[3] if path.count("/") > 2 else "/"
    if _STATIC.search(path):
        return f"{method} {path.rpartition('/')[0]}/*"[:300]
    parts = [
        # A short word is a name; most segments are.
        part
        if not part or (part.isascii() and part.isalpha() and len(part) < 8)
        else "{id}"
        if _SEGMENT.match(part) and not _VERSION.fullmatch(part)
        else unquote(part)
        for part in path.split("/")[:12]
    ]
    return f"{method} {'/'.join(parts) or '/'}"[:300]


_POINTS: dict[bytes, str] = {}


def point_of(request: bytes) -> str:
    """Return the entry point of a method and a path as they stand in a log."""
    point = _POINTS.get(request)
    if point is None:
        method, _, path = request.decode("utf-8", "replace").partition(" ")
        if len(_POINTS) >= MOST_REMEMBERED:
            _POINTS.clear()
        point = _POINTS[request] = entry_point(method, path)
    return point


def points_of(requests: list[bytes]) -> Counter[str]:
    """Count requests by their entry points."""
    sums = Counter(map(_POINTS.get, requests))
    if sums.pop(None, 0):
        for request, times in Counter(filterfalse(_POINTS.__contains__, requests)).items():
            sums[point_of(request)] += times
    return cast("Counter[str]", sums)


def point_of_each(requests: Sequence[bytes]) -> list[str]:
    """Return the entry point of each request, in order."""
    points = list(map(_POINTS.get, requests))
    if None in points:
        return list(map(point_of, requests))
    return cast("list[str]", points)


def line_behind(data: bytes, newline: int) -> bytes:
    """Return the line after a newline."""
    end = data.find(b"\n", newline + 1)
    return data[newline + 1 : end if end >= 0 else len(data)]


class Hours:
    """Starts of hours by what a log writes; each is worked out once."""

    def __init__(self, zone: tzinfo, about_ms: int) -> None:
        self._zone, self._about_ms = zone, about_ms
        self._known: dict[bytes, int | None] = {}

    def written(self, written: bytes) -> int | None:
        """Return a written time, Unix milliseconds; None where it is none."""
        return time_of(written.decode(), self._zone, self._about_ms)

    def of(self, written: bytes) -> int | None:
        """Return the start of the hour of a written time, Unix milliseconds; None where it is none."""
        if written not in self._known:
            time_ms = self.written(written)
            self._known[written] = None if time_ms is None else time_ms // HOUR_MS * HOUR_MS
        return self._known[written]


class Step(ABC):
    """Some lines of an access log, each found by the newline before it.

    Those of one hour are counted together, as long as many of an hour stand together; the others each in the hour that
    it bears. What neither way takes is read line by line.
    """

    def __init__(self, lines: bytes, place: int, form: LineForm, hours: Hours) -> None:
        self.lines = b"\n" + lines
        self.place = place
        """Where the lines begin in the piece."""
        self.form = form
        self.hours = hours
        self.mine = Counts()
        self.together = 0
        """Up to where lines were counted by hours that stand together."""

    def count(self, counts: Counts) -> None:
        """Count the requests."""
        mine = self.mine
        mine.lines = self.lines.count(b"\n", 1) + (not self.lines.endswith(b"\n"))
        while (hour := self._hour()) is not None:
            start, end = hour
            self.count_hour(start, self.together, end)
            self.together = end
        if self.together < len(self.lines):
            self.count_each(self.together)
        if mine.runs.total() < mine.lines:
            self.count_odd()
        if mine.runs.total() < mine.lines:
            self._rest()
        counts.add(mine, 0)

    def _hour(self) -> tuple[int, int] | None:
        """Return the start of the next line's hour (Unix milliseconds), and where the lines of this hour end.

        None where there is no such line, where too few are of its hour for this to be worth it, or where it is no whole
        hour of ours.
        """
        found = self.next_hour(self.together)
        if found is None:
            return None
        written, other_than = found
        start = self.hours.written(written)
        if start is None or start % HOUR_MS:
            return None
        other = other_than.search(self.lines, self.together)
        if other is None:
            return start, len(self.lines)
        end = self.lines.rfind(b"\n", self.together, other.start() + 1)
        return (start, end) if end - self.together >= SHORT_BYTES else None

    @abstractmethod
    def next_hour(self, place: int) -> tuple[bytes, re.Pattern[bytes]] | None:
        """Return the hour of the next line, as written, and what finds the time of a line of another hour."""

    @abstractmethod
    def count_hour(self, start: int, first: int, end: int) -> None:
        """Count the requests of one hour."""

    @abstractmethod
    def count_each(self, first: int) -> None:
        """Count requests each in the hour that its own line bears, whatever the order."""

    def count_odd(self) -> None:  # noqa: B027 - most forms have none
        """Count what ``count_hour`` leaves for later because there is seldom any."""

    @abstractmethod
    def is_counted(self, newline: int) -> bool:
        """Whether the line after a newline was counted."""

    def add(self, start: int, asked: bytes, status: int, newline: int) -> None:
        """Count one request, and keep its line where it did not go well."""
        self.mine.runs[start, point_of(asked), status] += 1
        if status >= 400:
            self.tell(newline)

    def tell(self, newline: int) -> None:
        """Keep a line to be told whole."""
        self.mine.told.append(Told(self.place + newline, line_behind(self.lines, newline), self.form))

    def _rest(self) -> None:
        """Look at the lines that were not counted: count those that are no requests, with examples."""
        mine = self.mine
        mine.lines = newline = 0
        for line in self.lines[1:].split(b"\n"):
            here, newline = newline, newline + len(line) + 1
            if not line.strip():
                continue
            mine.lines += 1
            if self.is_counted(here):
                continue
            request = self.form.request(line)
            if request is None:
                mine.cannot_read(line)
            else:
                mine.runs[request.hour_ms, request.entry_point, request.status] += 1
                if request.status >= 400:
                    self.tell(here)


def count_in_steps(counts: Counts, piece: bytes, start: int, end: int, step: Callable[[bytes, int], Step]) -> None:
    """Count whole lines between two places, as much at a time as stays near the processor."""
    while start < end:
        stop = min(piece.find(b"\n", start + STEP_BYTES) + 1 or end, end)
        step(piece[start:stop], start).count(counts)
        start = stop
