"""One file of the spool: lines, each framed by its checksum and length."""

from __future__ import annotations

import os
import zlib
from dataclasses import dataclass
from pathlib import Path
from typing import Final

from obitus.client.own_files import file_of

READ_BYTES: Final = 1_250_000
"""Most bytes that are read at once."""
_FRAME: Final = 18


@dataclass
class Segment:
    """A file of the spool that this process holds open and locked."""

    path: Path
    descriptor: int
    file: tuple[int, int]
    """Device and inode: an app may close what it did not open, and its next file gets the same descriptor."""
    size: int
    """Bytes of whole lines in it."""
    sent: int = 0
    """Bytes of it that are sent."""
    lines: int = 0
    """Lines that wait in it."""
    mine: bool = True
    """Whether this process wrote what is in it."""
    tried: bool = False
    """Whether sending it was tried since it was opened."""

    def is_open(self) -> bool:
        """Whether the descriptor is still that of this file."""
        try:
            return file_of(self.descriptor) == self.file
        except OSError:
            return False

    def close(self) -> None:
        """Close the descriptor, unless it has become somebody else's."""
        if self.is_open():
            os.close(self.descriptor)


def made_at_ms(path: Path) -> int:
    """Return when a file of the spool was made, in ms, as its name says; 0 for another name."""
    digits = path.name[:15]
    return int(digits) if digits.isdigit() else 0


def framed(line: bytes) -> bytes:
    """Return a line with its checksum and length in front."""
    return b"%08x %08x " % (zlib.crc32(line), len(line)) + line


def whole_lines(data: bytes, most_lines: int, most_bytes: int) -> tuple[list[bytes], int]:
    """Return the whole lines at the start of ``data`` within the bounds (one at least), and how many bytes they take."""
    lines: list[bytes] = []
    place = size = 0
    while len(lines) < most_lines and place + _FRAME <= len(data):
        try:
            checksum, length = int(data[place : place + 8], 16), int(data[place + 9 : place + 17], 16)
        except ValueError:
            break
        line = data[place + _FRAME : place + _FRAME + length]
        if len(line) < length or zlib.crc32(line) != checksum or (lines and size + length > most_bytes):
            break
        lines.append(line)
        size += length
        place += _FRAME + length
    return lines, place


def drop_head(segment: Segment) -> None:
    """Rewrite a segment without the lines that were sent, so that the next process does not send them again."""
    try:
        rest = os.pread(segment.descriptor, segment.size - segment.sent, segment.sent)
        partial = segment.path.with_suffix(".partial")
        descriptor = os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(descriptor, "wb") as opened:
            opened.write(rest)
        os.replace(partial, segment.path)  # noqa: PTH105
    except OSError:
        return
