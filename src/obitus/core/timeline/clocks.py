"""Clocks of hosts that disagree, brought together by cause and effect.

What was called cannot begin before its caller called, nor end after the caller had its answer. Each call between two hosts so bounds how far their
clocks are apart: from both ends where the caller waited (F. Cristian, "Probabilistic clock synchronization", Distributed Computing 3, 1989), from one
where it did not. The bounds of all calls between two hosts are met together; a host that nobody called directly follows those that it shares calls with.
Clocks are moved no further than cause and effect ask for: who agrees is left alone.
"""

from __future__ import annotations

import math
from collections import defaultdict, deque
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Final

from obitus.core.timeline.entries import Correction, Entry

MOST_TRIED: Final = 200
SLACK_MS: Final = 1.0
"""Times are kept to the millisecond: so far apart they may be without anybody's clock being off."""


@dataclass(slots=True)
class _Bounds:
    """By how much the callee's clock may be moved against the caller's, in milliseconds."""

    low: float = -math.inf
    high: float = math.inf
    seen: list[tuple[float, float]] = field(default_factory=list)
    """What each call allows."""

    @property
    def calls(self) -> int:
        """How many calls it was seen in."""
        return len(self.seen)

    def meet(self, low: float, high: float) -> None:
        """Take one more call."""
        self.low, self.high = max(self.low, low), min(self.high, high)
        self.seen.append((low, high))

    def chosen(self) -> tuple[float, bool]:
        """Return what the callee's clock is moved by, and whether it is right for every call."""
        if self.low <= self.high:
            if self.low <= 0 <= self.high:
                return 0.0, True
            if math.isfinite(self.low) and math.isfinite(self.high):
                return (self.low + self.high) / 2, True
            return (self.low + SLACK_MS if self.low > 0 else self.high - SLACK_MS), True
        # No one number fits them all: a clock that drifts, or was set in between. The one that fits most calls is taken.
        ends = sorted({end for pair in self.seen for end in pair if math.isfinite(end)})
        tried = ends[:: max(1, len(ends) // MOST_TRIED)]
        return max(tried, key=lambda by: (sum(low <= by <= high for low, high in self.seen), -abs(by))), False


def corrections(entries: Iterable[Entry]) -> list[Correction]:
    """Return by how much the clock of each host is off, the reference left out; hosts that agree are not named.

    The reference is the host that caused most of what happened elsewhere, by its first entry where several did.
    """
    all_of = list(entries)
    by_key = {entry.key: entry for entry in all_of}
    bounds: dict[tuple[str, str], _Bounds] = defaultdict(_Bounds)
    for entry in all_of:
        parent = by_key.get(entry.parent)
        if parent is None or parent.host == entry.host or not parent.host or not entry.host:
            continue
        low = parent.time_ms - entry.time_ms - SLACK_MS
        known = parent.duration_ms is not None and entry.waits and parent.duration_ms >= 0
        high = parent.end_ms - entry.end_ms + SLACK_MS if known else math.inf
        # A callee that took longer than its caller waited went on without it: the caller gave up.
        if high < low:
            high = math.inf
        bounds[parent.host, entry.host].meet(low, high)
    if not bounds:
        return []
    moved = _spread(bounds, _reference(all_of, bounds))
    return [
        Correction(host, round(by_ms, 3), _reason(host, by_ms, caller, calls, fits=fits), fits)
        for host, (by_ms, caller, calls, fits) in sorted(moved.items())
        if abs(by_ms) > SLACK_MS or not fits
    ]


def corrected(entry: Entry, by_host: Mapping[str, float]) -> float:
    """Return when an entry began, by the clock that all are brought to."""
    return entry.time_ms + by_host.get(entry.host, 0.0)


def _reference(entries: list[Entry], bounds: Mapping[tuple[str, str], _Bounds]) -> str:
    causes: dict[str, int] = defaultdict(int)
    called = {callee for _, callee in bounds}
    for (caller, _), one in bounds.items():
        causes[caller] += one.calls + (10**9 if caller not in called else 0)
    first = {entry.host: entry.time_ms for entry in sorted(entries, key=lambda entry: (-entry.time_ms, entry.key))}
    return max(causes, key=lambda host: (causes[host], -first[host], host))


def _spread(bounds: Mapping[tuple[str, str], _Bounds], reference: str) -> dict[str, tuple[float, str, int, bool]]:
    """Go from the reference along calls to all hosts; return what each is moved by, whom that follows from, and how sure it is."""
    beside: dict[str, set[str]] = defaultdict(set)
    for caller, callee in bounds:
        beside[caller].add(callee)
        beside[callee].add(caller)
    moved: dict[str, tuple[float, str, int, bool]] = {}
    # Hosts that no call connects with the reference have one among themselves.
    for start in (reference, *sorted(beside)):
        if start in moved:
            continue
        moved[start] = (0.0, "", 0, True)
        waiting = deque([start])
        while waiting:
            here = waiting.popleft()
            for other in sorted(beside[here] - moved.keys()):
                both = _between(bounds, here, other, moved[here][0])
                by_ms, fits = both.chosen()
                moved[other] = (by_ms, here, both.calls, fits)
                waiting.append(other)
    return {host: one for host, one in moved.items() if one[1]}


def _between(bounds: Mapping[tuple[str, str], _Bounds], here: str, other: str, base_ms: float) -> _Bounds:
    """Return what the other clock may be moved by where the one here is moved by ``base_ms``, from calls either way."""
    found = _Bounds()
    there = bounds.get((here, other))
    for low, high in there.seen if there else ():
        found.meet(low + base_ms, high + base_ms)
    back = bounds.get((other, here))
    for low, high in back.seen if back else ():
        found.meet(base_ms - high, base_ms - low)
    return found


def _reason(host: str, by_ms: float, caller: str, calls: int, *, fits: bool) -> str:
    way = "behind" if by_ms > 0 else "ahead of"
    seen = f"{calls:,} call{'s' if calls != 1 else ''} between them"
    if not fits:
        return (
            f"The clocks of {host} and {caller} cannot be brought together: no one correction puts every cause before its effect in {seen}. "
            f"{abs(by_ms) / 1000:,.3f} s is what most of them ask for."
        )
    return (
        f"The clock of {host} is {abs(by_ms) / 1000:,.3f} s {way} that of {caller}: what was called would have begun before it was called, "
        f"or ended after its answer, in {seen}."
    )
