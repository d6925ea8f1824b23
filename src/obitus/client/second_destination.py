"""A second destination in addition to the service: reports as lines of JSON in a file, for places without network.

Each line is added with one write, so several processes may share a file. A full file is renamed with the time;
beyond a bound the oldest of these are removed. ``obitus send`` brings them to a service later.
"""

from __future__ import annotations

import os
import re
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Final

MIB: Final = 1024 * 1024
MOST_BYTES: Final = 32 * MIB
MOST_FILES: Final = 16
"""Full files that are kept."""
_STAMP: Final = re.compile(r"-\d{8}T\d{6}Z-\d{1,9}-[0-9a-f]{4}")
"""What is added to the name of a full file."""


class AlsoFile:
    """The file, written by any thread; ``dropped`` is called with the number of reports removed with an old file."""

    def __init__(
        self,
        path: Path,
        dropped: Callable[[str, int], None],
        *,
        most_bytes: int = MOST_BYTES,
        most_files: int = MOST_FILES,
    ) -> None:
        self.path = path
        self._dropped, self._most_bytes, self._most_files = dropped, most_bytes, most_files

    def write(self, lines: Sequence[bytes]) -> None:
        """Add whole lines. Raises OSError where they cannot be written; then none of them is in the file."""
        data = b"".join(lines)
        descriptor = self._open()
        try:
            start = os.fstat(descriptor).st_size
            if start and start + len(data) > self._most_bytes and self._is_current(descriptor):
                os.close(descriptor)
                descriptor = -1
                self._set_aside()
                descriptor = self._open()
            written = os.write(descriptor, data)
            if written < len(data):
                self._finish(descriptor, data[written:])
        finally:
            if descriptor >= 0:
                os.close(descriptor)

    def _open(self) -> int:
        try:
            return os.open(self.path, os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC, 0o600)
        except FileNotFoundError:
            self.path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            return os.open(self.path, os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC, 0o600)

    def _finish(self, descriptor: int, rest: bytes) -> None:
        """Write the rest of a line; where the disk is full, end the line, so that the next one can be read."""
        while rest:
            try:
                rest = rest[os.write(descriptor, rest) :]
            except OSError:
                try:
                    os.write(descriptor, b"\n")
                except OSError:
                    pass
                raise

    def _is_current(self, descriptor: int) -> bool:
        """Whether the file is still the one at the path: another process may have set it aside."""
        opened = os.fstat(descriptor)
        try:
            status = os.stat(self.path)  # noqa: PTH116
        except OSError:
            return False
        return (opened.st_dev, opened.st_ino) == (status.st_dev, status.st_ino)

    def _set_aside(self) -> None:
        stamp = time.strftime("%Y%m%dT%H%M%SZ", time.gmtime())
        aside = self.path.with_name(f"{self.path.stem}-{stamp}-{os.getpid()}-{os.urandom(2).hex()}{self.path.suffix}")
        try:
            os.rename(self.path, aside)  # noqa: PTH104
        except FileNotFoundError:
            return
        for old in self._full_ones()[: -self._most_files]:
            try:
                lost = old.read_bytes().count(b"\n")
                old.unlink()
            except OSError:
                continue
            self._dropped("the file beside the service is full", lost)

    def _full_ones(self) -> list[Path]:
        """Return the full files, the oldest first. What else begins like them, such as another app's file, is not theirs."""
        stem, suffix = self.path.stem, self.path.suffix
        names = os.listdir(self.path.parent)  # noqa: PTH208 - names are enough
        full = [
            name
            for name in names
            if name.startswith(stem)
            and name.endswith(suffix)
            and _STAMP.fullmatch(name[len(stem) : len(name) - len(suffix)])
        ]
        return [self.path.with_name(name) for name in sorted(full)]
