"""Correcting clocks of hosts that disagree, by cause and effect. A called run cannot begin before the call, nor end
after the caller had its answer. So each call between two hosts bounds the difference of their clocks: from both ends where the caller waited (F. Cristian, "Probabilistic clock synchronization", Distributed Computing 3, 1989), from one
where it did not. The bounds of all calls between two hosts are combined; hosts further away are corrected along the
chain of calls. Clocks are moved no further than cause and effect require: hosts that agree are left alone.
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
"""Times have milliseconds: differences up to this are no error of a clock."""


@dataclass(slots=True)
class _Bounds:
    """The range by which the callee's clock may be moved against the caller's, in milliseconds."""

    low: float = -math.inf
    high: float = math.inf
    seen: list[tuple[float, float]] = field(default_factory=list)
    """The range of each call."""

    @property
    def calls(self) -> int:
        """The number of calls."""
        return len(self.seen)

    def meet(self, low: float, high: float) -> None:
        """Add a call."""
        self.low, self.high = max(self.low, low), min(self.high, high)
        self.seen.append((low, high))

    def chosen(self) -> tuple[float, bool]:
        """Return the correction of the callee's clock, and whether it fits every call."""
        if self.low <= self.high:
            if self.low <= 0 <= self.high:
                return 0.0, True
            if math.isfinite(self.low) and math.isfinite(self.high):
                return (self.low + self.high) / 2, True
            return (self.low + SLACK_MS if self.low > 0 else self.high - SLACK_MS), True
        # No number fits them all: a clock drifts, or was set in between. The one that fits most calls is used.
        ends = sorted({end for pair in self.seen for end in pair if math.isfinite(end)})
        tried = ends[:: max(1, len(ends) // MOST_TRIED)]
        return max(tried, key=lambda by: (sum(low <= by <= high for low, high in self.seen), -abs(by))), False


def corrections(entries: Iterable[Entry]) -> list[Correction]:
    """Return the correction of each host's clock, without the reference; hosts that agree are left out. The
    reference is the host that caused most entries elsewhere, the one with the first entry among equals.
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
        # A callee that took longer than its caller waited continued without it: the caller gave up.
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
    """Return when an entry began, by the corrected clock."""
    return entry.time_ms + by_host.get(entry.host, 0.0)


def _reference(entries: list[Entry], bounds: Mapping[tuple[str, str], _Bounds]) -> str:
    causes: dict[str, int] = defaultdict(int)
    called = {callee for _, callee in bounds}
    for (caller, _), bound in bounds.items():
        causes[caller] += bound.calls + (10**9 if caller not in called else 0)
    first = {entry.host: entry.time_ms for entry in sorted(entries, key=lambda entry: (-entry.time_ms, entry.key))}
    return max(causes, key=lambda host: (causes[host], -first[host], host))


def _spread(bounds: Mapping[tuple[str, str], _Bounds], reference: str) -> dict[str, tuple[float, str, int, bool]]:
    """Go from the reference along calls to all hosts; return the correction of each, the host from which it follows,
    and how sure it is."""
    beside: dict[str, set[str]] = defaultdict(set)
    for caller, callee in bounds:
        beside[caller].add(callee)
        beside[callee].add(caller)
    moved: dict[str, tuple[float, str, int, bool]] = {}
    # Hosts without calls to the reference have a reference among themselves.
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
    """Return the range of correction of the other clock where this one is corrected by ``base_ms``, from calls in both directions."""
    between = _Bounds()
    opposite = bounds.get((here, other))
    for low, high in opposite.seen if opposite else ():
        between.meet(low + base_ms, high + base_ms)
    back = bounds.get((other, here))
    for low, high in back.seen if back else ():
        between.meet(base_ms - high, base_ms - low)
    return between


def _reason(host: str, by_ms: float, caller: str, calls: int, *, fits: bool) -> str:
    way = "behind" if by_ms > 0 else "ahead of"
    evidence = f"{calls:,} call{'s' if calls != 1 else ''} between them"
    if not fits:
        return (
            f"The clocks of {host} and {caller} cannot be brought together: no one correction puts every cause before its effect in {evidence}. "
            f"{abs(by_ms) / 1000:,.3f} s is what most of them ask for."
        )
    return (
        f"The clock of {host} is {abs(by_ms) / 1000:,.3f} s {way} that of {caller}: what was called would have begun before it was called, "
        f"or ended after its answer, in {evidence}."
    )
