"""Firings: each time that a rule held, as a record, with its cause and its messages. Functions that change something
run on the writer."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any, Final

from obitus.core.alerting.amounts import Key
from obitus.core.alerting.pacing import Silence
from obitus.core.clock import DAY_MS, HOUR_MS, to_text
from obitus.core.priority import Level
from obitus.core.wording import count_of, minute_of
from obitus.store import events
from obitus.store.alerts import messages
from obitus.store.alerts.messages import About
from obitus.store.database import Reader
from obitus.store.errors import NotThere
from obitus.store.rows.alerts import AlertRule, FiringRow

KEPT_MS: Final = 90 * DAY_MS
MOST_REMOVED: Final = 1000
MOST_SHOWN: Final = 200

_COLUMNS: Final = """
SELECT f.id, f.rule_id, r.name AS rule, r.condition, r.priority, f.group_key, f.event_id, f.issue_id, f.app_id, f.environment, f.begun_ms,
  f.noted_ms, f.over_ms, f.value, f.bound, f.worst, f.reason, f.over_time, f.records, f.held_back, f.accepted_ms, f.accepted_by,
  f.escalates_ms, f.escalated_ms FROM firings f JOIN alert_rules r ON r.id = f.rule_id"""
_LATEST: Final = f"""{_COLUMNS}
WHERE f.begun_ms >= :from_ms AND f.begun_ms < :to_ms AND (:rule IS NULL OR r.name = :rule) AND (:issue IS NULL OR f.issue_id = :issue)
ORDER BY f.begun_ms DESC, f.id DESC LIMIT :most"""
_ONE: Final = f"{_COLUMNS} WHERE f.id = ?"
_AMONG: Final = " WHERE f.id IN (SELECT value FROM json_each(?)) ORDER BY f.id"
_SOME: Final = f"{_COLUMNS}{_AMONG}"
_OPEN: Final = f"{_COLUMNS} WHERE f.over_ms IS NULL AND f.event_id IS NULL AND r.ended_ms IS NULL ORDER BY f.id"
# A firing later than now does not wait any longer: the clock went back.
_TO_ESCALATE: Final = f"""{_COLUMNS}
WHERE f.escalates_ms IS NOT NULL AND f.escalated_ms IS NULL AND f.accepted_ms IS NULL
  AND (f.escalates_ms <= :now_ms OR f.noted_ms > :now_ms + :differ_ms) AND r.ended_ms IS NULL
ORDER BY f.id LIMIT 100"""
_IS_TO_ESCALATE: Final = """
SELECT 1 FROM firings WHERE escalates_ms IS NOT NULL AND escalated_ms IS NULL AND accepted_ms IS NULL
  AND (escalates_ms <= :now_ms OR noted_ms > :now_ms + :differ_ms) LIMIT 1"""
_BEGIN: Final = """
INSERT INTO firings (rule_id, group_key, event_id, issue_id, app_id, environment, begun_ms, noted_ms, value, bound, worst, reason, over_time,
  records, held_back, accepted_by, escalates_ms)
VALUES (:rule_id, :group_key, :event_id, :issue_id, :app_id, :environment, :begun_ms, :noted_ms, :value, :bound, :value, :reason, :over_time,
  :records, '', '', :escalates_ms) ON CONFLICT DO NOTHING RETURNING id"""
_HELD_BACK: Final = "UPDATE firings SET held_back = ? WHERE id = ?"
_GO_ON: Final = "UPDATE firings SET worst = :worst, over_time = :over_time WHERE id = :id"
_OVER: Final = "UPDATE firings SET over_ms = :over_ms WHERE id = :id AND over_ms IS NULL RETURNING id"
_ACCEPT: Final = """
UPDATE firings SET accepted_ms = :now_ms, accepted_by = :said WHERE id = :id AND accepted_ms IS NULL RETURNING id"""
_NOT_ACCEPTED: Final = "SELECT 1 FROM firings WHERE id = ?"
_ESCALATED: Final = "UPDATE firings SET escalated_ms = :now_ms WHERE id = :id"
# Messages of a rule in an hour, whatever channel they go to: a rule with two channels sends each as many.
_OF_AN_HOUR: Final = """
FROM firings f JOIN message_firings mf ON mf.firing_id = f.id JOIN messages m ON m.id = mf.message_id
WHERE f.rule_id = :rule_id AND f.noted_ms > :since_ms AND m.channel_id = :channel_id AND m.made_ms > :since_ms AND m.made_ms <= :now_ms
  AND m.kind = 'firing'"""
_SENT: Final = "SELECT COUNT(DISTINCT m.id)" + _OF_AN_HOUR + " AND m.subject <> :more"
_OLDEST: Final = "SELECT MIN(m.made_ms)" + _OF_AN_HOUR
_NOTIFIED: Final = """
SELECT DISTINCT m.channel_id FROM message_firings mf JOIN messages m ON m.id = mf.message_id
WHERE mf.firing_id = ? AND m.kind IN ('firing', 'escalation') AND m.tries > 0"""
_OLD: Final = (
    """DELETE FROM message_firings WHERE firing_id IN (
      SELECT id FROM firings WHERE begun_ms < :before_ms AND (over_ms IS NOT NULL OR event_id IS NOT NULL) ORDER BY begun_ms LIMIT :most)""",
    """DELETE FROM message_links WHERE firing_id IN (
      SELECT id FROM firings WHERE begun_ms < :before_ms AND (over_ms IS NOT NULL OR event_id IS NOT NULL) ORDER BY begun_ms LIMIT :most)""",
    """DELETE FROM firings WHERE id IN (
      SELECT id FROM firings WHERE begun_ms < :before_ms AND (over_ms IS NOT NULL OR event_id IS NOT NULL) ORDER BY begun_ms LIMIT :most)""",
)


@dataclass(frozen=True, slots=True)
class Fired:
    """A rule that holds now, with its reasons."""

    key: Key
    begun_ms: int
    reason: str
    records: dict[str, Any]
    """The records that caused it: ``kind``, ``question``, ``start`` and ``end``, as for a search."""
    event_id: int | None = None
    issue_id: int | None = None
    app_id: int | None = None
    app: str | None = None
    environment: str = ""
    value: float | None = None
    bound: float | None = None
    over_time: Sequence[float] = field(default_factory=tuple)


@dataclass(frozen=True, slots=True)
class To:
    """A channel that is notified of a firing."""

    channel_id: int
    quiet_until_ms: int | None = None
    """When the present quiet hours of the channel's person end."""
    whose: str = ""


