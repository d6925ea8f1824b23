"""Times from outside: RFC 3339 with an offset, within the bounds of times that can be stored and shown."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

from pydantic import AfterValidator, BeforeValidator

from obitus.core.clock import FIRST_MS, LAST_MS, to_ms
from obitus.service.problems import Problem

EXAMPLE = "2026-03-01T04:05:06Z"


def _text(given: Any) -> Any:
    if not isinstance(given, str | datetime):
        raise ValueError(f"say a time as text, such as {EXAMPLE}")
    return given


def _bounded(moment: datetime) -> datetime:
    if moment.tzinfo is None:
        raise ValueError(f"say the offset too, such as {EXAMPLE}")
    if not FIRST_MS <= to_ms(moment) < LAST_MS:
        raise ValueError(f"say a time from 1970 to 2099, such as {EXAMPLE}")
    return moment


Time = Annotated[datetime, BeforeValidator(_text), AfterValidator(_bounded)]
"""A time in a body."""


def time_in_query(text: str, name: str) -> int:
    """Parse a time in an address, as Unix milliseconds; raises the problem ``bad-window``."""
    try:
        return to_ms(_bounded(datetime.fromisoformat(text)))
    except ValueError:
        raise Problem(
            "bad-window", f"{name}: {text[:50]!r} is no RFC 3339 time from 1970 to 2099, such as {EXAMPLE}.", field=name
        ) from None
