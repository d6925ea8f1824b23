"""Replaying what the line's apps reported, with every time in it moved by whole hours."""

from __future__ import annotations

import re
from datetime import datetime
from typing import Final

import zstandard

from obitus.core.clock import DAY_MS, HOUR_MS, to_ms, to_text
from obitus.demo.recording import FILE, STARTS_MS
from obitus.demo.story import DAYS

BATCH_LINES: Final = 1000
# A moment, or the id of a report or run (UUIDv7: its first 48 bits are a moment); each stands alone in its quotes. Two
# patterns, since one that begins with a choice is searched three times as slowly.
_TIME = re.compile(rb'"(20\d\d-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}Z)"')
_ID = re.compile(rb'"(0[0-9a-f]{7})-([0-9a-f]{4})(?=-7[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}")')


def starts_at(until_ms: int) -> int:
    """Return when a story begins that ends in the last full hour before a moment (Unix, milliseconds)."""
    return until_ms // HOUR_MS * HOUR_MS - DAYS * DAY_MS


def batches(start_ms: int) -> dict[int, list[tuple[int, bytes]]]:
    """Return what is to be sent on each day of a story that begins at a moment: the player, and a body of some lines."""
    days: dict[int, list[tuple[int, bytes]]] = {}
    for (player, day), lines in _recorded().items():
        for at in range(0, len(lines), BATCH_LINES):
            body = b"".join(lines[at : at + BATCH_LINES])
            days.setdefault(day, []).append((player, moved(body, start_ms - STARTS_MS)))
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
