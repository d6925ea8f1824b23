"""Rows of day files as fields of questions: the same as ``core.asking.records`` makes of the whole report."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from itertools import islice
from typing import Any, Final, NamedTuple
from uuid import UUID

from obitus.core.asking.records import FIELDS, Kind
from obitus.core.days import seq_of
from obitus.core.severity import SEVERITIES
from obitus.store.asking.compiling import Names
from obitus.store.days.logs import message_of
from obitus.store.days.pairs import numbers_in
from obitus.store.days.reading import DayReaders
from obitus.store.days.texts import NOTHING
from obitus.store.errors import UNREADABLE
from obitus.store.rows.records import DayRow, FailureInDay, LogRow, RunRow
from obitus.store.sight import ReadingConnection

TYPES: Final[dict[Kind, type[DayRow]]] = {"failure": FailureInDay, "log": LogRow, "run": RunRow}
MOST_TEXTS: Final = 20_000

AT_ONCE: Final = 500
"""Rows whose texts are read together."""
FEW_TEXTS: Final = 4

_TEXT: Final = "SELECT text FROM texts WHERE id = ?"
_SOME_TEXTS: Final = "SELECT id, text FROM texts WHERE id IN (SELECT value FROM json_each(?))"


class Row(NamedTuple):
    """A row, with its day."""

    day: int
    row: DayRow

    @property
    def seq(self) -> int:
        """Its number in all records."""
        return seq_of(self.day, self.row.place)


@dataclass(frozen=True, slots=True)
class Record:
    """One failure, log record or run: its number, its time, and its fields."""

    seq: int
    time_ms: int
    values: dict[str, Any]
    """By name: the fields of its kind, and its attributes. Empty ones are left out. Times are Unix milliseconds."""


def records_of(days: DayReaders, kind: Kind, names: Names, rows: Iterable[Row]) -> list[Record]:
    """Return rows as records, in the same order. Of a day that was removed meanwhile nothing is returned."""
    by_day: dict[int, list[DayRow]] = {}
    seqs = list(rows)
    for day, row in seqs:
        by_day.setdefault(day, []).append(row)
    records: dict[int, Record] = {}
    for day, of_day in by_day.items():
        with suppress(*UNREADABLE), days.open(day) as connection:
            for record in Decoder(connection, kind, names, day).records(of_day):
                records[record.seq] = record
    return [records[row.seq] for row in seqs if row.seq in records]


class Decoder:
    """Makes records of the rows of one day file."""

    def __init__(self, connection: sqlite3.Connection, kind: Kind, names: Names, day: int) -> None:
        self._connection, self._kind, self._names, self._day = connection, kind, names, day
        self._own = FIELDS[kind]
        # Texts that another question has read need not be read again.
        self._texts = connection.texts if isinstance(connection, ReadingConnection) else {}
        self._texts[NOTHING] = ""
        self._pairs = connection.pairs if isinstance(connection, ReadingConnection) else {}

    def records(self, rows: Iterable[DayRow]) -> Iterator[Record]:
        """Yield a record for each row."""
        rest = iter(rows)
        while some := list(islice(rest, AT_ONCE)):
            self._read_texts(some)
            for row in some:
                yield Record(seq_of(self._day, row.place), row.time_ms, self.values(row))

    def _read_texts(self, rows: list[DayRow]) -> None:
        """Read the texts of some rows with one statement, where they are more than a few."""
        numbers: set[int] = set()
        for row in rows:
            numbers.update((row.environment_id, row.entry_point_id, *numbers_in(row.shared)))
            if isinstance(row, LogRow):
                numbers.update((row.template_id, row.message_id, row.logger_id))
            else:
                numbers.add(row.kept_id if isinstance(row, RunRow) else row.type_id)
        numbers -= self._texts.keys()
        if len(numbers) < FEW_TEXTS or len(self._texts) + len(numbers) > MOST_TEXTS:
            return
        self._texts.update(self._connection.execute(_SOME_TEXTS, (json.dumps(list(numbers)),)).fetchall())

    def values(self, row: DayRow) -> dict[str, Any]:
        """Return the fields of a row, by name."""
        run_id = row.run_id
        own = {
            "app": self._names.apps.get(row.app_id),
            "environment": self.text_of(row.environment_id),
            "release": self._names.releases.get(row.release_id),
            "time": row.time_ms,
            "received": row.time_ms + row.late_ms,
            "trace_id": None if row.trace_id is None else row.trace_id.hex(),
            "entry_point": self.text_of(row.entry_point_id),
            "run": None if run_id is None else str(UUID(bytes=run_id)),
            **self._of_kind(row),
        }
        values: dict[str, Any] = {}
        for number in numbers_in(row.shared):
            pair = self._pairs.get(number) or self._pair(number)
            values[pair[0]] = pair[1]
        if row.attributes:
            values |= json.loads(row.attributes)
        values = {name: value for name, value in values.items() if name not in self._own}
        return values | {name: value for name, value in own.items() if value is not None and value != ""}

    def _pair(self, number: int) -> tuple[str, Any]:
        """Return the attribute in a text."""
        ((name, value),) = json.loads("{" + self.text_of(number) + "}").items()
        # Mutable values are made for each record.
        if not isinstance(value, list | dict):
            if len(self._pairs) > MOST_TEXTS:
                self._pairs.clear()
            self._pairs[number] = (name, value)
        return name, value

    def _of_kind(self, row: DayRow) -> dict[str, Any]:
        if isinstance(row, LogRow):
            template = self.text_of(row.template_id)
            message = message_of(template, self.text_of(row.message_id), row.message, row.filled)
            return {
                "severity": SEVERITIES[row.severity],
                "logger": self.text_of(row.logger_id),
                "message": message,
                "template": row.message if row.filled == "" and row.message is not None else template,
                "span_id": None if row.span_id is None else row.span_id.hex(),
            }
        if isinstance(row, RunRow):
            return {
                "outcome": row.outcome,
                "status": row.status,
                "duration": row.duration_ms,
                "request": row.request,
                "kept": self.text_of(row.kept_id),
            }
        return {
            "severity": SEVERITIES[row.severity],
            "handled": row.handled == "true",
            "type": self.text_of(row.type_id),
            "message": row.message,
        }

    def text_of(self, number: int) -> str:
        """Return the text that has a number in this file."""
        text = self._texts.get(number)
        if text is None:
            row = self._connection.execute(_TEXT, (number,)).fetchone()
            if len(self._texts) > MOST_TEXTS:
                self._texts.clear()
                self._texts[NOTHING] = ""
            text = self._texts[number] = row[0] if row else ""
        return text
