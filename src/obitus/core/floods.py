"""Floods: an issue that fails very often keeps some failures whole, and each of these represents those like it that
are only counted. An issue may keep a burst of failures whole, and a number every second. Further ones are counted
with a kept one like them: the same fingerprint, release, environment and entry point, within the same few seconds.
"""

from __future__ import annotations

from collections import OrderedDict
from typing import Final, NamedTuple

from obitus.core.clock import MINUTE_MS

AT_ONCE: Final = 1000
"""The burst of whole failures of one issue."""
A_SECOND: Final = 10.0
"""Further ones each second."""
APART_MS: Final = 10_000
"""The longest time between a failure and the one that represents it."""
SLOT_MS: Final = 5 * MINUTE_MS
"""The finest slots by which failures are counted: a failure and those that it represents are in the same slot."""
MOST_ISSUES: Final = 5_000
"""Number of issues that are watched; the one that was quiet for longest is forgotten, and starts again like a new one."""
MOST_REPRESENTING: Final = 20_000
"""Number of failures that represent others; the one that became so first is forgotten."""


class Alike(NamedTuple):
    """What a failure and those that it represents have in common: everything by which they are counted."""

    issue_id: int
    fingerprint: str
    release_id: int
    environment: str
    entry_point: str
    type: str
    severity: str
    handled: bool
    from_older_release: bool
    day: int
    """The day under which they are kept."""


class Floods:
    """Decides which failures are kept whole. Times are in milliseconds since 1970."""

    def __init__(self, at_once: int = AT_ONCE, a_second: float = A_SECOND) -> None:
        self._at_once, self._a_second = at_once, a_second
        self._left: OrderedDict[int, tuple[float, int]] = OrderedDict()
        """The number that an issue may keep whole, and at which time."""
        self._representing: OrderedDict[tuple[Alike, int], tuple[int, int]] = OrderedDict()
        """By common properties and slot: number and time of the failure that represents them."""

    def represented_by(self, alike: Alike, time_ms: int) -> int | None:
        """Return the number of the kept failure that represents this one; None where there is none."""
        representing = self._representing.get((alike, time_ms // SLOT_MS))
        if representing is None or abs(time_ms - representing[1]) > APART_MS:
            return None
        return representing[0]

    def take(self, issue_id: int, now_ms: int) -> bool:
        """Take one of those that an issue may keep whole now; return whether one was left."""
        room_left = self._left_of(issue_id, now_ms)
        may = room_left >= 1
        self._left[issue_id] = (room_left - may, now_ms)
        self._left.move_to_end(issue_id)
        if len(self._left) > MOST_ISSUES:
            self._left.popitem(last=False)
        return may

    def whole_left(self, issue_id: int, now_ms: int) -> int:
        """Return how many an issue may keep whole now."""
        return int(self._left_of(issue_id, now_ms))

    def kept(self, alike: Alike, seq: int, time_ms: int) -> None:
        """Make a failure that is kept whole represent those like it from now on."""
        key = (alike, time_ms // SLOT_MS)
        self._representing[key] = (seq, time_ms)
        self._representing.move_to_end(key)
        if len(self._representing) > MOST_REPRESENTING:
            self._representing.popitem(last=False)

    def forget(self) -> None:
        """Forget which failures represent others: their commit was rolled back."""
        self._representing.clear()

    def _left_of(self, issue_id: int, now_ms: int) -> float:
        left, at_ms = self._left.get(issue_id, (float(self._at_once), now_ms))
        return min(float(self._at_once), left + max(0, now_ms - at_ms) / 1000 * self._a_second)
