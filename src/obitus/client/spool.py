"""Reports on the sender's disk, waiting to be sent: append-only segment files, shared by processes, bounded.

Each process writes segments of its own and holds a lock on them. The lock ends with the process, however it ends,
and another process sends what it left. A line is framed by its checksum and length, which distinguishes a line that
was cut by a kill from a whole one. A segment that was sent is removed; sent twice is harmless, since
reports carry their ids. Lines reach the operating system, not the platter: a kill loses none, a power cut may.

A line can also be written to a file of its own (``put_down``): that takes no lock, so that an ending thread, a
signal handler and the end of the interpreter can do it too. Such a file is not locked; the next sender takes it
over.
"""

from __future__ import annotations

import errno
import os
import time
from collections import deque
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Final

from obitus.client.locks import AVAILABLE, open_locked
from obitus.client.own_files import file_of, make_own
from obitus.client.segments import READ_BYTES, Segment, drop_head, framed, made_at_ms, whole_lines

HELD: Final = ".held.reports"
"""Suffix of files that are not to be sent yet."""
HELD_MOST_S: Final = 10.0
"""The longest time for which a live process holds a report back."""
SEGMENT_BYTES: Final = 1024 * 1024
MOST_SEGMENTS_LOOKED_AT: Final = 5000
MOST_TAKEN_OVER: Final = 24
"""Files of other processes that are open at the same time: the app needs descriptors too."""
_MOST_TAKEN_IN: Final = 100
PARTIAL_KEPT_S: Final = 600.0


