"""Text without its values, so that repeated messages become the same text. Standard library only."""

from __future__ import annotations

import re
from typing import Final

LONGEST_SAID: Final = 200
_VALUES = re.compile(
    r"'[^']*'|\"[^\"]*\"|\b[0-9a-f]{8}-[0-9a-f-]{27}\b|\b(?=[0-9a-f]*\d)[0-9a-f]{8,}\b|\b[A-Za-z]{1,4}-?\d+\b|\d+(?:\.\d+)?",
    re.IGNORECASE,
)


def without_values(text: str) -> str:
    """Return a text with ``…`` for each value: ids, numbers, texts in quotes."""
    return _VALUES.sub("…", text)


def said_by(template: str, message: str) -> str:
    """Return the constant text of a log record: its template where that has places, else its message without values."""
    text = template if template and template != message else without_values(message[: 2 * LONGEST_SAID])
    return " ".join(text.split())[:LONGEST_SAID]
