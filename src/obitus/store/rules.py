"""The team's rules: redaction rules and grouping rules."""

from __future__ import annotations

import sqlite3

from obitus.core.days import seq_of
from obitus.store.database import Reader
from obitus.store.days.reading import DayReaders
from obitus.store.errors import AlreadyThere, NotThere
from obitus.store.rows.grouping import Rule
from obitus.store.rows.records import Place

_IN_FORCE = """
SELECT r.id, r.rule, people.name AS person, r.created_ms
FROM redaction_rules r JOIN people ON people.id = r.person_id WHERE r.ended_ms IS NULL ORDER BY r.id"""
_ADD = """
INSERT INTO redaction_rules (rule, person_id, created_ms) VALUES (?, ?, ?) ON CONFLICT DO NOTHING RETURNING id"""
_END = "UPDATE redaction_rules SET ended_ms = :now_ms WHERE id = :id AND ended_ms IS NULL RETURNING rule"
# By place: the order in which they came is the order of the primary key, and needs no other index.
_LATEST = "SELECT place FROM (SELECT place FROM evidence UNION ALL SELECT place FROM logs) ORDER BY place DESC LIMIT ?"


def redaction_rules(reader: Reader) -> list[Rule]:
    """Return the active redaction rules, oldest first."""
    return reader.all(Rule, _IN_FORCE)


def add_redaction_rule(connection: sqlite3.Connection, rule: str, person_id: int, now_ms: int) -> int:
    """Put a rule into use and return its id; raises AlreadyThere."""
    row = connection.execute(_ADD, (rule, person_id, now_ms)).fetchone()
    if row is None:
        raise AlreadyThere("this rule is active already")
    return int(row[0])


def end_redaction_rule(connection: sqlite3.Connection, rule_id: int, now_ms: int) -> str:
    """End a rule and return its text; raises NotThere."""
    row = connection.execute(_END, {"id": rule_id, "now_ms": now_ms}).fetchone()
    if row is None:
        raise NotThere(f"there is no redaction rule {rule_id} that is active")
    return str(row[0])


def latest_reports(days: DayReaders, most: int) -> list[int]:
    """Return the numbers of the latest reports, newest first."""
    found: list[int] = []
    for day in days.known():
        if len(found) >= most:
            break
        rows = days.all_if_readable(Place, day.day, _LATEST, (most - len(found),))
        found += [seq_of(day.day, row.place) for row in rows]
    return found


_GROUPING_IN_FORCE = """
SELECT r.id, r.rule, people.name AS person, r.created_ms
FROM grouping_rules r JOIN people ON people.id = r.person_id WHERE r.ended_ms IS NULL ORDER BY r.id"""
_ADD_GROUPING = """
INSERT INTO grouping_rules (rule, person_id, created_ms) VALUES (?, ?, ?) ON CONFLICT DO NOTHING RETURNING id"""
_END_GROUPING = "UPDATE grouping_rules SET ended_ms = :now_ms WHERE id = :id AND ended_ms IS NULL RETURNING rule"


def grouping_rules(reader: Reader) -> list[Rule]:
    """Return the active grouping rules, oldest first."""
    return reader.all(Rule, _GROUPING_IN_FORCE)


def add_grouping_rule(connection: sqlite3.Connection, rule: str, person_id: int, now_ms: int) -> int:
    """Use a grouping rule and return its id; raises AlreadyThere."""
    row = connection.execute(_ADD_GROUPING, (rule, person_id, now_ms)).fetchone()
    if row is None:
        raise AlreadyThere("this rule is active already")
    return int(row[0])


def end_grouping_rule(connection: sqlite3.Connection, rule_id: int, now_ms: int) -> str:
    """End a grouping rule and return its text; raises NotThere."""
    row = connection.execute(_END_GROUPING, {"id": rule_id, "now_ms": now_ms}).fetchone()
    if row is None:
        raise NotThere(f"there is no grouping rule {rule_id} that is active")
    return str(row[0])