@dataclass
class Batch:
    """Waiting lines, and their places."""

    lines: list[bytes]
    places: list[tuple[Segment, int, int]]
    """Segment, bytes and lines."""


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
        family: str = "",
    ) -> None:
        self.folder = folder
        self._most_bytes = most_bytes
        self._most_age_s = most_age_s
        self._dropped = dropped
        self._clock_s = clock_s
        self._segments: list[Segment] = []
        self._active: Segment | None = None
        # Files of a process and its children have the same family in their names, so that the last one to end can send all.
        self._name = f"{os.getpid()}-{family + '-' if family else ''}{os.urandom(6).hex()}"
        self._count = 0
        self._others_bytes = 0
        self._put_down: deque[tuple[Path, bytes]] = deque()
        self.held: set[Path] = set()
        """Files that are not to be sent yet."""
        self._seen_change_ns = 0
        self.leaves_more = False
        """Whether ended processes left more than ``adopt`` took over."""
        if not AVAILABLE:
            raise OSError("this system has no file locks")
        make_own(folder)

    @property
    def waiting(self) -> int:
        """How many lines wait here, in this process's segments and those it took over."""
        return sum(segment.lines for segment in self._segments) + len(self._put_down)

    @property
    def waiting_bytes(self) -> int:
        """How many bytes wait here."""
        return sum(segment.size - segment.sent for segment in self._segments)

    def append(self, lines: list[bytes]) -> None:
        """Append lines (each ending in a line feed). Raises OSError, and then none of them is in it."""
        together = b"".join(map(framed, lines))
        active = self._active
        if active is not None and not active.is_open():
            self._reopen(active)
            active = self._active
        if active is None or active.size + len(together) > SEGMENT_BYTES:
            active = self._new_segment()
        written = 0
        try:
            while written < len(together):
                written += os.pwrite(active.descriptor, memoryview(together)[written:], active.size + written)
        except OSError:
            self._cut(active, active.size)
            raise
        active.size += len(together)
        active.lines += len(lines)
        self._keep_bound()

    def put_down(self, line: bytes, *, held: bool = False) -> Path:
        """Write one line to a file of its own, and return that. Raises OSError. Any thread may, at any time.

        The file gets its name only once it is whole. A ``held`` one is not sent before it is released, and its name says so.
        """
        name = f"{int(self._clock_s() * 1000):015d}-{self._name}-{os.urandom(5).hex()}"
        path = self.folder / f"{name}{HELD if held else '.reports'}"
        partial = f"{self.folder}/{name}.partial"
        descriptor = os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_CLOEXEC", 0), 0o600)
        whole = framed(line)
        if held:
            self.held.add(path)
        try:
            try:
                written = os.write(descriptor, whole)
            finally:
                os.close(descriptor)
            if written < len(whole):
                raise OSError(errno.ENOSPC, "no room for the whole report", partial)
            os.rename(partial, path)  # noqa: PTH104
        except BaseException:
            # Also for exceptions of a signal handler: half a file is useless.
            Path(partial).unlink(missing_ok=True)
            self.held.discard(path)
            raise
        return path

    def let_go(self, path: Path) -> Path:
        """Rename a held file to one that is sent, and return the new path. Raises OSError. It stays held until ``expect``."""
        free = path.with_name(path.name.replace(HELD, ".reports"))
        self.held.add(free)
        return path.rename(free)

    def expect(self, path: Path, line: bytes) -> None:
        """Add a file's line to the segments at the next ``take_in``."""
        self._put_down.append((path, line))
        self.held.discard(path)

    def take_in(self) -> None:
        """Append the lines of this process's own files to the segments, and remove the files. Raises OSError."""
        while self._put_down:
            try:
                taken = [self._put_down.popleft() for _ in range(min(len(self._put_down), _MOST_TAKEN_IN))]
            except IndexError:
                break
            # The files are removed last: a kill in between leaves two copies of a report, which the service stores once.
            try:
                self.append([line for _, line in taken])
            except OSError:
                # No room for a second copy: then they are sent from where they are.
                self._segments += [segment for path, _ in taken if (segment := self._take_over(path)) is not None]
                raise
            for path, _ in taken:
                path.unlink(missing_ok=True)

    def line_in(self, path: Path) -> list[bytes]:
        """Return the line of a file; empty where it is not whole. Raises OSError where the file is gone."""
        return whole_lines(path.read_bytes(), 1, READ_BYTES)[0]

    def others_left_something(self) -> bool:
        """Whether the folder has anything that this process did not write."""
        try:
            with os.scandir(self.folder) as entries:
                return any(entry.name.endswith(".reports") and self._name not in entry.name for entry in entries)
        except OSError:
            return False

    @property
    def expected(self) -> int:
        """How many files wait to be joined with the rest."""
        return len(self._put_down)

    def was_changed(self) -> bool:
        """Whether something was added to the folder or removed from it, by anybody, since the last ``adopt``."""
        try:
            return os.stat(self.folder).st_mtime_ns != self._seen_change_ns  # noqa: PTH116
        except OSError:
            return False

    def peek(self, most_lines: int, most_bytes: int, *, own: bool = False) -> Batch:
        """Return the oldest lines that wait, or only those that this process wrote; ``done`` says that they were sent."""
        peeked: list[bytes] = []
        places: list[tuple[Segment, int, int]] = []
        segments = [segment for segment in self._segments if segment.mine or not own]
        for segment in segments:
            if not segment.is_open():
                self._reopen(segment)
                if segment not in self._segments:
                    continue
            segment.tried = True
            data = os.pread(segment.descriptor, min(segment.size - segment.sent, READ_BYTES), segment.sent)
            lines, size = whole_lines(data, most_lines - len(peeked), most_bytes)
            if not lines:
                # There is no whole line left in it: it was damaged, or everything is sent.
                if segment.lines > 0 and data:
                    self._dropped("damaged in the spool", segment.lines)
                self._finish(segment)
                continue
            if peeked and size > most_bytes:
                break
            peeked += lines
            most_bytes -= size
            places.append((segment, size, len(lines)))
            if len(peeked) >= most_lines or most_bytes <= 0 or segment.sent + size < segment.size:
                break
        return Batch(peeked, places)

    def done(self, batch: Batch) -> None:
        """Remove what ``peek`` returned."""
        for segment, size, lines in batch.places:
            if segment not in self._segments:
                # It was dropped meanwhile, to keep the bounds.
                continue
            segment.sent += size
            segment.lines -= lines
            if segment.sent >= segment.size:
                self._finish(segment)

    def adopt(self, family: str | None = None, *, was_held: Callable[[list[bytes]], Any] = lambda _: None) -> int:
        """Take over the segments of ended processes; return how many lines they hold.

        With a ``family`` only what its members left, as if this process had written it. ``was_held`` gets the lines
        that a process held when it ended.
        """
        mine = {segment.path for segment in self._segments}
        adopted: list[Segment] = []
        try:
            self._seen_change_ns = os.stat(self.folder).st_mtime_ns  # noqa: PTH116
            names = sorted(os.listdir(self.folder))[:MOST_SEGMENTS_LOOKED_AT]  # noqa: PTH208 - names are enough
        except OSError:
            return 0
        self._remove_partial(name for name in names if name.endswith(".partial"))
        put_down = {path for path, _ in self._put_down}
        room = MOST_TAKEN_OVER - sum(not segment.mine for segment in self._segments)
        self.leaves_more = False
        for name in names:
            path = self.folder / name
            if not name.endswith(".reports") or path in mine or path in put_down or path in self.held:
                continue
            if (family is not None and f"-{family}-" not in name) or (name.endswith(HELD) and self._is_held(name)):
                continue
            if len(adopted) >= room:
                self.leaves_more = True
                break
            segment = self._take_over(path)
            if segment is not None:
                segment.mine = family is not None
                if name.endswith(HELD):
                    was_held(whole_lines(os.pread(segment.descriptor, READ_BYTES, 0), 1, READ_BYTES)[0])
                adopted.append(segment)
        self._segments[:0] = adopted
        self._keep_bound()
        return sum(segment.lines for segment in adopted)

    def _is_held(self, name: str) -> bool:
        """Whether the process that holds a file back lives, and will release it itself."""
        if not 0 <= self._clock_s() * 1000 - made_at_ms(self.folder / name) < HELD_MOST_S * 1000:
            return False
        process = name.split("-", 2)[1]
        try:
            os.kill(int(process), 0)
        except PermissionError:
            return True
        except (OSError, ValueError, OverflowError):
            return False
        return True

    def _remove_partial(self, names: Iterable[str]) -> None:
        """Remove partial files of processes that were killed while they wrote them."""
        before_s = self._clock_s() - PARTIAL_KEPT_S
        for name in names:
            path = self.folder / name
            try:
                if path.stat().st_mtime < before_s:
                    path.unlink()
            except OSError:
                continue

    def tidy(self) -> None:
        """Remove the active segment where nothing is left in it: the process may end without closing."""
        active = self._active
        if active is not None and active.lines == 0:
            self._active = None
            self._finish(active)

    def close(self) -> None:
        """Close every segment; waiting lines stay on disk for the next process."""
        for segment in self._segments:
            if segment.lines == 0:
                segment.path.unlink(missing_ok=True)
            elif segment.sent and segment.is_open():
                drop_head(segment)
            segment.close()
        self._segments.clear()
        self._active = None

    def forget(self) -> None:
        """In a forked child: close the parent's files without touching what is in them."""
        for segment in self._segments:
            segment.close()
        self._segments.clear()
        self._active = None

    def _new_segment(self) -> Segment:
        self._count += 1
        self._others_bytes = self._bytes_of_others()
        # The time comes first, so that names sort by age.
        path = self.folder / f"{int(self._clock_s() * 1000):015d}-{self._name}-{self._count}.reports"
        # Under another name until it is locked: else another process may take it over just then.
        partial = path.with_suffix(".partial")
        descriptor = open_locked(partial, os.O_RDWR | os.O_CREAT | os.O_EXCL)
        if descriptor is None:
            raise OSError(f"{partial} is held by another process")
        os.rename(partial, path)  # noqa: PTH104
        self._active = Segment(path, descriptor, file_of(descriptor), 0)
        self._segments.append(self._active)
        return self._active

    def _reopen(self, segment: Segment) -> None:
        """The descriptor was closed, as daemonising code does: open the file again, or drop it."""
        try:
            descriptor = open_locked(segment.path)
            if descriptor is not None and file_of(descriptor) == segment.file:
                segment.descriptor = descriptor
                return
            if descriptor is not None:
                os.close(descriptor)
        except OSError:
            pass
        # It is another process's now, which sends what is in it.
        self._segments.remove(segment)
        if segment is self._active:
            self._active = None

    def _bytes_of_others(self) -> int:
        """Return the bytes of other processes in the folder: the bound is for the whole folder."""
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

    def _take_over(self, path: Path) -> Segment | None:
        try:
            descriptor = open_locked(path)
        except OSError:
            return None
        if descriptor is None:
            return None
        size = lines = 0
        while True:
            data = os.pread(descriptor, READ_BYTES, size)
            lines_read, whole = whole_lines(data, 1_000_000, READ_BYTES)
            if not lines_read:
                break
            lines += len(lines_read)
            size += whole
        if data:
            self._dropped("cut off by a kill", 1)
        segment = Segment(path, descriptor, file_of(descriptor), size, 0, lines, mine=False)
        if lines == 0:
            self._finish(segment)
            return None
        return segment

    def _finish(self, segment: Segment) -> None:
        """A segment is sent: empty the active one, remove any other."""
        if segment is self._active:
            self._cut(segment, 0)
            segment.size = segment.sent = segment.lines = 0
            return
        segment.path.unlink(missing_ok=True)
        segment.close()
        if segment in self._segments:
            self._segments.remove(segment)

    def _cut(self, segment: Segment, size: int) -> None:
        try:
            os.ftruncate(segment.descriptor, size)
        except OSError:
            # Bytes after the last whole line are never read: their checksum does not fit, or they are overwritten.
            return

    def _keep_bound(self) -> None:
        """Drop the oldest segments beyond the bounds of size and age, and count what was in them."""
        oldest_ms = (self._clock_s() - self._most_age_s) * 1000
        while self._segments:
            oldest = self._segments[0]
            # A file's name gives its age only if the clock was right then: it is tried once before it is dropped.
            if oldest is not self._active and oldest.tried and made_at_ms(oldest.path) < oldest_ms:
                why = "too old in the spool"
            elif self.waiting_bytes + self._others_bytes > self._most_bytes and (
                len(self._segments) > 1 or not self._others_bytes
            ):
                why = "the spool is full"
            else:
                return
            self._dropped(why, oldest.lines)
            self._finish(oldest)
            if oldest is self._active:
                return
