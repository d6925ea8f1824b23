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
from contextlib import ExitStack
from dataclasses import dataclass, field
from datetime import UTC, datetime, tzinfo
from functools import partial
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any, Final, Literal, Protocol
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from obitus.cli.errors import UsageTrouble
from obitus.core.log_files import access
from obitus.core.log_files.requests import MOST_EXAMPLES

if TYPE_CHECKING:
    from obitus.cli.sending import Sending

Form = Literal["auto", "log", "common", "w3c"]
BLOCK_BYTES: Final = 2 * 1024 * 1024
HEAD_BYTES: Final = 1024
STEP_BYTES: Final = 256 * 1024
MANY_BYTES: Final = 24 * 1024 * 1024
"""From how many bytes on several processes read a file."""
MOST_LINE: Final = 64 * 1024
PART_BYTES: Final = 8 * 1024 * 1024
"""Parts of a file that are read for themselves; of an access log, also what is reported as one."""
LAST_BYTES: Final = 256 * 1024
"""What is left of such a file to be read as files that grow are."""
PACKED: Final = 2**62
"""Stands for a size that is not known."""
POLL_S: Final = 0.5


def part_begin(place: int) -> int:
    """Return the place at which, or behind which with the end of its line, the part begins that ends or goes on at a place.

    Parts depend neither on how large the file is by now, nor on where reading begins.
    """
    return max(0, place - 1) // PART_BYTES * PART_BYTES


def part_end(place: int) -> int:
    """Return the place behind which, with the end of its line, the part ends that begins at a place."""
    return part_begin(place) + PART_BYTES


Send = Callable[[dict[str, Any]], None]
"""Sends one report, or only counts it."""


class _File(Protocol):
    begin: int
    """Where reading begins: where it stopped last time, or before."""

    @property
    def settled(self) -> int: ...

    pass_over: Callable[[bytes], None] | None
    """Takes note of what stands before the place where reading begins; None where that tells nothing that counts."""

    def feed(self, block: bytes, *, end: bool = False) -> None: ...

    def part(self, name: str, start: int, end: int) -> Callable[[], Any]: ...

    def take(self, part: Any, start: int, end: int) -> None: ...


@dataclass
class Outcome:
    """What was read, and what became of it."""

    files: int = 0
    lines: int = 0
    bytes: int = 0
    failures: int = 0
    runs: int = 0
    runs_reported: int = 0
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
        self._titles: Any = None

    def close(self) -> None:
        """Send what is left."""
        if self._sending is not None:
            self._sending.flush()

    def read(self, name: str, opened: IO[bytes], size: int, written_ms: int) -> Callable[[], None]:
        """Read one file from where an earlier reading stopped; return what reads on when it has grown."""
        head = _read_some(opened, HEAD_BYTES)
        identity = self._marks.identity_of(head)
        form = self._form(name, head)
        if form is None:
            return lambda: None
        start = 0 if self.options.dry_run else self._marks.place_of(identity, size)
        self.outcome.files += 1
        self.outcome.forms[name] = form
        self.outcome.known_before += start
        self._progress(start)
        read = self._file(form, identity, start, size, written_ms)
        rest = _from(head, opened, read.begin, read.pass_over)
        known = start - read.begin
        while known > 0 and (block := rest(min(known, BLOCK_BYTES))):
            read.feed(block)
            known -= len(block)
        if size < PACKED and size - start > MANY_BYTES and (os.cpu_count() or 1) > 1:
            start = self._by_several(read, name, read.settled, size)
            # Where it is settled, all before it was reported.
            read.feed(b"", end=True)
            self._settle(identity, start)
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

    def _file(self, form: str, identity: str, start: int, size: int, written_ms: int) -> _File:
        send = self.send if self._sending is not None else None
        if form == "log":
            from obitus.cli.log_file import LogFile, Titles

            self._titles = self._titles or Titles()
            return LogFile(self.outcome, self._titles, send, identity, start, written_ms, self.options.zone)
        from obitus.cli.access_file import AccessFile

        return AccessFile(self.outcome, send, form, identity, start, size, written_ms, self.options.zone)

    def _by_several(self, read: _File, name: str, start: int, size: int) -> int:
        """Let several processes read the bulk of a large file, in order; return where it goes on."""
        from concurrent.futures import ProcessPoolExecutor

        with ProcessPoolExecutor(os.cpu_count()) as pool, Path(name).open("rb") as opened:
            waiting: list[tuple[Any, int, int]] = []
            while size - start > 2 * LAST_BYTES or waiting:
                while size - start > 2 * LAST_BYTES and len(waiting) < 4:
                    opened.seek(min(part_end(start), size - LAST_BYTES))
                    end = opened.tell() + len(opened.readline(MOST_LINE))
                    part = pool.submit(read.part(name, start, end))
                    waiting.append((part, start, end))
                    start = end
                future, first, end = waiting.pop(0)
                read.take(future.result(), first, end)
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


class Marks:
    """How far each file was read, by its first bytes and where it was sent; kept beside the user's other state."""

    def __init__(self, target: str) -> None:
        root = Path(os.environ.get("XDG_STATE_HOME") or Path.home() / ".local/state")
        self._path = root / "obitus" / f"read-{hashlib.blake2b(target.encode(), digest_size=8).hexdigest()}.json"
        try:
            self._places: dict[str, int] = json.loads(self._path.read_text("ascii"))
        except (OSError, ValueError):
            self._places = {}

    def identity_of(self, head: bytes) -> str:
        """Return what tells a file from others: its first bytes; of one that was shorter when it was read first, those."""
        lengths = {int(length) for _, _, length in (known.partition(".") for known in self._places) if length.isdigit()}
        for length in sorted(lengths):
            if length < len(head) and (known := _identity(head[:length])) in self._places:
                return known
        return _identity(head)

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


def _identity(head: bytes) -> str:
    hashed = hashlib.blake2b(head, digest_size=10).hexdigest()
    return hashed if len(head) >= HEAD_BYTES else f"{hashed}.{len(head)}"


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
    """Read on as files grow, until ``stop`` says so; a file that was replaced by a new one is read from its start."""
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


def _from(
    head: bytes, opened: IO[bytes], start: int, passed: Callable[[bytes], None] | None = None
) -> Callable[[int], bytes]:
    """Return what reads on from a place, the bytes that were read already included; ``passed`` is given what lies before."""
    if passed is not None:
        passed(head[:start])
    if start >= len(head):
        if opened.seekable() and passed is None:
            opened.seek(start)
        else:
            left = start - len(head)
            while left and (piece := opened.read(min(left, BLOCK_BYTES))):
                left -= len(piece)
                if passed is not None:
                    passed(piece)
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
