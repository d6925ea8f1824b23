"""Times as the API and the reports write them: RFC 3339, UTC, to the millisecond. Standard library only."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from functools import lru_cache
from typing import Final

MINUTE_MS: Final = 60_000
HOUR_MS: Final = 60 * MINUTE_MS
DAY_MS: Final = 24 * HOUR_MS
FIRST_MS: Final = 0
"""1970-01-01: earlier times from outside are refused."""
LAST_MS: Final = 4_102_444_800_000
"""2100-01-01: times from outside have to be before it."""
# The range that can be written: the years 1 to 9999.
_LEAST_MS: Final = -62_135_596_800_000
_MOST_MS: Final = 253_402_300_799_999
_LONGEST_SKEW_MS: Final = 100 * 365 * DAY_MS

_SPAN = re.compile(r"(\d{1,5})\s*(m|min|h|d|w)")
_UNIT_MS: Final = {"m": 60_000, "min": 60_000, "h": HOUR_MS, "d": DAY_MS, "w": 7 * DAY_MS}


def to_text(time_ms: int) -> str:
    """Write a Unix time in milliseconds, e.g. ``2026-03-01T04:05:06.789Z``; times beyond it are clipped."""
    time_ms = min(max(time_ms, _LEAST_MS), _MOST_MS)
    return f"{_second_text(time_ms // 1000)}.{time_ms % 1000:03d}Z"


@lru_cache(64)
def _second_text(second: int) -> str:
    # Many times of one report are in the same second. Not by ``strftime``: that imports, which nobody can at the very end.
    return datetime.fromtimestamp(second, UTC).replace(tzinfo=None).isoformat()


def to_ms(moment: datetime) -> int:
    """Return the Unix time in milliseconds of an aware datetime, whatever its year and offset."""
    # For an aware datetime this is the difference to 1970, for any year; a naive one would use the machine's zone.
    return round(moment.timestamp() * 1000)


def shown_ms(shown: str | None) -> int | None:
    """Return the Unix time in milliseconds of a sender's clock (RFC 3339); None where it is missing or invalid."""
    try:
        moment = datetime.fromisoformat(shown) if shown else None
    except ValueError:
        return None
    return None if moment is None or moment.tzinfo is None else to_ms(moment)


def clock_skew_ms(shown: str | None, now_ms: int) -> int:
    """Return the correction for the times of a sender whose clock shows ``shown`` (RFC 3339) now; 0 where it is missing or invalid."""
    theirs_ms = shown_ms(shown)
    if theirs_ms is None:
        return 0
    skew_ms = now_ms - theirs_ms
    return skew_ms if abs(skew_ms) <= _LONGEST_SKEW_MS else 0


def span_ms(text: str) -> int | None:
    """Return the length in milliseconds of a span such as ``30m``, ``24h``, ``14d`` or ``2w``; None when it is none."""
    match = _SPAN.fullmatch(text.strip().lower())
    if match is None or int(match[1]) == 0:
        return None
    return int(match[1]) * _UNIT_MS[match[2]]
