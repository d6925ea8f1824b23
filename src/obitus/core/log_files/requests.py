"""What an access log tells: requests that were answered, counted by entry point, hour and status."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from datetime import tzinfo
from typing import TYPE_CHECKING, Final, NamedTuple, Protocol

from obitus.core.clock import HOUR_MS
from obitus.core.entry_points import entry_point
from obitus.core.log_files.times import time_of

if TYPE_CHECKING:
    from obitus.core.log_files.columns import Block, Columns

MOST_EXAMPLES: Final = 5
MOST_REMEMBERED: Final = 100_000
STEP_BYTES: Final = 1024 * 1024


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


class WholeLine(NamedTuple):
    """A line that is to be reported whole: where it begins (bytes from the start of the piece), and how it is read."""

    place: int
    line: bytes
    form: LineForm


class LineForm(Protocol):
    """What reads the lines of an access log."""

    def request(self, line: bytes) -> Request | None:
        """Read one line, whole; None where it is no request."""

    def asked(self, line: bytes) -> tuple[int, str, int] | None:
        """Return only the hour, the entry point and the status of a line that is written as most are; None for others."""

    def columns(self, block: Block) -> Columns | None:
        """Return what many lines say, as columns of numbers; None where they have to be read one by one."""


@dataclass
class Counts:
    """What a piece of an access log holds: requests counted, those that did not go well, and lines that cannot be read."""

    tells: bool = True
    """Whether those that did not go well are kept, to be reported whole."""
    runs: Runs = field(default_factory=Counter)
    not_well: int = 0
    whole_lines: list[WholeLine] = field(default_factory=list)
    lines: int = 0
    unreadable: int = 0
    examples: list[str] = field(default_factory=list)

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
    """Return the entry point of a method and a path as they stand in a log."""
    point = _POINTS.get(request)
    if point is None:
        method, _, path = request.decode("utf-8", "replace").partition(" ")
        if len(_POINTS) >= MOST_REMEMBERED:
            _POINTS.clear()
        point = _POINTS[request] = entry_point(method, path)
    return point


class Hours:
    """Moments by what a log writes; each is worked out once."""

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
        """Return the start of the hour that a minute lies in, Unix milliseconds; None where it is none.

        ``minute`` is a time up to its minute, ``offset`` what is written behind the seconds.
        """
        try:
            return self._starts[minute, offset]
        except KeyError:
            time_ms = self.moment(minute + b":00" + offset)
        if len(self._starts) >= MOST_REMEMBERED:
            self._starts.clear()
        start = self._starts[minute, offset] = None if time_ms is None else time_ms // HOUR_MS * HOUR_MS
        return start


def count_in_steps(counts: Counts, piece: bytes, start: int, end: int, form: LineForm, *, at_once: bool) -> None:
    """Count whole lines between two places, as much at a time as stays near the processor.

    ``at_once`` takes many lines together, which needs NumPy and pays from some megabytes on; else it is line by line.
    What is counted is the same.
    """
    while start < end:
        stop = min(piece.find(b"\n", start + STEP_BYTES) + 1 or end, end)
        if at_once:
            from obitus.core.log_files import columns

            columns.count(counts, piece, start, stop, form)
        else:
            count_each(counts, piece[start:stop], start, form)
        start = stop


def count_each(counts: Counts, lines: bytes, place: int, form: LineForm) -> None:
    """Count lines one by one; ``place`` is where they begin in the piece."""
    for line in lines.split(b"\n"):
        if line and not line.isspace():
            count_line(counts, line, place, form)
        place += len(line) + 1


def count_line(counts: Counts, line: bytes, place: int, form: LineForm) -> None:
    """Count one line, which begins at ``place`` of the piece."""
    counts.lines += 1
    asked = form.asked(line)
    if asked is None:
        request = form.request(line)
        if request is None:
            counts.cannot_read(line)
            return
        asked = request.hour_ms, request.entry_point, request.status
    counts.runs[asked] += 1
    if asked[2] >= 400:
        counts.not_well += 1
        if counts.tells:
            counts.whole_lines.append(WholeLine(place, line, form))
