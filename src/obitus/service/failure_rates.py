"""Failures of issues and entry points in some releases, and their exposure in runs."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from obitus.core.comparing import FailureRate
from obitus.store.rows.rates import IssueAtPoint, IssueInHours, PointInRelease


class Exposed:
    """Failures and runs of some releases. ``places`` has the entry points of each issue."""

    def __init__(
        self,
        failures: Iterable[IssueAtPoint | IssueInHours],
        runs: Iterable[PointInRelease],
        places: Iterable[IssueAtPoint],
    ) -> None:
        self.failures: Counter[tuple[int, int]] = Counter()
        """By issue and release."""
        for failed in failures:
            self.failures[failed.issue_id, failed.release_id] += failed.failures
        self.runs = {(row.entry_point, row.release_id): row for row in runs}
        """By entry point and release."""
        self.totals: Counter[int] = Counter()
        for (_, release), row in self.runs.items():
            self.totals[release] += row.runs
        self._counted = {point for point, _ in self.runs}
        self._points: dict[int, set[str]] = {}
        for place in places:
            self._points.setdefault(place.issue_id, set()).add(place.entry_point)

    def issue(self, issue: int, release: int) -> FailureRate:
        """Return the failures of an issue, and the runs of its entry points; all runs where none of these is counted anywhere."""
        points = self._points.get(issue, set())
        if self._counted.isdisjoint(points):
            runs = self.totals[release]
        else:
            runs = sum(self.runs[point, release].runs for point in points if (point, release) in self.runs)
        return FailureRate(self.failures[issue, release], runs)

    def point(self, point: str, release: int) -> FailureRate:
        """Return how many runs of an entry point failed."""
        row = self.runs.get((point, release))
        return FailureRate(row.failed, row.runs) if row is not None else FailureRate(0, 0)
