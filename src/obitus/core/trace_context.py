"""W3C Trace Context, Level 1: the ``traceparent`` header. Standard library only: the client uses this too."""

from __future__ import annotations

import re

# Section 3.2: version, trace id, parent id, flags. Version ff and ids of zeros are not valid.
_TRACEPARENT = re.compile(r"(?!ff)[0-9a-f]{2}-(?!0{32})([0-9a-f]{32})-(?!0{16})([0-9a-f]{16})-[0-9a-f]{2}(?:-.*)?")
MOST_STATE = 512


def read_traceparent(text: str) -> tuple[str, str] | None:
    """Return the trace id and the parent's span id of a ``traceparent``; None when it is not valid."""
    match = _TRACEPARENT.fullmatch(text.strip()) if len(text) <= 300 else None
    return None if match is None or (text.startswith("00") and len(text.strip()) != 55) else (match[1], match[2])