def subject_of(rule_id: int, group_key: str, issue_id: int | None) -> str:
    """Return the key of messages about a firing: its issue, or its rule and group."""
    return f"issue {issue_id}" if issue_id is not None else f"rule {rule_id} {group_key}"


def begin(
    connection: sqlite3.Connection,
    rule: AlertRule,
    fired: Fired,
    to: Sequence[To],
    silences: Iterable[Silence],
    uids: Iterable[str],
    now_ms: int,
) -> int | None:
    """Record that a rule fires, notify its channels, and return the firing's number; None where it is recorded
    already. A firing during a silence, or beyond the rule's messages an hour, is recorded with that reason.
    """
    row = connection.execute(
        _BEGIN,
        {
            "rule_id": rule.id, "group_key": json.dumps(list(fired.key), ensure_ascii=False), "event_id": fired.event_id,
            "issue_id": fired.issue_id, "app_id": fired.app_id, "environment": fired.environment, "begun_ms": fired.begun_ms,
            "noted_ms": now_ms, "value": fired.value, "bound": fired.bound, "reason": fired.reason,
            "over_time": json.dumps(list(fired.over_time)), "records": json.dumps(fired.records, ensure_ascii=False),
            "escalates_ms": None if rule.escalate_after_ms is None else now_ms + rule.escalate_after_ms,
        },
    ).fetchone()  # fmt: skip
    if row is None:
        return None
    number = int(row[0])
    events.add(connection, "alert-fired", now_ms, firing=number, rule=rule.name, **_about(fired))
    silence = _silence_of(rule.name, fired, silences, now_ms)
    if silence is not None:
        hold_back(connection, number, f"Silence {silence.id} holds until {minute_of(to_text(silence.until_ms))}.")
        return number
    subject = subject_of(rule.id, json.dumps(list(fired.key), ensure_ascii=False), fired.issue_id)
    for channel, uid in zip(to, uids, strict=False):
        about = _when(connection, rule, channel, subject, now_ms)
        if about.subject != subject:
            hold_back(
                connection,
                number,
                f"More than {count_of(rule.at_most_an_hour, 'message')} an hour: sent with others later.",
            )
        messages.tell(connection, channel.channel_id, about, number, uid, now_ms)
    return number


def go_on(connection: sqlite3.Connection, number: int, worst: float | None, over_time: Sequence[float]) -> None:
    """Record the progress of a firing."""
    connection.execute(_GO_ON, {"id": number, "worst": worst, "over_time": json.dumps(list(over_time))})


def over(
    connection: sqlite3.Connection, firing: FiringRow, over_ms: int, to: Sequence[To], uids: Iterable[str], now_ms: int
) -> None:
    """Record that a firing is over, and announce it wherever the firing was announced; a message that was not sent
    yet says it itself."""
    if connection.execute(_OVER, {"id": firing.id, "over_ms": over_ms}).fetchone() is None:
        return
    events.add(connection, "alert-over", now_ms, firing=firing.id, rule=firing.rule)
    notified = {int(row[0]) for row in connection.execute(_NOTIFIED, (firing.id,))}
    for channel, uid in zip((one for one in to if one.channel_id in notified), uids, strict=False):
        due_ms, why = _quiet(channel, firing.priority, now_ms)
        about = About(subject_of(firing.rule_id, firing.group_key, firing.issue_id), "over", due_ms, why)
        messages.tell(connection, channel.channel_id, about, firing.id, uid, now_ms)


