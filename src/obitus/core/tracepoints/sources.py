"""Comparing source files of two sides without sending them: by their hash, and by single lines of code."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence


def hash_of(source: bytes) -> str:
    """Return the SHA-256 of a source file, hexadecimal; line ends of all systems count as the same."""
    return hashlib.sha256(source.replace(b"\r\n", b"\n").replace(b"\r", b"\n")).hexdigest()


def is_end_of(path: str, end: str) -> bool:
    """Whether a path ends with the written one: ``/app/sailings/fares.py`` ends with ``fares.py`` and ``sailings/fares.py``."""
    path, end = path.replace("\\", "/"), end.replace("\\", "/").removeprefix("./")
    return bool(end) and (path == end or path.endswith(end if end.startswith("/") else "/" + end))


def hash_of_line(line: str) -> str:
    """Return the SHA-256 of a line of code without the blanks around it, hexadecimal."""
    return hashlib.sha256(line.strip().encode("utf-8", "surrogatepass")).hexdigest()


def nearest_line(lines: Sequence[str], code_hash: str, near: int) -> int | None:
    """Return the line, from 1, with the same code as a line that has moved: the nearest to its old place."""
    same = [number for number, line in enumerate(lines, 1) if hash_of_line(line) == code_hash] if code_hash else []
    return min(same, key=lambda number: (abs(number - near), number), default=None)
