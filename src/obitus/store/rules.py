"""The team's rules: redaction rules, grouping rules and hand-over rules."""

from __future__ import annotations

import sqlite3
from typing import Final

from obitus.core.days import seq_of
from obitus.store.database import Reader
from obitus.store.days.reading import DayReaders
from obitus.store.errors import AlreadyThere, NotThere
from obitus.store.rows.grouping import Rule
from obitus.store.rows.records import Place

# By place: the order of arrival is that of the primary key, and needs no other index.
_LATEST = "SELECT place FROM (SELECT place FROM evidence UNION ALL SELECT place FROM logs) ORDER BY place DESC LIMIT ?"
_ACTIVE: Final = """
SELECT r.id, r.rule, people.name AS person, r.created_ms
FROM {table} r JOIN people ON people.id = r.person_id WHERE r.ended_ms IS NULL ORDER BY r.id"""
_ADD: Final = "INSERT INTO {table} (rule, person_id, created_ms) VALUES (?, ?, ?) ON CONFLICT DO NOTHING RETURNING id"
_END: Final = "UPDATE {table} SET ended_ms = :now_ms WHERE id = :id AND ended_ms IS NULL RETURNING rule"


class Rules:
    """The rules of one kind. Functions that change something run on the writer."""

    def __init__(self, table: str, kind: str) -> None:
        self._kind = kind
        self._active, self._add, self._end = (sql.format(table=table) for sql in (_ACTIVE, _ADD, _END))

    def active(self, reader: Reader) -> list[Rule]:
        """Return those that are active, oldest first."""
        return reader.all(Rule, self._active)

    def add(self, connection: sqlite3.Connection, rule: str, person_id: int, now_ms: int) -> int:
        """Use a rule from now on and return its id; raises AlreadyThere."""
        row = connection.execute(self._add, (rule, person_id, now_ms)).fetchone()
        if row is None:
            raise AlreadyThere("this rule is active already")
        return int(row[0])

    def end(self, connection: sqlite3.Connection, rule_id: int, now_ms: int) -> str:
        """End a rule and return its text; raises NotThere."""
        row = connection.execute(self._end, {"id": rule_id, "now_ms": now_ms}).fetchone()
        if row is None:
            raise NotThere(f"there is no {self._kind} {rule_id} that is active")
        return str(row[0])


REDACTION: Final = Rules("redaction_rules", "redaction rule")
GROUPING: Final = Rules("grouping_rules", "grouping rule")
HANDING: Final = Rules("handing_rules", "hand-over rule")


def latest_reports(days: DayReaders, most: int) -> list[int]:
    """Return the numbers of the latest reports, newest first."""
    seqs: list[int] = []
    for day in days.known():
        if len(seqs) >= most:
            break
        rows = days.all_if_readable(Place, day.day, _LATEST, (most - len(seqs),))
        seqs += [seq_of(day.day, row.place) for row in rows]
    return seqs
