"""The trail of one run: its breadcrumbs in order, bounded by count and bytes; the oldest go first and are counted."""

from __future__ import annotations

from collections import deque
from itertools import islice
from typing import Any, Final

from obitus.client.exception_origin import is_the_apps
from obitus.core.bounds import ATTRIBUTES_OF_A_STEP, short
from obitus.core.clock import to_text
from obitus.core.severity import SEVERITIES

MOST_BREADCRUMBS: Final = 100
MOST_MESSAGE: Final = 2000
MOST_TRAIL_CHARS: Final = 96_000
_SLACK: Final = 28

Crumb = tuple[str, int, str, Any, dict[str, Any] | None]
"""Kind, Unix time in nanoseconds, severity, message, data.

Frequent breadcrumbs are not formatted on the app's path: the message is a tuple of a function and its arguments, and
the function returns message and data when they are needed. The arguments must not change.
"""


class Trail(deque[Crumb]):
    """Breadcrumbs are appended as they are; the surplus is cut now and then, not each time."""

    __slots__ = ("_gone",)

    def __init__(self) -> None:
        super().__init__()
        self._gone = 0

    def trim(self) -> None:
        """Drop the oldest ones beyond the bound."""
        over = len(self) - MOST_BREADCRUMBS
        pop = self.popleft
        try:
            for _ in range(over):
                pop()
        except IndexError as interrupted:
            if is_the_apps(interrupted):
                raise
            # A signal handler or another thread trimmed meanwhile.
            return
        if over > 0:
            self._gone += over

    def now(self) -> Snapshot:
        """Return the trail as it is now, to be converted to the report's form later, off the app's path."""
        self.trim()
        for _ in range(5):
            try:
                return Snapshot(tuple(self), self._gone)
            except RuntimeError as interrupted:
                if is_the_apps(interrupted):
                    raise
                # Another thread added a breadcrumb meanwhile.
                continue
        return Snapshot((), self._gone)


class Snapshot:
    """A trail at one moment. It never changes: breadcrumbs hold texts and numbers only."""

    __slots__ = ("_crumbs", "_gone")

    def __init__(self, crumbs: tuple[Crumb, ...], gone: int) -> None:
        self._crumbs, self._gone = crumbs, gone

    def as_report(self) -> tuple[list[dict[str, Any]], int]:
        """Return the trail in the report's form, oldest first, and how many older ones are missing."""
        shown: list[dict[str, Any]] = []
        room = MOST_TRAIL_CHARS
        for kind, time_ns, severity, message, data in reversed(self._crumbs):
            if type(message) is tuple:
                message, data = _written_out(message)
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
                # A copy: redaction changes its argument, and a later report has the same breadcrumb.
                attributes = {short(name): value for name, value in islice(data.items(), ATTRIBUTES_OF_A_STEP)}
                crumb["attributes"] = attributes  # type: ignore[assignment]
                room -= sum(len(value) if type(value) is str else 8 for value in attributes.values())
            if room < 0 and shown:
                break
            shown.append(crumb)
        shown.reverse()
        return shown, self._gone + len(self._crumbs) - len(shown)


def _written_out(message: tuple[Any, ...]) -> tuple[str, dict[str, Any]]:
    try:
        text, data = message[0](*message[1:])
    except Exception as error:
        return f"(a breadcrumb that could not be written: {type(error).__name__})", {}
    return text, data


def finish_trail(report: dict[str, Any]) -> None:
    """Put a report's trail into its form, where it is still a snapshot."""
    for holder in (report, report.get("hit")):
        trail = holder.get("trail") if holder is not None else None
        if holder is not None and type(trail) is Snapshot:
            holder["trail"], left_out = trail.as_report()
            if left_out:
                holder["trail_left_out"] = left_out


TRIM_AT: Final = MOST_BREADCRUMBS + _SLACK
