"""Values as questions see them: as text, as number, with units, as times."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from typing import Any, Final

from obitus.core.clock import DAY_MS, HOUR_MS, to_ms

_NUMBER = re.compile(r"[+-]?\d{1,40}(?:\.\d{1,40})?(?:[eE][+-]?\d{1,3})?", re.ASCII)
_QUANTITY = re.compile(r"([+-]?\d{1,20}(?:\.\d{1,20})?)\s?([A-Za-zµ]{1,3})", re.ASCII)
_DURATIONS_MS: Final = {
    "us": 0.001, "µs": 0.001, "ms": 1, "s": 1000, "m": 60_000, "min": 60_000, "h": HOUR_MS, "d": DAY_MS, "w": 7 * DAY_MS
}  # fmt: skip
_SIZES: Final = {
    "b": 1, "kb": 1000, "mb": 1000**2, "gb": 1000**3, "tb": 1000**4, "kib": 1024, "mib": 1024**2, "gib": 1024**3, "tib": 1024**4
}  # fmt: skip
TIMES: Final = frozenset({"time", "received", "first_seen", "last_seen", "started"})
"""Fields that are compared as times."""


class ValueTrouble(ValueError):
    """Raised for a value that its field cannot be compared with; says what can be written."""


def number_of(value: Any) -> float | None:
    """Return a value as a number, also from text; None where it is none."""
    if isinstance(value, bool) or value is None:
        return None
    if isinstance(value, int | float):
        return float(value)
    return float(value) if isinstance(value, str) and _NUMBER.fullmatch(value) else None


def wanted_number(field: str, text: str, now_ms: int) -> float | None:
    """Return a written value as a number, in the unit of the field; None where it is none.

    Raises ValueTrouble where the field is a time and this is none, or where a unit fits no field of that name.
    """
    if field in TIMES:
        return time_ms(text, now_ms)
    plain = number_of(text)
    if plain is not None:
        return plain
    match = _QUANTITY.fullmatch(text)
    if match is None:
        return None
    amount, unit = float(match[1]), match[2]
    if unit in _DURATIONS_MS:
        # OpenTelemetry's own durations are in seconds.
        if field == "duration" or field.endswith("_ms"):
            return amount * _DURATIONS_MS[unit]
        if field.endswith(("_s", ".duration", "_seconds")):
            return amount * _DURATIONS_MS[unit] / 1000
    if unit.lower() in _SIZES and any(part in field.lower() for part in ("size", "bytes", "length")):
        return amount * _SIZES[unit.lower()]
    return None


def time_ms(text: str, now_ms: int) -> float:
    """Return the Unix time in milliseconds of a text: RFC 3339, a day, or a span before now (``-2h``, ``2h``).

    Without an offset it is UTC. Raises ValueTrouble.
    """
    match = _QUANTITY.fullmatch(text.removesuffix(" ago").lstrip("-"))
    if match is not None and match[2] in _DURATIONS_MS:
        return now_ms - float(match[1]) * _DURATIONS_MS[match[2]]
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        raise ValueTrouble("a time is expected, such as -2h, 2026-11-26 or 2026-11-26T10:30") from None
    return to_ms(moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC))
