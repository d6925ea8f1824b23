"""``obitus read FILE…``: log files that are on disk already, and access logs, become reports."""

from __future__ import annotations

import glob
import gzip
import hashlib
import io
import json
import os
import sys
import time
import zlib
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from contextlib import ExitStack
from dataclasses import dataclass, field
from datetime import UTC, datetime, tzinfo
from functools import partial
from pathlib import Path
from typing import IO, Any, Final, Literal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from obitus.cli.errors import UsageTrouble
from obitus.cli.sending import Sending
from obitus.core.clock import to_text
from obitus.core.grouping.groups import Groups
from obitus.core.headline import headline_of
from obitus.core.ids import derived_id
from obitus.core.log_files import access
from obitus.core.log_files.access import Counts, Request
from obitus.core.log_files.stacks import Found, Scanner
from obitus.core.log_files.times import time_of
from obitus.core.stacks import report_form
from obitus.core.stacks.lines import CUT_OFF
from obitus.core.stacks.prefixes import prefix_of

Form = Literal["auto", "log", "common", "w3c"]
BLOCK_BYTES: Final = 2 * 1024 * 1024
HEAD_BYTES: Final = 1024
STEP_BYTES: Final = 256 * 1024
MANY_BYTES: Final = 24 * 1024 * 1024
"""From how many bytes on several processes read a file."""
PART_BYTES: Final = 8 * 1024 * 1024
BEFORE_BYTES: Final = 32 * 1024
BEHIND_BYTES: Final = 256 * 1024
"""What a part of a log file is read beyond its ends: what led up to a trace, and the longest trace that may lie across."""
PACKED: Final = 2**62
"""Stands for a size that is not known."""
POLL_S: Final = 0.5
MOST_EXAMPLES: Final = 5


@dataclass
class Outcome:
    """What was read, and what became of it."""

    files: int = 0
    lines: int = 0
    bytes: int = 0
    failures: int = 0
    runs: int = 0
    runs_told: int = 0
    unreadable: int = 0
    cut_off: int = 0
    known_before: int = 0
    """Bytes that an earlier reading had read already."""
    examples: list[str] = field(default_factory=list)
    issues: Counter[str] = field(default_factory=Counter)
    forms: dict[str, str] = field(default_factory=dict)
    outcomes: Counter[str] = field(default_factory=Counter)


@dataclass(frozen=True)
class Options:
    """How files are read."""

    form: Form
    zone: tzinfo
    release: str | None
    dry_run: bool


