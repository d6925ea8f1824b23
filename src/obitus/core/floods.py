"""Floods: an issue that fails very often keeps some failures whole, and each of these stands for those like it that are only counted.

An issue may bring so many whole ones at once, and so many more with every second. What comes beyond is counted with one that was
kept and is like it: the same fingerprint, release, environment and entry point, within the same few seconds.
"""

from __future__ import annotations

from collections import OrderedDict
from typing import Final, NamedTuple

from obitus.core.clock import MINUTE_MS

AT_ONCE: Final = 1000
"""Whole failures that an issue may bring however fast they come."""
A_SECOND: Final = 10.0
"""And so many more with each second."""
STANDS_MS: Final = 10_000
"""How far the times of a failure and of the one that stands for it may lie apart."""
SLOT_MS: Final = 5 * MINUTE_MS
"""What failures are counted by at the finest: one that stands for others lies in the same slot as they do."""
MOST_ISSUES: Final = 5_000
"""Issues whose failures are watched; the one that was quiet for longest is forgotten, and begins as a new one does."""
MOST_STANDING: Final = 20_000


class Alike(NamedTuple):
    """What failures have in common where one may stand for the others: all that they are counted by."""

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
    """The day that they are kept under."""


class Floods:
    """Says which failures are kept whole. Times are in milliseconds since 1970."""

    def __init__(self, at_once: int = AT_ONCE, a_second: float = A_SECOND) -> None:
        self._at_once, self._a_second = at_once, a_second
        self._left: OrderedDict[int, tuple[float, int]] = OrderedDict()
        """Whole ones that an issue may bring, and as of when."""
        self._standing: OrderedDict[tuple[Alike, int], tuple[int, int]] = OrderedDict()
        """By what they have in common and their slot of time: the number and the time of the one that stands for them."""

    def stands_for(self, alike: Alike, time_ms: int, received_ms: int, *, was_counted: bool = False) -> int | None:
        """Return the number of the failure that stands for this one; None where it is to be kept whole, and is one of those that its issue may bring.

        What its sender only counted is kept whole only where nothing stands for it.
        """
        if not was_counted and self._take(alike.issue_id, received_ms):
            return None
        standing = self._standing.get((alike, time_ms // SLOT_MS))
        if standing is None or abs(time_ms - standing[1]) > STANDS_MS:
            return None
        return standing[0]

    def whole_left(self, issue_id: int, now_ms: int) -> int:
        """Return how many whole ones an issue may bring now."""
        return int(self._left_of(issue_id, now_ms))

    def kept(self, alike: Alike, seq: int, time_ms: int) -> None:
        """Let a failure that is kept whole stand for those like it from now on."""
        key = (alike, time_ms // SLOT_MS)
        self._standing[key] = (seq, time_ms)
        self._standing.move_to_end(key)
        if len(self._standing) > MOST_STANDING:
            self._standing.popitem(last=False)

    def forget(self) -> None:
        """Forget which failures stand for others: what was kept was taken back."""
        self._standing.clear()

    def _take(self, issue_id: int, now_ms: int) -> bool:
        """Take one of the whole ones that an issue may bring now; return whether there was one."""
        left = self._left_of(issue_id, now_ms)
        may = left >= 1
        self._left[issue_id] = (left - may, now_ms)
        self._left.move_to_end(issue_id)
        if len(self._left) > MOST_ISSUES:
            self._left.popitem(last=False)
        return may

    def _left_of(self, issue_id: int, now_ms: int) -> float:
        left, at_ms = self._left.get(issue_id, (float(self._at_once), now_ms))
        return min(float(self._at_once), left + max(0, now_ms - at_ms) / 1000 * self._a_second)
