"""Appending to files that others read: whole lines, on disk when the call returns."""

from __future__ import annotations

import os
from pathlib import Path

from obitus.service.outward.allowed import as_own


def append(path: Path, lines: bytes) -> None:
    """Append lines to a file, which is made for its owner alone where it is missing. Raises OSError, and then none of
    them is in it.
    """
    if _ends_amid_a_line(path):
        lines = b"\n" + lines
    with open(path, "ab", opener=as_own) as file:
        start = file.tell()
        try:
            file.write(lines)
            file.flush()
            os.fsync(file.fileno())
        except OSError:
            # Half a line would make the next one invalid too.
            os.ftruncate(file.fileno(), start)
            raise


def _ends_amid_a_line(path: Path) -> bool:
    """Whether the file ends with half a line after a crash of the machine: the next record must not continue it."""
    try:
        with path.open("rb") as file:
            return file.seek(0, os.SEEK_END) > 0 and file.seek(-1, os.SEEK_END) >= 0 and file.read(1) != b"\n"
    except FileNotFoundError:
        return False