def escalate(
    connection: sqlite3.Connection, firing: FiringRow, to: Sequence[To], uids: Iterable[str], now_ms: int
) -> None:
    """Escalate a firing that nobody has accepted."""
    connection.execute(_ESCALATED, {"id": firing.id, "now_ms": now_ms})
    for channel, uid in zip(to, uids, strict=False):
        about = About(subject_of(firing.rule_id, firing.group_key, firing.issue_id), "escalation", now_ms)
        messages.tell(connection, channel.channel_id, about, firing.id, uid, now_ms)


def accept(connection: sqlite3.Connection, number: int, said: str, now_ms: int) -> bool:
    """Record that somebody accepts a firing, and return whether they are the first; raises NotThere."""
    if connection.execute(_ACCEPT, {"id": number, "said": said, "now_ms": now_ms}).fetchone() is not None:
        return True
    if connection.execute(_NOT_ACCEPTED, (number,)).fetchone() is None:
        raise NotThere(f"there is no firing {number}")
    return False


def latest(
    reader: Reader,
    from_ms: int,
    to_ms: int,
    *,
    rule: str | None = None,
    issue: int | None = None,
    most: int = MOST_SHOWN,
) -> list[FiringRow]:
    """Return the firings that began in a span, the latest first."""
    return reader.all(
        FiringRow, _LATEST, {"from_ms": from_ms, "to_ms": to_ms, "rule": rule, "issue": issue, "most": most}
    )


def firing(reader: Reader, number: int) -> FiringRow:
    """Return one firing; raises NotThere."""
    return reader.only(FiringRow, _ONE, (number,), what=f"firing {number}")


def some(reader: Reader, numbers: Iterable[int]) -> list[FiringRow]:
    """Return firings by their numbers."""
    return reader.all(FiringRow, _SOME, (json.dumps(list(numbers)),))


def open_ones(reader: Reader) -> list[FiringRow]:
    """Return the firings of rules over windows that are not over."""
    return reader.all(FiringRow, _OPEN)


def to_escalate(reader: Reader, now_ms: int) -> list[FiringRow]:
    """Return the firings to be escalated now."""
    values = {"now_ms": now_ms, "differ_ms": messages.CLOCKS_DIFFER_MS}
    return reader.all(FiringRow, _TO_ESCALATE, values) if reader.column(int, _IS_TO_ESCALATE, values) else []


def key_of(row: FiringRow) -> Key:
    """Return the values of a firing's groups."""
    return tuple(json.loads(row.group_key))


def prune(connection: sqlite3.Connection, now_ms: int) -> int:
    """Remove old firings; return how many: at most some hundreds at a time."""
    values = {"before_ms": now_ms - KEPT_MS, "most": MOST_REMOVED}
    return sum(connection.execute(sql, values).rowcount for sql in _OLD)


def _about(fired: Fired) -> dict[str, Any]:
    return {name: value for name, value in (("issue", fired.issue_id), ("app_id", fired.app_id)) if value is not None}


def hold_back(connection: sqlite3.Connection, number: int, why: str) -> None:
    """Record why no message is sent of a firing, or not now. Runs on the writer."""
    connection.execute(_HELD_BACK, (why, number))


def _silence_of(rule: str, fired: Fired, silences: Iterable[Silence], now_ms: int) -> Silence | None:
    apps = [fired.app] if fired.app else []
    environments = [fired.environment] if fired.environment else []
    return next(
        (
            one
            for one in silences
            if one.covers(rule, now_ms, apps=apps, environments=environments, issue=fired.issue_id)
        ),
        None,
    )


def _when(connection: sqlite3.Connection, rule: AlertRule, channel: To, subject: str, now_ms: int) -> About:
    """Return the subject of a message to a channel: beyond the limit an hour one message about all, once the hour is over."""
    due_ms, why = _quiet(channel, rule.priority, now_ms)
    more = f"rule {rule.id} more"
    values = {
        "rule_id": rule.id,
        "channel_id": channel.channel_id,
        "since_ms": now_ms - HOUR_MS,
        "now_ms": now_ms,
        "more": more,
    }
    if connection.execute(_SENT, values).fetchone()[0] < rule.at_most_an_hour:
        return About(subject, "firing", due_ms, why)
    oldest_ms = connection.execute(_OLDEST, values).fetchone()[0] or now_ms
    return About(
        more,
        "firing",
        max(due_ms, int(oldest_ms) + HOUR_MS),
        f"{count_of(rule.at_most_an_hour, 'message')} went out within the hour",
    )


def _quiet(channel: To, priority: Level, now_ms: int) -> tuple[int, str]:
    """Return when a channel may be notified, and why not now. High priority ignores quiet hours."""
    if channel.quiet_until_ms is None or priority == "high":
        return now_ms, ""
    return channel.quiet_until_ms, f"quiet hours of {channel.whose}"
