"""The day under which a report is kept, and its number there. The day follows from the report alone, not from its
arrival: a report sent twice, even weeks later, has the same day.
"""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from typing import Final

from obitus.core.clock import DAY_MS

UNDATED: Final = 0
"""The day of reports with unusable times: before 2000 or after 2099."""
_FIRST_MS: Final = 946_684_800_000
_END_MS: Final = 4_102_444_800_000
_BITS: Final = 32
MOST_IN_A_DAY: Final = 1 << _BITS


def day_of(report_id: bytes, time_ms: int) -> int:
    """Return the UTC day that a report is kept under, in days since 1970-01-01.

    ``report_id`` are the 16 bytes of its id: a UUIDv7 (RFC 9562) begins with the milliseconds when it was made. For
    other ids the report's own time counts, as its sender wrote it.
    """
    if report_id[6] >> 4 == 7 and report_id[8] >> 6 == 2:
        made_ms = int.from_bytes(report_id[:6], "big")
        if _FIRST_MS <= made_ms < _END_MS:
            return made_ms // DAY_MS
    return time_ms // DAY_MS if _FIRST_MS <= time_ms < _END_MS else UNDATED


def seq_of(day: int, place: int) -> int:
    """Return the number of a report in all records: its day, and its place in that day's file, from 1."""
    return day << _BITS | place


def day_and_place(seq: int) -> tuple[int, int]:
    """Return the day of a report and its place there, from its number."""
    return seq >> _BITS, seq & (MOST_IN_A_DAY - 1)


def day_text(day: int) -> str:
    """Return a day as text: ``2026-11-26``; ``undated`` for reports without a usable time."""
    return "undated" if day == UNDATED else (datetime(1970, 1, 1, tzinfo=UTC) + timedelta(days=day)).date().isoformat()


def day_named(text: str) -> int | None:
    """Return the day of a text of ``day_text``; None where it is no such text."""
    if text == "undated":
        return UNDATED
    try:
        day = (date.fromisoformat(text) - date(1970, 1, 1)).days
    except ValueError:
        return None
    return day if day_text(day) == text else None
