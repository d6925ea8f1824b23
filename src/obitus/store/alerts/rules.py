"""Alert rules and silences. Functions that change something run on the writer."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Sequence
from typing import Final

from obitus.core.alerting.pacing import Silence
from obitus.core.alerting.wanted import RuleDefinition
from obitus.store.database import Reader
from obitus.store.errors import AlreadyThere, NotThere, TooMany
from obitus.store.rows.alerts import AlertRule, RuleChannel, SilenceRow

MOST_RULES: Final = 2000
MOST_SILENCES: Final = 500

_COLUMNS: Final = """
SELECT r.id, r.name, r.condition, r.priority, r.at_most_an_hour, r.escalate_after_ms, r.source, r.counted_from_ms,
  people.name AS person, r.created_ms, r.changed_ms FROM alert_rules r JOIN people ON people.id = r.person_id"""
_ACTIVE: Final = f"{_COLUMNS} WHERE r.ended_ms IS NULL ORDER BY r.name"
_NAMED: Final = f"{_COLUMNS} WHERE r.ended_ms IS NULL AND r.name = ?"
_CHANNELS: Final = """
SELECT rc.rule_id, rc.channel_id, c.name AS channel, rc.escalates FROM alert_rules r
JOIN alert_rule_channels rc ON rc.rule_id = r.id JOIN channels c ON c.id = rc.channel_id AND c.removed_ms IS NULL
WHERE r.ended_ms IS NULL ORDER BY rc.rule_id, c.name"""
_COUNT: Final = "SELECT COUNT(*) FROM alert_rules WHERE ended_ms IS NULL"
_ADD: Final = """
INSERT INTO alert_rules (name, condition, priority, at_most_an_hour, escalate_after_ms, source, person_id, created_ms, changed_ms)
VALUES (:name, :condition, :priority, :at_most_an_hour, :escalate_after_ms, :source, :person_id, :now_ms, :now_ms)
ON CONFLICT DO NOTHING RETURNING id"""
_THERE: Final = "SELECT id, condition FROM alert_rules WHERE name = ? AND ended_ms IS NULL"
_CHANGE: Final = """
UPDATE alert_rules SET condition = :condition, priority = :priority, at_most_an_hour = :at_most_an_hour,
  escalate_after_ms = :escalate_after_ms, source = :source, person_id = :person_id, changed_ms = :now_ms WHERE id = :id"""
_COUNT_ANEW: Final = "UPDATE alert_rules SET counted_from_ms = NULL WHERE id = ?"
_NO_AMOUNTS: Final = "DELETE FROM alert_amounts WHERE rule_id = ?"
_END: Final = "UPDATE alert_rules SET ended_ms = :now_ms WHERE name = :name AND ended_ms IS NULL RETURNING id"
_OVER: Final = "UPDATE firings SET over_ms = :now_ms WHERE rule_id = :id AND over_ms IS NULL AND event_id IS NULL"
_NO_CHANNELS: Final = "DELETE FROM alert_rule_channels WHERE rule_id = ?"
_ADD_CHANNEL: Final = """
INSERT INTO alert_rule_channels (rule_id, channel_id, escalates) VALUES (?, ?, ?) ON CONFLICT DO NOTHING"""
_CHANNEL: Final = "SELECT id FROM channels WHERE name = ? AND removed_ms IS NULL"
_SILENCES: Final = """
SELECT s.id, s.from_ms, s.until_ms, r.name AS rule, apps.name AS app, s.environment, s.issue_id, s.reason, s.said_by
FROM silences s LEFT JOIN alert_rules r ON r.id = s.rule_id LEFT JOIN apps ON apps.id = s.app_id
WHERE s.ended_ms IS NULL AND s.until_ms > ? ORDER BY s.from_ms, s.id"""
_SILENCE: Final = """
INSERT INTO silences (from_ms, until_ms, rule_id, app_id, environment, issue_id, reason, said_by)
VALUES (:from_ms, :until_ms, :rule_id, :app_id, :environment, :issue_id, :reason, :said_by) RETURNING id"""
_SILENCE_COUNT: Final = "SELECT COUNT(*) FROM silences WHERE ended_ms IS NULL AND until_ms > ?"
_SPEAK: Final = "UPDATE silences SET ended_ms = :now_ms WHERE id = :id AND ended_ms IS NULL RETURNING reason"


def active(reader: Reader) -> list[AlertRule]:
    """Return the active rules, by name."""
    return reader.all(AlertRule, _ACTIVE)


def named(reader: Reader, name: str) -> AlertRule:
    """Return one rule; raises NotThere."""
    return reader.only(AlertRule, _NAMED, (name,), what=f"alert rule named {name!r}")


def channels_of(reader: Reader) -> dict[int, list[RuleChannel]]:
    """Return the channels of all rules, by the rules' numbers."""
    channels: dict[int, list[RuleChannel]] = {}
    for row in reader.all(RuleChannel, _CHANNELS):
        channels.setdefault(row.rule_id, []).append(row)
    return channels


