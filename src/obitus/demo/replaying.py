"""Replaying what the line's apps reported, with every time in it moved by whole hours. Run as a program it writes
that to its output.
"""

from __future__ import annotations

import pickle
import re
import subprocess
import sys
from datetime import datetime
from types import TracebackType
from typing import Final, NamedTuple, Self

import zstandard

from obitus.core.clock import DAY_MS, HOUR_MS, to_ms, to_text
from obitus.demo.recording import FILE, STARTS_MS
from obitus.demo.story import DAYS

BATCH_LINES: Final = 1000
_A_FAILURE: Final = b'{"kind": "failure"'
# A moment, or the id of a report or run (UUIDv7: its first 48 bits are a moment); each stands alone in its quotes. Two
# patterns, since one that begins with a choice is searched three times as slowly.
_TIME = re.compile(rb'"(20\d\d-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}Z)"')
_ID = re.compile(rb'"(0[0-9a-f]{7})-([0-9a-f]{4})(?=-7[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}")')


def starts_at(until_ms: int) -> int:
    """Return when a story begins that ends in the last full hour before a moment (Unix, milliseconds)."""
    return until_ms // HOUR_MS * HOUR_MS - DAYS * DAY_MS


class Bodies(NamedTuple):
    """What is to be sent on one day: players, and bodies of some lines each."""

    failures: list[tuple[int, bytes]]
    """To be sent in this order, before the others: it decides the numbers of issues."""
    others: list[tuple[int, bytes]]


class Replaying:
    """Has the recorded reports of a story moved by another process, while this one does something else."""

    def __init__(self, start_ms: int) -> None:
        self.start_ms = start_ms
        command = [sys.executable, "-m", "obitus.demo.replaying", str(start_ms)]
        self._process = subprocess.Popen(command, stdout=subprocess.PIPE)  # noqa: S603 - our own module

    def days(self) -> list[Bodies]:
        """Return what is to be sent, by day."""
        assert self._process.stdout is not None
        days = [Bodies(*day) for day in pickle.load(self._process.stdout)]  # noqa: S301 - it comes from our own process
        self._process.wait()
        return days

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, where: TracebackType | None
    ) -> None:
        """End the process."""
        self._process.kill()
        self._process.communicate()


def days_from(start_ms: int) -> list[Bodies]:
    """Return what is to be sent on each day of a story that begins at a moment (Unix, milliseconds)."""
    days = [Bodies([], []) for _ in range(DAYS)]
    for (player, day), lines in _recorded().items():
        failures = [line for line in lines if line.startswith(_A_FAILURE)]
        others = [line for line in lines if not line.startswith(_A_FAILURE)]
        for some, bodies in ((failures, days[day].failures), (others, days[day].others)):
            for at in range(0, len(some), BATCH_LINES):
                bodies.append((player, moved(b"".join(some[at : at + BATCH_LINES]), start_ms - STARTS_MS)))
    return days


def moved(body: bytes, by_ms: int) -> bytes:
    """Return reports with the moments in them, and in their ids, moved."""

    def move_time(match: re.Match[bytes]) -> bytes:
        return b'"%s"' % to_text(to_ms(datetime.fromisoformat(match[1].decode())) + by_ms).encode()

    def move_id(match: re.Match[bytes]) -> bytes:
        moment_ms = int(match[1] + match[2], 16) + by_ms
        return b'"%08x-%04x' % (moment_ms >> 16, moment_ms & 0xFFFF)

    return _ID.sub(move_id, _TIME.sub(move_time, body))


def _recorded() -> dict[tuple[int, int], list[bytes]]:
    lines_by_place: dict[tuple[int, int], list[bytes]] = {}
    for line in zstandard.ZstdDecompressor().decompress(FILE.read_bytes()).splitlines(keepends=True):
        player, day, report = line.split(b" ", 2)
        lines_by_place.setdefault((int(player), int(day)), []).append(report)
    return lines_by_place


if __name__ == "__main__":
    # Plain tuples: a class of the program itself would be another one for its reader.
    pickle.dump(list(map(tuple, days_from(int(sys.argv[1])))), sys.stdout.buffer, pickle.HIGHEST_PROTOCOL)
