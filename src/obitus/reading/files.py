"""Opening files and standard input, and reading them piece by piece."""

from __future__ import annotations

import codecs
import glob
import gzip
import io
import os
import queue
import sys
import threading
import time
import zlib
from collections.abc import Callable
from contextlib import ExitStack
from datetime import UTC, datetime, tzinfo
from pathlib import Path
from typing import IO, Any, Final
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from obitus.reading.outcome import READ_BYTES, STEP_BYTES
from obitus.reading.troubles import ReadingTrouble

PACKED: Final = 2**62
"""An unknown size."""
POLL_S: Final = 0.5
QUIET_S: Final = 2.0
"""After so long without a further line the last trace, and the last record, is complete."""
MOST_WAITING: Final = 64
"""Pieces of standard input that are read ahead."""
_WIDE = {codecs.BOM_UTF16_LE: "utf-16-le", codecs.BOM_UTF16_BE: "utf-16-be"}


def files_of(names: list[str]) -> list[str]:
    """Return the files of names and patterns; raises ReadingTrouble where one matches none."""
    files: list[str] = []
    for name in names:
        matching = [name] if name == "-" or Path(name).exists() else sorted(glob.glob(name, recursive=True))  # noqa: PTH207 - the user's pattern
        if not matching:
            raise ReadingTrouble(f"{name}: there is no such file, and no file that matches it.")
        files += [match for match in matching if match == "-" or Path(match).is_file()]
    return list(dict.fromkeys(files))


def zone_of(name: str | None) -> tzinfo:
    """Return the zone of times without one: by name, or this machine's own."""
    if name is None:
        return datetime.now().astimezone().tzinfo or UTC
    try:
        return UTC if name.upper() in ("UTC", "Z") else ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise ReadingTrouble(f"{name} is no time zone. Say UTC, or a name like Europe/Oslo.") from None


def open_file(name: str, stack: ExitStack) -> tuple[IO[bytes], int, int]:
    """Open a file, standard input (``-``) or a gzip file; return it, its inflated size (or a guess), and when it was written."""
    if name == "-":
        return Pipe(sys.stdin.fileno()), PACKED, int(time.time() * 1000)  # type: ignore[return-value]
    path = Path(name)
    try:
        opened: IO[bytes] = stack.enter_context(path.open("rb"))
        status = path.stat()
        first = opened.read(2)
        opened.seek(0)
    except OSError as error:
        raise ReadingTrouble(f"{name} cannot be read: {error.strerror}.") from error
    written_ms = int(status.st_mtime * 1000)
    if first == b"\x1f\x8b":
        opened = io.BufferedReader(gzip.GzipFile(fileobj=opened))
        return _narrow(opened, opened.peek(2)[:2]), PACKED, written_ms
    return _narrow(opened, first), PACKED if first in _WIDE else status.st_size, written_ms


def _narrow(opened: IO[bytes], first: bytes) -> IO[bytes]:
    """Return a file of UTF-16, which Windows writes where output is redirected, as one of UTF-8."""
    return io.BufferedReader(_Narrow(opened, _WIDE[first])) if first in _WIDE else opened


class _Narrow(io.RawIOBase):
    """Reads UTF-16 as UTF-8; offsets are those of UTF-8."""

    def __init__(self, opened: IO[bytes], encoding: str) -> None:
        self._opened = opened
        self._decoder = codecs.getincrementaldecoder(encoding)("replace")
        self._rest = b""

    def readable(self) -> bool:
        return True

    def readinto(self, into: Any) -> int:
        while not self._rest and (wide := self._opened.read1(STEP_BYTES)):  # type: ignore[attr-defined]
            self._rest = self._decoder.decode(wide).encode("utf-8", "replace")
        piece, self._rest = self._rest[: len(into)], self._rest[len(into) :]
        into[: len(piece)] = piece
        return len(piece)


