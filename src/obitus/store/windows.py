"""Windows of time, and counting the failures inside. Whole days and whole hours come from rollups, the ends from the
failures themselves. So a page takes as long with a thousand failures an hour as with one.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, Final, Literal

from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.store.database import Reader
from obitus.store.rows.issues import IssueInUnit
from obitus.store.rows.records import Bounds

_BOUNDS = "SELECT (SELECT MIN(time_ms) FROM failures) AS earliest_ms, (SELECT MAX(time_ms) FROM failures) AS latest_ms"
# By the length of their unit. A hint, since the planner does not prefer the index that has all columns.
_PARTS: Final = {
    DAY_MS: "SELECT issue_id, failures AS n FROM issue_days WHERE day >= :{start} AND day < :{end}",
    HOUR_MS: "SELECT issue_id, failures AS n FROM issue_counts WHERE hour >= :{start} AND hour < :{end}",
    1: "SELECT issue_id, stands_for AS n FROM failures WHERE time_ms >= :{start} AND time_ms < :{end}",
}
_NOTHING: Final = "SELECT 0 AS issue_id, 0 AS n WHERE 0"
_IN_ENVIRONMENT: Final = " AND {table}environment = :environment"
_IN_RELEASE: Final = " AND {table}release_id IN (SELECT id FROM releases WHERE version = :release)"
_OF_ISSUE: Final = " AND issue_id = :issue_id"
MOST_SLICES: Final = 31
"""Slices of a chart of a window: the days of a month, or the hours of a day and the one that has begun."""
_DAYS_FROM_MS: Final = 14 * DAY_MS
_OVER_TIME: Final = {
    HOUR_MS: "SELECT issue_id, hour AS unit, SUM(failures) AS failures FROM issue_counts WHERE issue_id IN (SELECT value FROM json_each(:ids)) AND hour >= :first AND hour <= :last",
    DAY_MS: "SELECT issue_id, day AS unit, SUM(failures) AS failures FROM issue_days WHERE issue_id IN (SELECT value FROM json_each(:ids)) AND day >= :first AND day <= :last",
}
_BY_UNIT: Final = " GROUP BY issue_id, unit"
Table = Literal["", "f."]


@dataclass(frozen=True, slots=True)
class Window:
    """A span of time, with further filters. ``to_ms`` is excluded."""

    from_ms: int
    to_ms: int
    app: str | None = None
    environment: str | None = None
    release: str | None = None

    def params(self) -> dict[str, Any]:
        """Return the named parameters of its filters."""
        return {
            "from_ms": self.from_ms,
            "to_ms": self.to_ms,
            "app": self.app,
            "environment": self.environment,
            "release": self.release,
        }

    def narrowed(self, table: Table = "") -> str:
        """Return the conditions on environment and release, where it has any; ``table`` is the prefix of their columns."""
        conditions = _IN_ENVIRONMENT if self.environment is not None else ""
        conditions += _IN_RELEASE if self.release is not None else ""
        return conditions.format(table=table)


@dataclass(frozen=True, slots=True)
class FailureCounting:
    """How failures of a window are counted: a statement that gives (issue_id, n), several rows for an issue, and its parameters."""

    sql: str
    params: dict[str, Any]


def counted(reader: Reader, window: Window, *, issue_id: int | None = None) -> FailureCounting:
    """Return how the failures of a window are counted, for all issues or for one."""
    bounds = reader.only(Bounds, _BOUNDS)
    return counted_within(window, bounds.earliest_ms or 0, bounds.latest_ms or 0, issue_id=issue_id)


def counted_within(window: Window, earliest_ms: int, latest_ms: int, *, issue_id: int | None = None) -> FailureCounting:
    """The same, with the times of the earliest and the latest failure of all."""
    params = window.params()
    conditions = window.narrowed()
    if issue_id is not None:
        conditions += _OF_ISSUE
        params["issue_id"] = issue_id
    # There are no failures beyond the earliest and the latest: their whole days can be counted.
    start_ms = earliest_ms // DAY_MS * DAY_MS if window.from_ms <= earliest_ms else window.from_ms
    end_ms = (latest_ms // DAY_MS + 1) * DAY_MS if window.to_ms > latest_ms else window.to_ms
    parts = []
    for number, (unit_ms, first, last) in enumerate(_split(start_ms, end_ms, (DAY_MS, HOUR_MS, 1))):
        names = {"start": f"start{number}", "end": f"end{number}"}
        parts.append(_PARTS[unit_ms].format(**names) + conditions)
        params |= {names["start"]: first, names["end"]: last}
    return FailureCounting("\n    UNION ALL ".join(parts) or _NOTHING, params)


def _split(start_ms: int, end_ms: int, units: tuple[int, ...]) -> Iterator[tuple[int, int, int]]:
    """Yield (unit, first, end): the span in the largest whole units, its ends in smaller ones."""
    if start_ms >= end_ms:
        return
    unit_ms, smaller = units[0], units[1:]
    first, end = -(-start_ms // unit_ms), end_ms // unit_ms
    if first >= end:
        yield from _split(start_ms, end_ms, smaller)
        return
    yield unit_ms, first, end
    yield from _split(start_ms, first * unit_ms, smaller)
    yield from _split(end * unit_ms, end_ms, smaller)


@dataclass(frozen=True, slots=True)
class Slices:
    """A window in slices of some hours, a long one in slices of some days; all equal, except the last, which is the rest."""

    unit_ms: int
    first: int
    last: int
    width: int

    @property
    def count(self) -> int:
        """How many there are."""
        return self.place_of(self.last) + 1

    def place_of(self, unit: int) -> int:
        """Return the slice of an hour or a day of the window, from 0."""
        return (unit - self.first) // self.width


def slices_of(window: Window) -> Slices:
    """Return the slices of a window, MOST_SLICES at most."""
    unit_ms = DAY_MS if window.to_ms - window.from_ms > _DAYS_FROM_MS else HOUR_MS
    first, last = window.from_ms // unit_ms, max(window.from_ms, window.to_ms - 1) // unit_ms
    return Slices(unit_ms, first, last, -(-(last - first + 1) // MOST_SLICES))


def failures_over_time(reader: Reader, ids: str, window: Window) -> dict[int, list[int]]:
    """Return failures for each slice of the window of those issues (their numbers, as JSON) that have any."""
    slices = slices_of(window)
    sql = _OVER_TIME[slices.unit_ms] + window.narrowed() + _BY_UNIT
    over_time: dict[int, list[int]] = {}
    for row in reader.all(IssueInUnit, sql, window.params() | {"ids": ids, "first": slices.first, "last": slices.last}):
        over_time.setdefault(row.issue_id, [0] * slices.count)[slices.place_of(row.unit)] += row.failures
    return over_time
