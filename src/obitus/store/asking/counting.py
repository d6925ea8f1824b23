"""Summaries with SQL: counted day by day, newest first, one stretch of time after the other, so that first figures come soon."""

from __future__ import annotations

import math
import sqlite3
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any, Final, NamedTuple

from obitus.core.asking.records import Kind
from obitus.core.asking.summaries import PER_BUCKET, Summary, percentile, width_ms
from obitus.core.asking.tree import Node
from obitus.store.asking.compiling import Names
from obitus.store.asking.expressions import Expressions, Value
from obitus.store.asking.finding import LIMIT_S, TABLES, names_in
from obitus.store.asking.going import Going, condition_of, newest_first
from obitus.store.database import Reader, typed
from obitus.store.days.reading import DayReaders

MOST_CELLS: Final = 200_000
"""Most different values times slices; further ones are counted together."""
Keys = tuple[Value, ...]

_BUCKET: Final = f"(CAST(ln(MIN(MAX(abs(v), 1e-9), 1e15) / 1e-9) * {PER_BUCKET!r} AS INTEGER) + 1)"
_OF_STAT: Final = {
    "sum": "0 AS bucket, {n} AS n, COALESCE(SUM({v}), 0.0) AS figure",
    "smallest": "0 AS bucket, {n} AS n, COALESCE(MIN(v), 0.0) AS figure",
    "largest": "0 AS bucket, {n} AS n, COALESCE(MAX(v), 0.0) AS figure",
}
_BY_BUCKET: Final = (
    f"CASE WHEN v = 0 THEN 0 WHEN v > 0 THEN {_BUCKET} ELSE -{_BUCKET} END AS bucket, {{n}} AS n, 0.0 AS figure"
)
_COUNT: Final = "0 AS bucket, {n} AS n, 0.0 AS figure"


class _Row(NamedTuple):
    """Records with the same values, in one slice and one bucket of numbers."""

    one: Any
    two: Any
    slice: int
    bucket: int
    n: int
    figure: float


@dataclass(slots=True)
class Cell:
    """The statistics of some records: their count (for a number: of those that have it), and the value of the number."""

    n: int = 0
    figure: float = 0.0
    buckets: Counter[int] | None = None

    def add(self, stat: str | None, row: _Row) -> None:
        """Add one row of a statement."""
        if stat in ("median", "p95", "p99"):
            self.buckets = Counter() if self.buckets is None else self.buckets
            self.buckets[row.bucket] += row.n
        elif row.n and stat in ("smallest", "largest") and self.n:
            self.figure = (min if stat == "smallest" else max)(self.figure, row.figure)
        elif row.n:
            self.figure += row.figure
        self.n += row.n

    def value(self, stat: str | None) -> float | None:
        """Return the count, or the wanted number; None where no record has it."""
        if stat is None:
            return self.n
        if not self.n:
            return None
        if self.buckets is not None:
            return percentile(self.buckets, {"median": 0.5, "p95": 0.95, "p99": 0.99}[stat])
        return self.figure


@dataclass(slots=True)
class SummaryProgress:
    """The progress of a summary: the counts so far, back to when, and whether that is all."""

    summary: Summary
    going: Going
    width_ms: int
    groups: dict[Keys, Cell] = field(default_factory=dict)
    groups_over_time: dict[tuple[Keys, int], Cell] = field(default_factory=dict)
    in_all: Cell = field(default_factory=Cell)
    over_time: dict[int, Cell] = field(default_factory=dict)
    beyond: int = 0
    """Records with further values, counted together."""

    def add(self, keys: Keys, row: _Row) -> None:
        """Add one row of a statement for records with these values."""
        stat, slice_at = self.summary.stat, row.slice
        self.in_all.add(stat, row)
        if self.summary.over_time:
            self.over_time.setdefault(slice_at, Cell()).add(stat, row)
        if not self.summary.by:
            return
        group = self.groups.get(keys)
        if group is None:
            if len(self.groups) + len(self.groups_over_time) >= MOST_CELLS:
                self.beyond += row.n
                return
            group = self.groups[keys] = Cell()
        group.add(stat, row)
        if self.summary.over_time:
            self.groups_over_time.setdefault((keys, slice_at), Cell()).add(stat, row)

    def largest(self, most: int) -> list[tuple[Keys, Cell]]:
        """Return the groups with the greatest numbers, the greatest first."""
        stat = self.summary.stat

        def order(group: tuple[Keys, Cell]) -> tuple[float, int, str]:
            value = group[1].value(stat)
            return (-math.inf if value is None else value, group[1].n, str(group[0]))

        return sorted(self.groups.items(), key=order, reverse=True)[:most]