class Reading:
    """One call of the command: files read in turn, reports sent, and how far each file was read kept."""

    def __init__(
        self, options: Options, sending: Sending | None, marks: Marks, progress: Callable[[int], None]
    ) -> None:
        self.options = options
        self.outcome = Outcome()
        self._sending = sending
        self._marks = marks
        self._progress = progress
        self._groups = Groups()
        self._titles: dict[int, str] = {}

    def close(self) -> None:
        """Send what is left."""
        if self._sending is not None:
            self._sending.flush()

    def read(self, name: str, opened: IO[bytes], size: int, written_ms: int) -> Callable[[], None]:
        """Read one file from where an earlier reading stopped; return what reads on when it has grown."""
        head = _read_some(opened, HEAD_BYTES)
        identity = hashlib.blake2b(head, digest_size=10).hexdigest()
        form = self._form(name, head)
        if form is None:
            return lambda: None
        start = 0 if self.options.dry_run else self._marks.place_of(identity, size)
        self.outcome.files += 1
        self.outcome.forms[name] = form
        self.outcome.known_before += start
        self._progress(start)
        if form != "w3c" and size < PACKED and size - start > MANY_BYTES and (os.cpu_count() or 1) > 1:
            start = self._by_several(name, form, identity, start, size, written_ms)
            self._settle(identity, start)
        read = (
            _LogFile(self, identity, start, written_ms)
            if form == "log"
            else _AccessFile(self, form, identity, start, written_ms)
        )
        rest = _from(head, opened, start)

        def on() -> None:
            while block := rest(BLOCK_BYTES):
                self.outcome.bytes += len(block)
                read.feed(block)
                self._progress(len(block))
            read.feed(b"", end=True)
            self._settle(identity, read.settled)

        on()
        return on

    def _by_several(self, name: str, form: str, identity: str, start: int, size: int, written_ms: int) -> int:
        """Let several processes read the bulk of a large file, in order; return where it goes on."""
        with ProcessPoolExecutor(os.cpu_count()) as pool, Path(name).open("rb") as opened:
            waiting: list[tuple[Any, int, int]] = []
            while size - start > MANY_BYTES // 2 or waiting:
                while size - start > MANY_BYTES // 2 and len(waiting) < 4:
                    opened.seek(start + PART_BYTES)
                    end = opened.tell() + len(opened.readline(access.MOST_LINE))
                    if form == "log":
                        waiting.append((pool.submit(stacks_between, name, start, end), start, end))
                    else:
                        waiting.append(
                            (pool.submit(requests_between, name, start, end, self.options.zone, written_ms), start, end)
                        )
                    start = end
                future, first, end = waiting.pop(0)
                if form == "log":
                    lines, found = future.result()
                    self.outcome.lines += lines
                    for one in found:
                        self.failure(one, identity, written_ms)
                else:
                    self.counts(future.result(), identity, first, end, written_ms)
                self.outcome.bytes += end - first
                self._progress(end - first)
        return start

    def _form(self, name: str, head: bytes) -> str | None:
        if self.options.form != "auto":
            return self.options.form
        if head.count(b"\0") > len(head) // 4:
            self._unreadable(f"{name}: holds bytes that are no text")
            return None
        return access.recognise(head if len(head) < HEAD_BYTES else head[: head.rfind(b"\n") + 1] or head) or "log"

    def _unreadable(self, what: str) -> None:
        self.outcome.unreadable += 1
        if len(self.outcome.examples) < MOST_EXAMPLES:
            self.outcome.examples.append(what)

    def _settle(self, identity: str, place: int) -> None:
        if self.options.dry_run:
            return
        if self._sending is not None:
            self._sending.flush()
        self._marks.set(identity, place)

    def send(self, report: dict[str, Any]) -> None:
        """Send one report, or only count it."""
        if self.options.release:
            report["release"] = self.options.release
        if self._sending is not None:
            self._sending.add(report)

    def failure(self, found: Found, identity: str, written_ms: int) -> None:
        """Make a failure of a stack trace, with the lines before it as what led up to it."""
        time_ms = time_of(found.time, self.options.zone, written_ms) if found.time else None
        when = min(time_ms if time_ms is not None else written_ms, int(time.time() * 1000))
        chain = found.stack.chain
        self.outcome.failures += 1
        self.outcome.cut_off += chain[0].type == CUT_OFF
        group, decided, _ = self._groups.add(chain)
        title = self._titles.setdefault(group, headline_of(chain, decided.fault).title)
        self.outcome.issues[f"{title} (g{group})"] += 1
        trail = []
        for line in found.before:
            prefix = prefix_of(line)
            at = time_of(prefix.time, self.options.zone, written_ms) if prefix is not None and prefix.time else None
            trail.append(
                {
                    "kind": "log",
                    "time": to_text(min(at if at is not None else when, when)),
                    "severity": _severity(prefix.level if prefix else ""),
                    "message": line[prefix.length if prefix else 0 :][:2000],
                }
            )
        severity = _severity(found.level)
        self.send(
            {
                "kind": "failure",
                "id": derived_id(0, identity, found.offset, found.text),
                "time": to_text(when),
                "severity": severity if severity in ("WARN", "ERROR", "FATAL") else "ERROR",
                "handled": True,
                "captured_by": "log file",
                "exceptions": report_form(chain),
                "trail": trail,
                "attributes": {"log.file.language": found.stack.language},
            }
        )

    def counts(self, counts: Counts, identity: str, base: int, end: int, written_ms: int) -> None:
        """Make tallies of what an access log's piece holds, and whole runs of what did not go well."""
        self.outcome.lines += counts.lines
        self.outcome.unreadable += counts.unreadable
        self.outcome.examples = (self.outcome.examples + counts.examples)[:MOST_EXAMPLES]
        self.outcome.runs_told += len(counts.told)
        if self._sending is not None:
            for place, told in counts.told:
                request = access.read_line(told, self.options.zone, written_ms) if isinstance(told, bytes) else told
                if request is not None:
                    self._run(request, identity, base + place)
        for (hour, point, status), times in counts.runs.items():
            outcome = access.outcome_of(status)
            self.outcome.runs += times
            self.outcome.outcomes[outcome] += times
            if self._sending is None:
                continue
            self.send(
                {
                    "kind": "tally",
                    "id": derived_id(hour, identity, base, f"{end} {point} {status} {hour}"),
                    "time": to_text(hour),
                    "entry_point": point,
                    "outcome": outcome,
                    "status": status,
                    "runs": times,
                }
            )

    def _run(self, request: Request, identity: str, offset: int) -> None:
        report_id = derived_id(request.time_ms, identity, offset, f"{request.method} {request.target} {request.status}")
        given = {
            "http.request.method": request.method,
            "url.path": request.target,
            "http.response.status_code": request.status,
            "http.response.detail_code": request.detail,
            "client.address": request.client,
            "user.id": request.user,
            "user_agent.original": request.agent,
            "http.request.header.referer": request.referrer,
            "http.response.body.size": request.bytes,
        }
        run: dict[str, Any] = {
            "id": report_id,
            "entry_point": request.entry_point,
            "started": to_text(request.time_ms),
            "outcome": request.outcome,
            "kept": "it did not go well",
        }
        if request.duration_ms is not None:
            run["duration_ms"] = request.duration_ms
        self.send(
            {
                "kind": "run",
                "id": report_id,
                "time": to_text(request.time_ms),
                "attributes": {name: value for name, value in given.items() if value not in ("", None)},
                "run": run,
                "request": {
                    "method": request.method[:300],
                    "url": request.target,
                    "status": request.status,
                    "client": request.client,
                },
            }
        )


