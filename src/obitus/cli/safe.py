"""Making text safe for terminals."""

from __future__ import annotations

import re
from typing import Any

_CONTROL = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")


def safe(value: object) -> str:
    """Return text from a report without control codes and direction marks."""
    return _CONTROL.sub("\ufffd", str(value))


def cleaned(value: Any) -> Any:
    """Return an answer of the service with every text and name in it safe for a terminal."""
    if isinstance(value, str):
        return safe(value)
    if isinstance(value, list):
        return [cleaned(inner) for inner in value]
    if isinstance(value, dict):
        return {safe(name): cleaned(inner) for name, inner in value.items()}
    return value
