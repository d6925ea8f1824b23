"""``obitus read FILE…``: reports from log files and access logs."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import tzinfo
from pathlib import Path
from typing import IO, Any, Final, Literal, Protocol

from obitus.core.log_files import access
from obitus.core.log_files.requests import MOST_EXAMPLES
from obitus.reading.access_file import AccessFile
from obitus.reading.files import PACKED, QUIET_S, Pieces, Pipe
from obitus.reading.following import Growing
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

    def tell(self) -> None:
        """Report what is complete, however the file goes on."""

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
    follow: bool = False
    """Whether the files are read on as they grow: then a line that is not complete yet is no end."""


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

    def read(self, name: str, opened: IO[bytes], size: int, written_ms: int) -> Growing | None:
        """Read one file from where an earlier reading stopped; return what reads on when it has grown.

        Of a file that is followed and has no whole line yet, or only a head, neither form nor identity can be known: returns None.
        """
        pipe = opened if isinstance(opened, Pipe) else None
        pieces = Pieces(opened)
        head = pipe.head(HEAD_BYTES) if pipe else pieces.read(HEAD_BYTES)
        if self.options.follow and size < HEAD_BYTES and _says_nothing(head):
            opened.close()
            return None
        identity = self._marks.identity_of(head)
        form = self._form(name, head)
        if form is None:
            return _NoText()
        # What a program says at its start is no sign that it has said the rest before.
        start = 0 if self.options.dry_run or pipe else self._marks.place_of(identity, size)
        self.outcome.files += 1
        self.outcome.forms[name] = form
        self.outcome.known_before += start
        self._progress(start)
        reader = self._file(name, form, identity, start, written_ms)
        rest = pieces.from_place(b"" if pipe else head, reader.begin, reader.pass_over)
        bytes_known = start - reader.begin
        while bytes_known > 0 and (block := rest(min(bytes_known, READ_BYTES))):
            reader.feed(block)
            bytes_known -= len(block)
        if size < PACKED and size - start > MANY_BYTES and (os.cpu_count() or 1) > 1 and not self.options.lines:
            start = self._by_several(reader, name, reader.settled, size)
            # Everything before this position was reported.
            reader.feed(b"", end=True)
            self.settle(identity, start, head)
            rest = pieces.from_place(head, start)

        growing = _Growing(self, reader, rest, opened, identity, head[:start])
        growing.on()
        while pipe and not pipe.ended:
            growing.on()
        if pipe or not self.options.follow:
            growing.end()
        if pieces.is_damaged:
            self._unreadable(f"{name}: the compressed file is cut off or damaged; what is before that was read")
        return growing

    def advance(self, step: int) -> None:
        """Show that so many bytes more were read."""
        self.outcome.bytes += step
        self._progress(step)

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
                self.advance(end - first)
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

    def settle(self, identity: str, place: int, head: bytes) -> None:
        """Send what was found; then store the position up to which a file was read; ``head``: its first bytes, as far as they are known."""
        if self.options.dry_run:
            return
        if self._sending is not None:
            self._sending.flush()
        self._marks.set(identity, place, head)

    def send(self, report: dict[str, Any]) -> None:
        """Send one report, or only count it."""
        if self.options.release:
            report["release"] = self.options.release
        if self._sending is not None:
            self._sending.add(report)


def _says_nothing(head: bytes) -> bool:
    """Whether no whole line is there, or only the beginning of a head such as that of the W3C format."""
    *lines, _ = head.split(b"\n")
    return all(not line.strip() or line.startswith(b"#") for line in lines)


class _Growing:
    """One file, with the reader of its form."""

    def __init__(
        self,
        reading: Reading,
        reader: _File,
        rest: Callable[[int], bytes],
        opened: IO[bytes],
        identity: str,
        head: bytes,
    ) -> None:
        self._reading, self._reader, self._rest, self._opened = reading, reader, rest, opened
        self._identity, self._head = identity, head
        self._grew_s = 0.0
        self._is_whole = True
        """Whether what was read ends with a whole line."""
        self._waits = False
        """Whether anything came since the last end."""

    def on(self) -> bool:
        """Read what has come since, and return whether anything has. A trace may go on with the next line; when none has come
        for a while, it is complete. Half a line is never complete: its program writes the rest whenever it likes.
        """
        grew = False
        while block := self._rest(READ_BYTES):
            self._reader.feed(block)
            self._reading.advance(len(block))
            self._head += block[: HEAD_BYTES - len(self._head)]
            self._is_whole = block.endswith(b"\n")
            grew = self._waits = True
            self._grew_s = time.monotonic()
            if isinstance(self._opened, Pipe):
                # It may never pause.
                break
        if grew:
            self._reader.tell()
            self._reading.settle(self._identity, self._reader.settled, self._head)
        elif self._waits and self._is_whole and time.monotonic() - self._grew_s >= QUIET_S:
            self.end()
        return grew

    def end(self) -> None:
        """Make what waits."""
        self._waits = False
        self._reader.feed(b"", end=True)
        self._reading.settle(self._identity, self._reader.settled, self._head)

    def close(self) -> None:
        """Let the file go."""
        self._opened.close()


class _NoText:
    """A file that cannot be read, however it grows."""

    def on(self) -> bool:
        return False

    def end(self) -> None:
        pass

    def close(self) -> None:
        pass