class Pipe:
    """Standard input. It may be the output of a program that runs on and pauses for hours, or never: ``read1`` returns nothing
    after half a second of data, and after a while without any; ``ended`` says whether that is for good.
    """

    def __init__(self, descriptor: int) -> None:
        self.ended = False
        self._stops_s: float | None = None
        self._pieces: queue.SimpleQueue[bytes] = queue.SimpleQueue()
        self._places = threading.Semaphore(MOST_WAITING)
        self._rest = b""
        self._wait_s: float | None = None
        """How long to wait for a piece: for the first one for ever."""
        self._turn_ends_s: float | None = None
        threading.Thread(target=self._read_on, args=(descriptor,), name="obitus-input", daemon=True).start()

    def _read_on(self, descriptor: int) -> None:
        piece = b" "
        while piece:
            self._places.acquire()
            try:
                piece = os.read(descriptor, STEP_BYTES)
            except OSError:
                piece = b""
            self._pieces.put(piece)

    def stop(self) -> None:
        """End after what was written to it until now. A handler of signals may call it."""
        self._stops_s = time.monotonic() + POLL_S
        self._pieces.put(b"")

    def seekable(self) -> bool:
        """It is not."""
        return False

    def read1(self, most: int) -> bytes:
        """Return at most so many bytes, and none where it pauses, where half a second is over, and at the end."""
        if not self._rest and not self.ended:
            left_s = self._wait_s if self._turn_ends_s is None else max(0.0, self._turn_ends_s - time.monotonic())
            if not self._fill(left_s):
                self._turn_ends_s = None
                return b""
            self._turn_ends_s = self._turn_ends_s or time.monotonic() + POLL_S
        piece, self._rest = self._rest[:most], self._rest[most:]
        return piece

    def _fill(self, wait_s: float | None) -> bool:
        """Take the next piece, which may be the end; return False when none came for so long."""
        self._rest = b""
        while not self._rest:
            if self._stops_s is not None:
                # The thread may not have come to read what was written before.
                wait_s = max(0.0, self._stops_s - time.monotonic())
            try:
                self._rest = self._pieces.get(timeout=wait_s)
            except queue.Empty:
                self.ended = self._stops_s is not None
                return self.ended
            if not self._rest and self._stops_s is None:
                self.ended = True
                return True
        self._wait_s = QUIET_S
        if self._stops_s is None or time.monotonic() < self._stops_s:
            # Else the thread may read no more.
            self._places.release()
        return True

    def head(self, most: int) -> bytes:
        """Return its first bytes, without taking them: so many, or what comes before it pauses after a whole line."""
        pieces = b""
        while len(pieces) < most and not self.ended:
            if self._fill(self._wait_s):
                pieces += self._rest
            elif b"\n" in pieces:
                break
        self._rest = pieces
        return pieces[:most]

    def close(self) -> None:
        """Leave it to the process."""


class Pieces:
    """Reads a file piece by piece; of a compressed one that is cut off or damaged, the part before that."""

    def __init__(self, opened: IO[bytes]) -> None:
        self.opened = opened
        self.is_damaged = False

    def read(self, most: int) -> bytes:
        """Return so many bytes, fewer where the file ends; raises ReadingTrouble."""
        pieces: list[bytes] = []
        left_bytes = most
        try:
            while left_bytes > 0 and (piece := self.opened.read1(min(left_bytes, STEP_BYTES))):  # type: ignore[attr-defined]
                pieces.append(piece)
                left_bytes -= len(piece)
        except (EOFError, gzip.BadGzipFile, zlib.error):
            self.is_damaged = True
        except OSError as error:
            raise ReadingTrouble(f"reading stopped: {error.strerror}.") from error
        return b"".join(pieces)

    def from_place(
        self, head: bytes, start: int, passed: Callable[[bytes], None] | None = None
    ) -> Callable[[int], bytes]:
        """Return a reader from an offset on, including the bytes that were read already; ``passed`` gets the bytes before."""
        if passed is not None:
            passed(head[:start])
        if start >= len(head):
            if self.opened.seekable() and passed is None:
                self.opened.seek(start)
            else:
                left_bytes = start - len(head)
                while left_bytes and (piece := self.read(min(left_bytes, READ_BYTES))):
                    left_bytes -= len(piece)
                    if passed is not None:
                        passed(piece)
            return self.read
        waiting = [head[start:]]

        def read(most: int) -> bytes:
            return waiting.pop() + self.read(most) if waiting else self.read(most)

        return read
