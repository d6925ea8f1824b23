"""Opening files, and following them."""

from __future__ import annotations

import glob
import gzip
import io
import sys
import time
import zlib
from collections.abc import Callable
from contextlib import ExitStack
from datetime import UTC, datetime, tzinfo
from functools import partial
from pathlib import Path
from typing import IO, Final
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from obitus.reading.outcome import READ_BYTES, STEP_BYTES
from obitus.reading.troubles import ReadingTrouble

PACKED: Final = 2**62
"""An unknown size."""
POLL_S: Final = 0.5


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
        return sys.stdin.buffer, PACKED, int(time.time() * 1000)
    path = Path(name)
    try:
        opened: IO[bytes] = stack.enter_context(path.open("rb"))
        status = path.stat()
        packed = opened.read(2) == b"\x1f\x8b"
        opened.seek(0)
    except OSError as error:
        raise ReadingTrouble(f"{name} cannot be read: {error.strerror}.") from error
    if packed:
        return io.BufferedReader(gzip.GzipFile(fileobj=opened)), PACKED, int(status.st_mtime * 1000)
    return opened, status.st_size, int(status.st_mtime * 1000)


def follow(
    names: list[str],
    more: dict[str, Callable[[], None]],
    again: Callable[[str], Callable[[], None]],
    stop: Callable[[], bool],
) -> None:
    """Keep reading as files grow, until ``stop`` returns true; a file that was replaced by a new one is read from its start."""
    files = {name: _which(name) for name in names if name != "-"}
    while not stop():
        for name, before in files.items():
            now = _which(name)
            if now is not None and before is not None and (now[0] != before[0] or now[1] < before[1]):
                more[name]()
                more[name] = again(name)
            else:
                more[name]()
            files[name] = now or before
        time.sleep(POLL_S)


def _which(name: str) -> tuple[int, int] | None:
    try:
        status = Path(name).stat()
    except OSError:
        return None
    return status.st_ino, status.st_size


def from_place(
    head: bytes, opened: IO[bytes], start: int, passed: Callable[[bytes], None] | None = None
) -> Callable[[int], bytes]:
    """Return a reader from an offset on, including the bytes that were read already; ``passed`` gets the bytes before."""
    if passed is not None:
        passed(head[:start])
    if start >= len(head):
        if opened.seekable() and passed is None:
            opened.seek(start)
        else:
            left_bytes = start - len(head)
            while left_bytes and (piece := opened.read(min(left_bytes, READ_BYTES))):
                left_bytes -= len(piece)
                if passed is not None:
                    passed(piece)
        return partial(read_some, opened)
    waiting = [head[start:]]

    def read(most: int) -> bytes:
        return waiting.pop() + read_some(opened, most) if waiting else read_some(opened, most)

    return read


def read_some(opened: IO[bytes], most: int) -> bytes:
    """Read up to ``most`` bytes; of a truncated compressed file the part before its end."""
    pieces: list[bytes] = []
    left_bytes = most
    try:
        while left_bytes > 0 and (piece := opened.read1(min(left_bytes, STEP_BYTES))):  # type: ignore[attr-defined]
            pieces.append(piece)
            left_bytes -= len(piece)
    except (EOFError, gzip.BadGzipFile, zlib.error):
        pass
    except OSError as error:
        raise ReadingTrouble(f"reading stopped: {error.strerror}.") from error
    return b"".join(pieces)