def stacks_between(name: str, start: int, end: int) -> tuple[int, list[Found]]:
    """Return how many lines a part of a log file has, and the traces that begin in it; these may end behind it."""
    with Path(name).open("rb") as opened:
        first = max(0, start - BEFORE_BYTES)
        opened.seek(first)
        data = opened.read(end + BEHIND_BYTES - first)
    cut = data.find(b"\n") + 1 if first else 0
    scanner = Scanner(first + cut)
    found = list(scanner.feed(data[cut:] if cut else data, end=True))
    return data.count(b"\n", start - first, end - first), [one for one in found if start <= one.offset < end]


def requests_between(name: str, start: int, end: int, zone: tzinfo, written_ms: int) -> Counts:
    """Return what a part of an access log holds."""
    with Path(name).open("rb") as opened:
        opened.seek(start)
        return access.read_common(opened.read(end - start), zone, written_ms)


class _LogFile:
    def __init__(self, reading: Reading, identity: str, start: int, written_ms: int) -> None:
        self._reading, self._identity, self._written_ms = reading, identity, written_ms
        self._scanner = Scanner(start)

    @property
    def settled(self) -> int:
        return self._scanner.settled

    def feed(self, block: bytes, *, end: bool = False) -> None:
        for found in self._scanner.feed(block, end=end):
            self._reading.failure(found, self._identity, self._written_ms)
        self._reading.outcome.lines += block.count(b"\n")


class _AccessFile:
    def __init__(self, reading: Reading, form: str, identity: str, start: int, written_ms: int) -> None:
        self._reading, self._identity = reading, identity
        self._w3c = access.W3c() if form == "w3c" else None
        self._zone, self._written_ms = reading.options.zone, written_ms
        self._rest = b""
        self.settled = start

    def feed(self, block: bytes, *, end: bool = False) -> None:
        data = self._rest + block
        cut = data.rfind(b"\n") + 1
        if end and len(data) > 2 * BLOCK_BYTES:
            cut = len(data)
        piece, self._rest = data[:cut], data[cut:]
        if piece:
            base, self.settled = self.settled, self.settled + len(piece)
            counts = (
                self._w3c.read(piece)
                if self._w3c is not None
                else access.read_common(piece, self._zone, self._written_ms)
            )
            self._reading.counts(counts, self._identity, base, self.settled, self._written_ms)


class Marks:
    """How far each file was read, by its first bytes and where it was sent; kept beside the user's other state."""

    def __init__(self, target: str) -> None:
        root = Path(os.environ.get("XDG_STATE_HOME") or Path.home() / ".local/state")
        self._path = root / "obitus" / f"read-{hashlib.blake2b(target.encode(), digest_size=8).hexdigest()}.json"
        try:
            self._places: dict[str, int] = json.loads(self._path.read_text("ascii"))
        except (OSError, ValueError):
            self._places = {}

    def place_of(self, identity: str, size: int) -> int:
        """Return where to read on; a file that is shorter now is another one."""
        place = self._places.get(identity, 0)
        return place if isinstance(place, int) and 0 <= place <= size else 0

    def set(self, identity: str, place: int) -> None:
        """Keep how far a file was read, where that is news. The file is replaced in one step."""
        if self._places.get(identity) == place:
            return
        self._places[identity] = place
        try:
            self._path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            beside = self._path.with_suffix(".new")
            beside.write_text(json.dumps(self._places), "ascii")
            beside.replace(self._path)
        except OSError:
            # Then the same lines are sent again next time, with the same ids.
            pass


