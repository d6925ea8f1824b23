"""``obitus read FILE…``: reports from log files and access logs."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass
from datetime import tzinfo
from pathlib import Path
from typing import IO, Any, Final, Literal, Protocol

from obitus.core.log_files import access
from obitus.core.log_files.requests import MOST_EXAMPLES
from obitus.reading.access_file import AccessFile
from obitus.reading.files import PACKED, from_place, read_some
from obitus.reading.lines import LinesOfFile
from obitus.reading.log_file import LogFile, Titles
from obitus.reading.marks import HEAD_BYTES, Marks
from obitus.reading.outcome import READ_BYTES, Outcome, block_end

Form = Literal["auto", "log", "common", "w3c"]
MANY_BYTES: Final = 24 * 1024 * 1024
"""Size in bytes from which several processes read a file."""
MOST_LINE: Final = 64 * 1024
LAST_BYTES: Final = 256 * 1024
"""The rest of such a file that is read like a growing one."""


class Sends(Protocol):
    """Sends reports: those passed to ``add`` are stored by the service when ``flush`` returns."""

    def add(self, report: dict[str, Any]) -> None: ...

    def flush(self) -> None: ...


class _File(Protocol):
    begin: int
    """Offset at which reading begins: where it stopped last time, or before."""

    @property
    def settled(self) -> int: ...

    pass_over: Callable[[bytes], None] | None
    """Reads the part before the beginning; None where that is not needed."""

    def feed(self, block: bytes, *, end: bool = False) -> None: ...

    def part(self, name: str, start: int, end: int) -> Callable[[], Any]: ...

    def take(self, part: Any, start: int, end: int) -> None: ...


@dataclass(frozen=True)
class Options:
    """Options of reading."""

    form: Form
    zone: tzinfo
    release: str | None
    dry_run: bool
    lines: bool = False
    """Whether every line is kept, as a log record."""


class Reading:
    """One call of the command: reads files in turn, sends reports, and stores the position in each file."""

    def __init__(self, options: Options, sending: Sends | None, marks: Marks, progress: Callable[[int], None]) -> None:
        self.options = options
        self.outcome = Outcome()
        self._sending = sending
        self._marks = marks
        self._progress = progress
        self._titles: Titles | None = None

    def close(self) -> None:
        """Send the rest."""
        if self._sending is not None:
            self._sending.flush()

    def read(self, name: str, opened: IO[bytes], size: int, written_ms: int) -> Callable[[], None]:
        """Read one file from where an earlier reading stopped; return a reader for when it has grown."""
        head = read_some(opened, HEAD_BYTES)
        identity = self._marks.identity_of(head)
        form = self._form(name, head)
        if form is None:
            return lambda: None
        start = 0 if self.options.dry_run else self._marks.place_of(identity, size)
        self.outcome.files += 1
        self.outcome.forms[name] = form
        self.outcome.known_before += start
        self._progress(start)
        reader = self._file(name, form, identity, start, written_ms)
        rest = from_place(head, opened, reader.begin, reader.pass_over)
        bytes_known = start - reader.begin
        while bytes_known > 0 and (block := rest(min(bytes_known, READ_BYTES))):
            reader.feed(block)
            bytes_known -= len(block)
        if size < PACKED and size - start > MANY_BYTES and (os.cpu_count() or 1) > 1 and not self.options.lines:
            start = self._by_several(reader, name, reader.settled, size)
            # Everything before this position was reported.
            reader.feed(b"", end=True)
            self._settle(identity, start)
            rest = from_place(head, opened, start)

        def on() -> None:
            while block := rest(READ_BYTES):
                self.outcome.bytes += len(block)
                reader.feed(block)
                self._progress(len(block))
            reader.feed(b"", end=True)
            self._settle(identity, reader.settled)

        on()
        return on

    def _file(self, name: str, form: str, identity: str, start: int, written_ms: int) -> _File:
        send = self.send if self._sending is not None else None
        if form == "log":
            self._titles = self._titles or Titles()
            zone = self.options.zone
            lines = None
            if self.options.lines:
                lines = LinesOfFile(self.outcome, send, identity, Path(name).name, start, written_ms, zone)
            return LogFile(self.outcome, self._titles, send, identity, start, written_ms, zone, lines)
        return AccessFile(self.outcome, send, form, identity, Path(name).name, start, written_ms, self.options.zone)

    def _by_several(self, read: _File, name: str, start: int, size: int) -> int:
        """Let several processes read most of a large file, in order; return the offset of the rest."""
        from concurrent.futures import ProcessPoolExecutor

        with ProcessPoolExecutor(os.cpu_count()) as pool, Path(name).open("rb") as opened:
            waiting: list[tuple[Any, int, int]] = []
            while size - start > 2 * LAST_BYTES or waiting:
                while size - start > 2 * LAST_BYTES and len(waiting) < 4:
                    opened.seek(min(block_end(start), size - LAST_BYTES))
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
