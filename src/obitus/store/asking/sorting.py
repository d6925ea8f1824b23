"""Records of a window in the order of one of their fields. All of them are read; those to be shown are kept."""

from __future__ import annotations

import json
import sqlite3
from contextlib import suppress
from functools import cmp_to_key
from typing import Final, NamedTuple

from obitus.core.asking.records import Kind
from obitus.core.asking.tree import Node
from obitus.core.days import day_and_place, seq_of
from obitus.store.asking.compiling import Names
from obitus.store.asking.expressions import Expressions
from obitus.store.asking.finding import LIMIT_S, TABLES, FoundRecords, names_in
from obitus.store.asking.going import Going, condition_of, newest_first
from obitus.store.asking.records import TYPES, Row
from obitus.store.database import Reader, typed
from obitus.store.days.reading import DayReaders
from obitus.store.errors import UNREADABLE
from obitus.store.rows.records import DayRow

MOST_SORTED: Final = 10_000
"""How many sorted records can be paged through; narrower questions reach further."""


_AT: Final = {
    kind: f"SELECT {', '.join(TYPES[kind]._fields)} FROM {table} WHERE place IN (SELECT value FROM json_each(?))"  # noqa: S608 - names of tables and columns
    for kind, table in TABLES.items()
}


class _Keyed(NamedTuple):
    """The sort key of a record: its number or text, then the newest first."""

    number: float | None
    text: str | bytes | None
    time_ms: int
    seq: int


class _Place(NamedTuple):
    """One row of the statement."""

    number: float | None
    text: str | bytes | None
    time_ms: int
    place: int


def find_sorted(
    reader: Reader,
    days: DayReaders,
    kind: Kind,
    node: Node | None,
    window: tuple[int, int],
    *,
    by: str,
    greatest_first: bool,
    most: int,
    behind: int = 0,
    limit_s: float = LIMIT_S,
) -> FoundRecords:
    """Return records of a window in the order of a field, ``most`` of them after the first ``behind``. Those without it come last.

    Numbers come before texts; texts are compared by their characters, severities by their order; of equals the newest comes first.
    """
    most_kept = min(MOST_SORTED, behind + most + 1)
    names = names_in(reader)
    going = Going(*window)
    keyed: list[_Keyed] = []

    def compared(a: _Keyed, b: _Keyed) -> int:
        return _compared(a, b, greatest_first)

    for _ in newest_first(
        days, going, limit_s, lambda c, day: _OfDay(c, day, kind, node, names, by, greatest_first, most_kept, keyed)
    ):
        if len(keyed) > 2 * most_kept:
            keyed.sort(key=cmp_to_key(compared))
            del keyed[most_kept:]
    keyed.sort(key=cmp_to_key(compared))
    page = keyed[behind : behind + most]
    more = len(keyed) > behind + most and behind + most < MOST_SORTED
    return FoundRecords(_rows(days, kind, [one.seq for one in page]), more, going.cut, names)


def _compared(a: _Keyed, b: _Keyed, greatest_first: bool) -> int:
    """Compare two sort keys as the statements below do."""
    for of_a, of_b in ((a.number, b.number), (a.text, b.text)):
        if of_a is None or of_b is None:
            if (of_a is None) != (of_b is None):
                return 1 if of_a is None else -1
        elif of_a != of_b:
            # Identifiers are bytes, all else is text: one field has only one of them.
            less = bool(of_a < of_b)  # type: ignore[operator]
            return -1 if less != greatest_first else 1
    return -1 if (a.time_ms, a.seq) > (b.time_ms, b.seq) else 1


class _OfDay:
    """Reads the sort keys of one day file."""

    def __init__(
        self,
        connection: sqlite3.Connection,
        day: int,
        kind: Kind,
        node: Node | None,
        names: Names,
        by: str,
        greatest_first: bool,
        most: int,
        into: list[_Keyed],
    ) -> None:
        self._connection, self._day, self._into = connection, day, into
        number, text = Expressions(connection, kind, names).order(by)
        where, params, self.is_narrow = condition_of(connection, kind, node, names)
        self._params = (*params, most)
        direction = "DESC" if greatest_first else "ASC"
        self._sql = (
            f"SELECT {number} AS number, {text} AS text, time_ms, place FROM {TABLES[kind]} WHERE {where} "  # noqa: S608 - expressions from here and from kinds
            f"ORDER BY number IS NULL, number {direction}, text IS NULL, text {direction}, time_ms DESC, place DESC LIMIT ?"
        )

    def add(self, from_ms: int, to_ms: int) -> None:
        """Read records between two times."""
        for row in typed(self._connection.execute(self._sql, (from_ms, to_ms, *self._params)), _Place):
            self._into.append(_Keyed(row.number, row.text, row.time_ms, seq_of(self._day, row.place)))


def _rows(days: DayReaders, kind: Kind, seqs: list[int]) -> list[Row]:
    """Return the rows with these numbers, in this order; none of a day that was removed meanwhile."""
    by_day: dict[int, list[int]] = {}
    for seq in seqs:
        day, place = day_and_place(seq)
        by_day.setdefault(day, []).append(place)
    rows_by_seq: dict[int, Row] = {}
    for day, places in by_day.items():
        with suppress(*UNREADABLE), days.open(day) as connection:
            rows: list[DayRow] = typed(connection.execute(_AT[kind], (json.dumps(places),)), TYPES[kind])
            rows_by_seq |= {seq_of(day, row.place): Row(day, row) for row in rows}
    return [rows_by_seq[seq] for seq in seqs if seq in rows_by_seq]