def files_of(names: list[str]) -> list[str]:
    """Return the files that names and patterns stand for; raises UsageTrouble where one stands for none."""
    found: list[str] = []
    for name in names:
        matching = [name] if name == "-" or Path(name).exists() else sorted(glob.glob(name, recursive=True))  # noqa: PTH207 - the user's pattern
        if not matching:
            raise UsageTrouble(f"{name}: there is no such file, and no file that matches it.")
        found += [one for one in matching if one == "-" or Path(one).is_file()]
    return list(dict.fromkeys(found))


def zone_of(name: str | None) -> tzinfo:
    """Return the zone of times that bear none: by name, or this machine's own."""
    if name is None:
        return datetime.now().astimezone().tzinfo or UTC
    try:
        return UTC if name.upper() in ("UTC", "Z") else ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise UsageTrouble(f"{name} is no time zone. Say UTC, or a name like Europe/Oslo.") from None


def open_file(name: str, stack: ExitStack) -> tuple[IO[bytes], int, int]:
    """Open a file, standard input (``-``) or what gzip packed; return it, its size inflated (or a guess), and when it was written."""
    if name == "-":
        return sys.stdin.buffer, PACKED, int(time.time() * 1000)
    path = Path(name)
    try:
        opened: IO[bytes] = stack.enter_context(path.open("rb"))
        status = path.stat()
        packed = opened.read(2) == b"\x1f\x8b"
        opened.seek(0)
    except OSError as error:
        raise UsageTrouble(f"{name} cannot be read: {error.strerror}.") from error
    if packed:
        return io.BufferedReader(gzip.GzipFile(fileobj=opened)), PACKED, int(status.st_mtime * 1000)
    return opened, status.st_size, int(status.st_mtime * 1000)


def follow(
    names: list[str],
    more: dict[str, Callable[[], None]],
    again: Callable[[str], Callable[[], None]],
    stop: Callable[[], bool],
) -> None:
    """Read on as files grow, until ``stop`` says so; a file that was replaced by a new one is begun anew."""
    known = {name: _which(name) for name in names if name != "-"}
    while not stop():
        for name, which in known.items():
            now = _which(name)
            if now is not None and which is not None and (now[0] != which[0] or now[1] < which[1]):
                more[name]()
                more[name] = again(name)
            else:
                more[name]()
            known[name] = now or which
        time.sleep(POLL_S)


def _which(name: str) -> tuple[int, int] | None:
    try:
        status = Path(name).stat()
    except OSError:
        return None
    return status.st_ino, status.st_size


def _from(head: bytes, opened: IO[bytes], start: int) -> Callable[[int], bytes]:
    """Return what reads on from a place, the bytes that were read already included."""
    if start >= len(head):
        if opened.seekable():
            opened.seek(start)
        else:
            left = start - len(head)
            while left and (piece := opened.read(min(left, BLOCK_BYTES))):
                left -= len(piece)
        return partial(_read_some, opened)
    waiting = [head[start:]]

    def read(most: int) -> bytes:
        return waiting.pop() + _read_some(opened, most) if waiting else _read_some(opened, most)

    return read


def _read_some(opened: IO[bytes], most: int) -> bytes:
    """Read up to ``most`` bytes; of a packed file that stops half-way, what comes before its end."""
    pieces: list[bytes] = []
    left = most
    try:
        while left > 0 and (piece := opened.read1(min(left, STEP_BYTES))):  # type: ignore[attr-defined]
            pieces.append(piece)
            left -= len(piece)
    except (EOFError, gzip.BadGzipFile, zlib.error):
        pass
    except OSError as error:
        raise UsageTrouble(f"reading stopped: {error.strerror}.") from error
    return b"".join(pieces)


def _severity(level: str) -> str:
    return {"WARNING": "WARN", "CRITICAL": "FATAL", "CRIT": "FATAL", "SEVERE": "ERROR", "ERR": "ERROR", "ALERT": "FATAL", "EMERG": "FATAL",
            "NOTICE": "INFO", "CONFIG": "DEBUG", "FINE": "DEBUG", "FINER": "TRACE", "FINEST": "TRACE", "": "INFO"}.get(level, level)  # fmt: skip
