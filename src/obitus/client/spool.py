"""Reports on the sender's disk, waiting to be sent: append-only segment files, shared by processes, bounded.

Each process writes segments of its own and holds a lock on them; when it is gone, however it ended, the lock is too,
and another process sends what it left. A line is framed by its checksum and length, so that half a line, written as
the process was killed, is told from a whole one. A segment that was sent is removed; sent twice is harmless, since
reports carry their ids. Lines reach the operating system, not the platter: a kill loses none, a power cut may.
"""

from __future__ import annotations

import os
import time
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Final

from obitus.client.locks import open_locked

SEGMENT_BYTES: Final = 1024 * 1024
MOST_SEGMENTS_LOOKED_AT: Final = 5000
_FRAME: Final = 18
_READ_BYTES: Final = 1_250_000


@dataclass
class _Segment:
    path: Path
    descriptor: int
    size: int
    """Bytes of whole lines in it."""
    sent: int = 0
    """Bytes of it that are done with."""
    lines: int = 0
    """Lines that wait in it."""


class Spool:
    """One process's part of a spool folder. Not safe for several threads at once: its owner holds a lock."""

    def __init__(
        self,
        folder: Path,
        *,
        most_bytes: int,
        most_age_s: float,
        dropped: Callable[[str, int], None],
        clock_s: Callable[[], float] = time.time,
    ) -> None:
        self.folder = folder
        self._most_bytes = most_bytes
        self._most_age_s = most_age_s
        self._dropped = dropped
        self._clock_s = clock_s
        self._segments: list[_Segment] = []
        self._active: _Segment | None = None
        self._name = f"{os.getpid()}-{os.urandom(6).hex()}"
        self._count = 0
        self._others_bytes = 0
        self._peeked: tuple[_Segment, int, int] | None = None
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        if folder.is_symlink() or (hasattr(os, "getuid") and folder.stat().st_uid not in (os.getuid(), 0)):
            raise OSError(f"{folder} belongs to somebody else")

    @property
    def waiting(self) -> int:
        """How many lines wait here, in this process's segments and those it took over."""
        return sum(segment.lines for segment in self._segments)

    @property
    def waiting_bytes(self) -> int:
        """How many bytes wait here."""
        return sum(segment.size - segment.sent for segment in self._segments)

    def append(self, lines: list[bytes]) -> None:
        """Write lines (each ending in a line feed) behind the others. Raises OSError, and then none of them is in it."""
        framed = b"".join(b"%08x %08x " % (zlib.crc32(line), len(line)) + line for line in lines)
        active = self._active
        if active is None or active.size + len(framed) > SEGMENT_BYTES:
            active = self._new_segment()
        written = 0
        try:
            while written < len(framed):
                written += os.pwrite(active.descriptor, memoryview(framed)[written:], active.size + written)
        except OSError:
            self._cut(active, active.size)
            raise
        active.size += len(framed)
        active.lines += len(lines)
        self._keep_bound()

    def peek(self, most_lines: int, most_bytes: int) -> list[bytes]:
        """Return the oldest lines that wait, of one segment; ``done`` says that they were sent."""
        self._peeked = None
        while self._segments:
            segment = self._segments[0]
            data = os.pread(segment.descriptor, min(segment.size - segment.sent, _READ_BYTES), segment.sent)
            found, size = _whole_lines(data, most_lines, most_bytes)
            if found:
                self._peeked = (segment, size, len(found))
                return found
            # What is left in it is no whole line: it was damaged, or it is all done with.
            if segment.lines > 0 and data:
                self._dropped("damaged in the spool", segment.lines)
            self._finish(segment)
            if segment is self._active:
                return []
        return []

    def done(self) -> None:
        """Say that what ``peek`` returned is done with."""
        if self._peeked is None:
            return
        segment, size, lines = self._peeked
        self._peeked = None
        segment.sent += size
        segment.lines -= lines
        if segment.sent >= segment.size:
            self._finish(segment)

    def adopt(self) -> int:
        """Take over the segments of processes that are gone; return how many lines they hold."""
        mine = {segment.path for segment in self._segments}
        adopted: list[_Segment] = []
        try:
            names = sorted(os.listdir(self.folder))[:MOST_SEGMENTS_LOOKED_AT]  # noqa: PTH208 - names are enough
        except OSError:
            return 0
        for name in names:
            path = self.folder / name
            if not name.endswith(".reports") or path in mine:
                continue
            segment = self._take_over(path)
            if segment is not None:
                adopted.append(segment)
        self._segments[:0] = adopted
        self._keep_bound()
        return sum(segment.lines for segment in adopted)

    def tidy(self) -> None:
        """Remove the active segment where nothing is left in it: the process may end without closing."""
        active = self._active
        if active is not None and active.lines == 0:
            self._active = None
            self._finish(active)

    def close(self) -> None:
        """Let go of every segment; what waits in them stays on disk for the next process."""
        for segment in self._segments:
            if segment.lines == 0:
                segment.path.unlink(missing_ok=True)
            elif segment.sent:
                _drop_head(segment)
            os.close(segment.descriptor)
        self._segments.clear()
        self._active = None

    def forget(self) -> None:
        """In a forked child: close the parent's files without touching what is in them."""
        for segment in self._segments:
            os.close(segment.descriptor)
        self._segments.clear()
        self._active = None

    def _new_segment(self) -> _Segment:
        self._count += 1
        self._others_bytes = self._bytes_of_others()
        # The time comes first, so that names sort as the segments came to be.
        path = self.folder / f"{int(self._clock_s() * 1000):015d}-{self._name}-{self._count}.reports"
        descriptor = open_locked(path, os.O_RDWR | os.O_CREAT | os.O_EXCL)
        if descriptor is None:
            raise OSError(f"{path} is held by another process")
        self._active = _Segment(path, descriptor, 0)
        self._segments.append(self._active)
        return self._active

    def _bytes_of_others(self) -> int:
        """Return how much other processes have in the folder: the bound is the folder's, not each process's."""
        mine = {segment.path.name for segment in self._segments}
        total = 0
        with os.scandir(self.folder) as entries:
            for entry in entries:
                if entry.name.endswith(".reports") and entry.name not in mine:
                    try:
                        total += entry.stat().st_size
                    except OSError:
                        continue
        return total

    def _take_over(self, path: Path) -> _Segment | None:
        try:
            descriptor = open_locked(path)
        except OSError:
            return None
        if descriptor is None:
            return None
        size = lines = 0
        while True:
            data = os.pread(descriptor, _READ_BYTES, size)
            found, whole = _whole_lines(data, 1_000_000, _READ_BYTES)
            if not found:
                break
            lines += len(found)
            size += whole
        if data:
            self._dropped("cut off by a kill", 1)
        segment = _Segment(path, descriptor, size, 0, lines)
        if lines == 0:
            self._finish(segment)
            return None
        return segment

    def _finish(self, segment: _Segment) -> None:
        """A segment is done with: the active one is emptied, any other removed."""
        if segment is self._active:
            self._cut(segment, 0)
            segment.size = segment.sent = segment.lines = 0
            return
        segment.path.unlink(missing_ok=True)
        os.close(segment.descriptor)
        if segment in self._segments:
            self._segments.remove(segment)

    def _cut(self, segment: _Segment, size: int) -> None:
        try:
            os.ftruncate(segment.descriptor, size)
        except OSError:
            # What stands behind the last whole line is never read: its checksum does not fit, or it is overwritten.
            return

    def _keep_bound(self) -> None:
        """Drop the oldest segments beyond the bounds of size and age, and count what was in them."""
        oldest_ms = (self._clock_s() - self._most_age_s) * 1000
        while self._segments:
            oldest = self._segments[0]
            if oldest is not self._active and int(oldest.path.name[:15]) < oldest_ms:
                why = "too old in the spool"
            elif self.waiting_bytes + self._others_bytes > self._most_bytes and (
                len(self._segments) > 1 or not self._others_bytes
            ):
                why = "the spool is full"
            else:
                return
            if self._peeked is not None and self._peeked[0] is oldest:
                self._peeked = None
            self._dropped(why, oldest.lines)
            self._finish(oldest)
            if oldest is self._active:
                return


def _whole_lines(data: bytes, most_lines: int, most_bytes: int) -> tuple[list[bytes], int]:
    """Return the whole lines at the start of ``data`` within the bounds (one at least), and how many bytes they take."""
    found: list[bytes] = []
    place = size = 0
    while len(found) < most_lines and place + _FRAME <= len(data):
        try:
            checksum, length = int(data[place : place + 8], 16), int(data[place + 9 : place + 17], 16)
        except ValueError:
            break
        line = data[place + _FRAME : place + _FRAME + length]
        if len(line) < length or zlib.crc32(line) != checksum or (found and size + length > most_bytes):
            break
        found.append(line)
        size += length
        place += _FRAME + length
    return found, place


def _drop_head(segment: _Segment) -> None:
    """Rewrite a segment without what was sent, so that the next process does not send it again for nothing."""
    try:
        rest = os.pread(segment.descriptor, segment.size - segment.sent, segment.sent)
        partial = segment.path.with_suffix(".partial")
        descriptor = os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(descriptor, "wb") as opened:
            opened.write(rest)
        os.replace(partial, segment.path)  # noqa: PTH105
    except OSError:
        return
