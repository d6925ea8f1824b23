"""What a terminal may be shown."""

from __future__ import annotations

import re

_CONTROL = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")


def safe(value: object) -> str:
    """Return text from a report without control codes and direction marks."""
    return _CONTROL.sub("\ufffd", str(value))
