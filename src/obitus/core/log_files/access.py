"""Access logs of web servers: the common and the combined log format, and the W3C extended log file format.

Sources: NCSA's common log format and the combined one; W3C working draft WD-logfile-960323, with its field header and the
sub-status that servers add to it.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, tzinfo
from functools import lru_cache
from typing import Final, Literal, cast
from urllib.parse import unquote

from obitus.core.clock import HOUR_MS
from obitus.core.log_files.times import time_of

Form = Literal["common", "w3c"]
MOST_EXAMPLES: Final = 5
MOST_LINE: Final = 64 * 1024
MOST_REMEMBERED: Final = 100_000

_COMMON = re.compile(
    rb'^(?P<client>\S+) \S+ (?P<user>.*?) \[(?P<time>[^\]\n]{10,40})\] "(?:(?P<method>[A-Z]{1,20}) (?P<target>[^ "\n]*)[^"\n]*|[^"\n]*)" '
    rb'(?P<status>\d{3}) (?P<bytes>\d+|-)(?: "(?P<referrer>(?:[^"\\\n]|\\.)*)" "(?P<agent>(?:[^"\\\n]|\\.)*)")?(?P<rest>[^\n]*)$'
)
# Most requests are answered with 200: these are counted as fast as it can be had, by method and path alone.
_PLAIN = re.compile(rb'"([A-Z]++ [^ ?"\n]*+)[^"]*+" 200 [^\n]*+')
_REQUEST = re.compile(rb'"([A-Z]++ [^ ?"\n]*+)')
_NOT_WELL = re.compile(rb'" [45]\d\d ')
_OTHERS = re.compile(rb'" [13-9]\d\d ')
_OTHERS_WELL = re.compile(rb'" 2(?!00)\d\d ')
_QUICK_BY_HOUR = re.compile(rb' \[(\d\d/\w{3}/\d{4}:\d\d)[^"\n]*+"([A-Z]++ [^ ?"\n]*+)[^"\n]*+" (\d\d\d) [^\n]*+')
_HOUR = re.compile(rb" \[(\d\d/\w{3}/\d{4}:\d\d)")
_SEGMENT = re.compile(r"^(?:\d+|[0-9a-fA-F-]{8,}|(?=[^/]*\d)[\w.~@:+-]{2,}|[\w-]{24,}|.*%.*)$")
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


@dataclass
class Counts:
    """What a piece of an access log holds: requests counted, those to be told whole, and lines that cannot be read."""

    runs: Counter[tuple[int, str, int]] = field(default_factory=Counter)
    """By start of the hour (Unix milliseconds), entry point, and status."""
    told: list[tuple[int, Request | bytes]] = field(default_factory=list)
    """Requests that did not go well: where each stands (bytes from the start of the piece), read or as its line."""
    lines: int = 0
    unreadable: int = 0
    examples: list[str] = field(default_factory=list)


def outcome_of(status: int) -> str:
    """Return the outcome of a run that was answered with this status."""
    return "failed" if status >= 500 else "refused" if status >= 400 else "ok"


def recognise(head: bytes) -> Form | None:
    """Return the form of an access log from its first lines, or None where it is none."""
    lines = [line for line in head.split(b"\n")[:50] if line.strip()]
    if any(line.startswith(b"#Fields:") for line in lines):
        return "w3c"
    matching = sum(_COMMON.match(line.rstrip(b"\r")) is not None for line in lines)
    return "common" if lines and matching * 2 > len(lines) else None


@lru_cache(maxsize=65536)
def entry_point(method: str, target: str) -> str:
    """Return method and path, with ``{id}`` for segments that hold numbers or look made up."""
    path = target.partition("?")[0].partition("#")[0]
    if path.startswith(("http://", "https://")):
        path = "/" + path.split("/", 3)[3] if path.count("/") > 2 else "/"
    if _STATIC.search(path):
        return f"{method} {path.rpartition('/')[0]}/*"[:300]
    parts = [
        ("{id}" if _SEGMENT.match(part) and not re.fullmatch(r"v\d{1,2}", part) else unquote(part))
        for part in path.split("/")[:12]
    ]
    return f"{method} {'/'.join(parts) or '/'}"[:300]


def read_common(piece: bytes, zone: tzinfo, about_ms: int) -> Counts:
    """Read whole lines of a log in the common or the combined format."""
    counts = Counts(lines=piece.count(b"\n") + (not piece.endswith(b"\n") and bool(piece)))
    counted = 0
    parts: list[tuple[int, int, bytes]] = []
    for base, hour, part in _hours(piece, counts.lines):
        start = time_of(hour.decode() + ":00:00", UTC, about_ms)
        if start is None:
            break
        for point, times in _points(_PLAIN.findall(part)).items():
            counted += times
            counts.runs[start, point, 200] += times
        counted += _others(counts, _OTHERS, part, base, start)
        parts.append((base, start, part))
    if 0 < counted < counts.lines:
        counted += sum(_others(counts, _OTHERS_WELL, part, base, start) for base, start, part in parts)
    if not counted:
        # Several hours in no order, or nothing that went well: each line tells its own hour.
        for (hour, request, status), times in Counter(_QUICK_BY_HOUR.findall(piece)).items():
            start = time_of(hour.decode() + ":00:00", UTC, about_ms)
            if start is not None:
                counted += times
                counts.runs[start, _point_of(request), int(status)] += times
        for found in _NOT_WELL.finditer(piece):
            counts.told.append(_line_at(piece, found.start()))
    _in_zone(counts, piece, about_ms, zone)
    if counted < counts.lines:
        _rest(counts, piece, zone, about_ms)
    return counts


def _points(requests: list[bytes]) -> Counter[str]:
    """Count requests by their entry points."""
    sums = Counter(map(_POINTS.get, requests))
    if sums.pop(None, 0):
        for request, times in Counter(one for one in requests if one not in _POINTS).items():
            sums[_point_of(request)] += times
    return cast("Counter[str]", sums)


def _others(counts: Counts, answered: re.Pattern[bytes], part: bytes, base: int, start: int) -> int:
    """Count the requests of one hour that were answered as the pattern says, and keep the lines of those that did not go well."""
    counted = 0
    runs = counts.runs
    for found in answered.finditer(part):
        at = found.start()
        request = _REQUEST.match(part, part.rfind(b'"', 0, at))
        if request is None:
            continue
        status = int(part[at + 2 : at + 5])
        counted += 1
        asked = request[1]
        runs[start, _POINTS.get(asked) or _point_of(asked), status] += 1
        if status >= 400:
            first, line = _line_at(part, at)
            counts.told.append((base + first, line))
    return counted


def _line_at(data: bytes, at: int) -> tuple[int, bytes]:
    """Return where the line around a place begins, and the line."""
    first, end = data.rfind(b"\n", 0, at) + 1, data.find(b"\n", at)
    return first, data[first : end if end >= 0 else len(data)]


def _hours(piece: bytes, lines: int) -> list[tuple[int, bytes, bytes]]:
    """Part a piece by hour, as written: where each part begins, its hour, its lines. None where the hours are in no order."""
    parts: list[tuple[int, bytes, bytes]] = []
    base = counted = 0
    while (first := _HOUR.search(piece, base)) is not None:
        mark = b" [" + first[1] + b":"
        end = piece.find(b"\n", piece.rfind(mark)) + 1 or len(piece)
        part = piece[base:end]
        inside = part.count(mark)
        parts.append((base, first[1], part))
        counted += inside
        base = end
    return parts if counted == lines else []


_POINTS: dict[bytes, str] = {}


def _point_of(request: bytes) -> str:
    method, _, path = request.decode("utf-8", "replace").partition(" ")
    if len(_POINTS) >= MOST_REMEMBERED:
        _POINTS.clear()
    point = _POINTS[request] = entry_point(method, path)
    return point


def _rest(counts: Counts, piece: bytes, zone: tzinfo, about_ms: int) -> None:
    """Look at the lines that the quick way did not take: count those that are no requests, with examples."""
    at = 0
    for line in piece.split(b"\n"):
        here, at = at, at + len(line) + 1
        if _QUICK_BY_HOUR.search(line) is not None:
            continue
        if not line.strip():
            counts.lines -= at <= len(piece)
            continue
        request = read_line(line, zone, about_ms)
        if request is None:
            _unreadable(counts, line)
            continue
        counts.runs[request.hour_ms, request.entry_point, request.status] += 1
        if request.status >= 400 and not any(place == here for place, _ in counts.told):
            counts.told.append((here, request))


def _in_zone(counts: Counts, piece: bytes, about_ms: int, zone: tzinfo) -> None:
    """Put the hours of quick counts where they belong: they were read without the offset that stands on each line."""
    first = re.search(rb"\[([^\]\n]{10,40})\]", piece)
    if first is None:
        return
    text = first[1].decode("ascii", "replace")
    with_zone, without = time_of(text, zone, about_ms), time_of(text[:20], UTC, about_ms)
    if with_zone is None or without is None or with_zone == without:
        return
    shift = with_zone - without
    counts.runs = Counter({(hour + shift, point, status): n for (hour, point, status), n in counts.runs.items()})


def read_line(line: bytes, zone: tzinfo, about_ms: int) -> Request | None:
    """Read one line of the common or the combined format, whole; None where it is none."""
    found = _COMMON.match(line.rstrip(b"\r")[:16384])
    if found is None:
        return None
    part = {name: (value or b"").decode("utf-8", "replace") for name, value in found.groupdict().items()}
    time_ms = time_of(part["time"], zone, about_ms)
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


@dataclass
class W3c:
    """Reads the W3C extended format; the field header may change in the middle of a file. Its times are UTC."""

    fields: list[str] = field(default_factory=list)
    date: str = ""

    def read(self, piece: bytes) -> Counts:
        """Read whole lines."""
        counts = Counts()
        at = 0
        for line in piece.split(b"\n"):
            here, at = at, at + len(line) + 1
            text = line.rstrip(b"\r").decode("utf-8", "replace")
            if text.startswith("#"):
                self._header(text)
                continue
            if not text.strip():
                continue
            counts.lines += 1
            request = self._request(text.split())
            if request is None:
                _unreadable(counts, line)
                continue
            counts.runs[request.hour_ms, request.entry_point, request.status] += 1
            if request.status >= 400:
                counts.told.append((here, request))
        return counts

    def _header(self, text: str) -> None:
        name, _, rest = text.partition(":")
        if name == "#Fields":
            self.fields = rest.split()
        elif name == "#Date":
            self.date = rest.split()[0] if rest.split() else ""

    def _request(self, values: Sequence[str]) -> Request | None:
        if len(values) != len(self.fields):
            return None
        part = {name: "" if value == "-" else value for name, value in zip(self.fields, values, strict=True)}
        status = part.get("sc-status", "")
        time_ms = time_of(f"{part.get('date') or self.date} {part.get('time', '')}", UTC, 0)
        if time_ms is None or not status.isdigit():
            return None
        target = part.get("cs-uri-stem") or part.get("cs-uri", "").partition("?")[0]
        taken = part.get("time-taken", "")
        # Milliseconds where it is a whole number, as the servers write it that add a sub-status; else seconds.
        duration = (
            (float(taken) if taken.isdigit() else float(taken) * 1000)
            if re.fullmatch(r"\d+(?:\.\d+)?", taken)
            else None
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


def _unreadable(counts: Counts, line: bytes) -> None:
    counts.unreadable += 1
    if len(counts.examples) < MOST_EXAMPLES:
        counts.examples.append(line[:160].decode("utf-8", "replace"))