def wanted_of(row: AlertRule, channels: Sequence[RuleChannel]) -> RuleDefinition:
    """Return the definition of a rule."""
    return RuleDefinition(
        row.name,
        row.condition,
        tuple(channel.channel for channel in channels if not channel.escalates),
        row.priority,
        row.at_most_an_hour,
        tuple(channel.channel for channel in channels if channel.escalates),
        row.escalate_after_ms,
        row.source,
    )


def add(connection: sqlite3.Connection, wanted: RuleDefinition, person_id: int, now_ms: int) -> int:
    """Use a rule from now on and return its number; raises AlreadyThere, NotThere, TooMany."""
    if connection.execute(_COUNT).fetchone()[0] >= MOST_RULES:
        raise TooMany(f"there are {MOST_RULES} alert rules already; end one first")
    row = connection.execute(_ADD, _values(wanted, person_id, now_ms)).fetchone()
    if row is None:
        raise AlreadyThere(f"there is an alert rule named {wanted.name!r} already")
    _say_channels(connection, int(row[0]), wanted)
    return int(row[0])


def change(connection: sqlite3.Connection, wanted: RuleDefinition, person_id: int, now_ms: int) -> int:
    """Change a rule and return its number; raises NotThere. A new condition is counted from the beginning."""
    row = connection.execute(_THERE, (wanted.name,)).fetchone()
    if row is None:
        raise NotThere(f"there is no alert rule named {wanted.name!r}")
    number = int(row["id"])
    connection.execute(_CHANGE, _values(wanted, person_id, now_ms) | {"id": number})
    if row["condition"] != wanted.condition:
        connection.execute(_NO_AMOUNTS, (number,))
        connection.execute(_COUNT_ANEW, (number,))
        connection.execute(_OVER, {"now_ms": now_ms, "id": number})
    _say_channels(connection, number, wanted)
    return number


def end(connection: sqlite3.Connection, name: str, now_ms: int) -> int:
    """End a rule and return its number; raises NotThere. Its firings stay."""
    row = connection.execute(_END, {"name": name, "now_ms": now_ms}).fetchone()
    if row is None:
        raise NotThere(f"there is no alert rule named {name!r}")
    connection.execute(_NO_AMOUNTS, (row[0],))
    connection.execute(_OVER, {"now_ms": now_ms, "id": row[0]})
    return int(row[0])


def silences(reader: Reader, now_ms: int) -> list[SilenceRow]:
    """Return active and planned silences."""
    return reader.all(SilenceRow, _SILENCES, (now_ms,))


def silence_of(row: SilenceRow) -> Silence:
    """Return a row of ``silences`` as a record."""
    return Silence(row.id, row.from_ms, row.until_ms, row.rule, row.app, row.environment, row.issue_id)


def silence(
    connection: sqlite3.Connection,
    span_ms: tuple[int, int],
    reason: str,
    said_by: str,
    now_ms: int,
    *,
    rule_id: int | None = None,
    app_id: int | None = None,
    environment: str | None = None,
    issue_id: int | None = None,
) -> int:
    """Add a silence, and return its number; raises TooMany."""
    if connection.execute(_SILENCE_COUNT, (now_ms,)).fetchone()[0] >= MOST_SILENCES:
        raise TooMany(f"there are {MOST_SILENCES} silences already; end one first")
    values = {
        "from_ms": span_ms[0], "until_ms": span_ms[1], "rule_id": rule_id, "app_id": app_id, "environment": environment,
        "issue_id": issue_id, "reason": reason, "said_by": said_by,
    }  # fmt: skip
    return int(connection.execute(_SILENCE, values).fetchone()[0])


def end_silence(connection: sqlite3.Connection, number: int, now_ms: int) -> str:
    """End a silence before its time and return its reason; raises NotThere."""
    row = connection.execute(_SPEAK, {"id": number, "now_ms": now_ms}).fetchone()
    if row is None:
        raise NotThere(f"there is no silence {number}")
    return str(row[0])


def _values(wanted: RuleDefinition, person_id: int, now_ms: int) -> dict[str, object]:
    return {
        "name": wanted.name, "condition": wanted.condition, "priority": wanted.priority, "at_most_an_hour": wanted.at_most_an_hour,
        "escalate_after_ms": wanted.escalate_after_ms, "source": wanted.source, "person_id": person_id, "now_ms": now_ms,
    }  # fmt: skip


def _say_channels(connection: sqlite3.Connection, rule_id: int, wanted: RuleDefinition) -> None:
    connection.execute(_NO_CHANNELS, (rule_id,))
    for names, escalates in ((wanted.to, 0), (wanted.escalate_to, 1)):
        connection.executemany(_ADD_CHANNEL, ((rule_id, number, escalates) for number in _numbers(connection, names)))


def _numbers(connection: sqlite3.Connection, names: Iterable[str]) -> list[int]:
    numbers = []
    for name in names:
        row = connection.execute(_CHANNEL, (name,)).fetchone()
        if row is None:
            raise NotThere(f"there is no channel named {name!r}")
        numbers.append(int(row[0]))
    return numbers
