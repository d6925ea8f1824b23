"""The trail of one run: its breadcrumbs in order, bounded by count and bytes; the oldest go first and are counted."""

from __future__ import annotations

from collections import deque
from typing import Any, Final

from obitus.core.clock import to_text
from obitus.core.severity import SEVERITIES

MOST_BREADCRUMBS: Final = 100
MOST_MESSAGE: Final = 2000
MOST_DATA: Final = 40
MOST_TRAIL_CHARS: Final = 96_000
_SLACK: Final = 28

Crumb = tuple[str, int, str, str, dict[str, Any] | None]
"""Kind, Unix time in nanoseconds, severity, message, data."""


class Trail(deque[Crumb]):
    """Breadcrumbs are appended as they are; what is too many is cut now and then, not at each one."""

    __slots__ = ("_gone",)

    def __init__(self) -> None:
        super().__init__()
        self._gone = 0

    def trim(self) -> None:
        """Drop the oldest ones beyond the bound."""
        while len(self) > MOST_BREADCRUMBS:
            try:
                self.popleft()
            except IndexError:
                return
            self._gone += 1

    def as_report(self) -> tuple[list[dict[str, Any]], int]:
        """Return the trail in the report's form, oldest first, and how many older ones are missing."""
        self.trim()
        shown: list[dict[str, Any]] = []
        room = MOST_TRAIL_CHARS
        crumbs = list(self)
        for kind, time_ns, severity, message, data in reversed(crumbs):
            text = message if type(message) is str else str(message)
            if len(text) > MOST_MESSAGE:
                text = text[: MOST_MESSAGE - 1] + "…"
            crumb = {
                "kind": kind,
                "time": to_text(time_ns // 1_000_000),
                "severity": severity if severity in SEVERITIES else "INFO",
                "message": text,
            }
            room -= len(text) + 80
            if data:
                # A copy: redaction changes what it is given, and a later report shows the same breadcrumb.
                crumb["data"] = dict(data)  # type: ignore[assignment]
                room -= sum(len(value) if type(value) is str else 8 for value in data.values())
            if room < 0 and shown:
                break
            shown.append(crumb)
        shown.reverse()
        return shown, self._gone + len(crumbs) - len(shown)


TRIM_AT: Final = MOST_BREADCRUMBS + _SLACK