def count(
    reader: Reader,
    days: DayReaders,
    kind: Kind,
    node: Node | None,
    summary: Summary,
    from_ms: int,
    to_ms: int,
    *,
    limit_s: float = LIMIT_S,
) -> Iterator[SummaryProgress]:
    """Yield the progress of a summary: always the same object, which grows. Newest records are counted first."""
    counted = SummaryProgress(summary, Going(from_ms, to_ms), width_ms(from_ms, to_ms))
    names = names_in(reader)
    for _ in newest_first(days, counted.going, limit_s, lambda c, _: _Counting(c, kind, node, names, counted)):
        yield counted


class _Counting:
    """The counting of one day file."""

    def __init__(
        self, connection: sqlite3.Connection, kind: Kind, node: Node | None, names: Names, into: SummaryProgress
    ) -> None:
        self._connection, self._into = connection, into
        summary = into.summary
        fields = Expressions(connection, kind, names)
        first_key, second_key = (
            fields.key(summary.by[at]) if at < len(summary.by) else ("NULL", _nothing) for at in range(2)
        )
        self._resolvers = (first_key[1], second_key[1])
        number = fields.number(summary.of) if summary.stat else "NULL"
        figures = _COUNT if summary.stat is None else _OF_STAT.get(summary.stat, _BY_BUCKET)
        where, self._params, self.is_narrow = condition_of(connection, kind, node, names)
        # A failure may represent others that were only counted.
        figures, times = (
            (figures.format(n="SUM(times)", v="v * times"), ", stands_for AS times")
            if kind == "failure"
            else (figures.format(n="COUNT(v)" if summary.stat else "COUNT(*)", v="v"), "")
        )
        slices = f"time_ms / {into.width_ms}" if summary.over_time else "0"
        has_number = " WHERE v IS NOT NULL" if summary.stat else ""
        self._sql = (
            f"SELECT one, two, slice, {figures} FROM "  # noqa: S608 - expressions from here and from kinds
            f"(SELECT {first_key[0]} AS one, {second_key[0]} AS two, {slices} AS slice, {number} AS v{times} FROM {TABLES[kind]} WHERE {where})"
            f"{has_number}{self._grouped(summary)}"
        )

    @staticmethod
    def _grouped(summary: Summary) -> str:
        """Return the columns to group by: only those that can differ, since each further one costs sorting."""
        by_number = summary.stat is not None and summary.stat not in _OF_STAT
        columns = [*("one", "two")[: len(summary.by)], *(["slice"] if summary.over_time else []), *(["bucket"] if by_number else [])]  # fmt: skip
        # Without any, there would be a row even without records.
        return f" GROUP BY {', '.join(columns or ['one'])}"

    def add(self, from_ms: int, to_ms: int) -> None:
        """Count records between two times."""
        rows = typed(self._connection.execute(self._sql, (from_ms, to_ms, *self._params)), _Row)
        by = len(self._into.summary.by)
        for row in rows:
            keys = tuple(resolve(value) for resolve, value in zip(self._resolvers, (row.one, row.two), strict=True))
            self._into.add(keys[:by], row)


def _nothing(_: object) -> None:
    return None
