"""Counts of failures and logs for rules over windows: each record once, when it comes, by the minute and by the hour
of its own time. So a rule costs in proportion to the records since its last evaluation, however long its window is.
Positions and amounts are stored together: a record is counted once, even after a kill.
"""

from __future__ import annotations

import json
import logging
import sqlite3
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Final

from obitus.core.alerting.amounts import Amount, Key
from obitus.core.alerting.conditions import Measured
from obitus.core.alerting.over_time import AmountsByKey
from obitus.core.asking.records import Kind
from obitus.core.clock import DAY_MS, HOUR_MS, MINUTE_MS
from obitus.core.days import day_and_place, seq_of
from obitus.store.alerts.coming import AMONG, KINDS, Came, CountsByKey, DaySource, add
from obitus.store.asking.compiling import Names
from obitus.store.database import Reader
from obitus.store.days.reading import DayReaders
from obitus.store.errors import UNREADABLE, QueryTooLong
from obitus.store.rows.alerts import AmountRow, OnlyCounted

_log = logging.getLogger("obitus.store")

HOURS_KEPT_MS: Final = 35 * DAY_MS
MOST_DAYS: Final = 40
AT_ONCE: Final = 20_000
"""Places of a day that are read at once, which bounds the memory."""
LIMIT_S: Final = 10.0
BACK_S: Final = 120.0
"""The longest time for which new rules are counted back."""
MOST_REMOVED: Final = 5_000

_BEGUN: Final = -1
"""Not a day: its row marks that counting has begun, in a store without days."""
_COUNTED: Final = "SELECT day, place FROM alert_counted"
_MOVE: Final = "INSERT INTO alert_counted (day, place) VALUES (?, ?) ON CONFLICT DO UPDATE SET place = excluded.place"
_ADD: Final = """
INSERT INTO alert_amounts (rule_id, minutes, slot, group_key, part, n, figure) VALUES (?, ?, ?, ?, ?, ?, ?)
ON CONFLICT DO UPDATE SET n = n + excluded.n, figure = {figure}"""
_FIGURES: Final = {
    "smallest": "MIN(figure, excluded.figure)",
    "largest": "MAX(figure, excluded.figure)",
    None: "figure + excluded.figure",
}
_IS_ACTIVE: Final = "SELECT 1 FROM alert_rules WHERE id = ? AND ended_ms IS NULL AND changed_ms = ?"
_SINCE: Final = "UPDATE alert_rules SET counted_from_ms = ? WHERE id = ?"
_AMOUNTS: Final = """
SELECT slot, group_key, part, n, figure FROM alert_amounts WHERE rule_id = ? AND minutes = ? AND slot >= ? AND slot <= ?"""
_OLD: Final = """
DELETE FROM alert_amounts WHERE (rule_id, minutes, slot, group_key, part) IN (
  SELECT rule_id, minutes, slot, group_key, part FROM alert_amounts WHERE rule_id = ? AND minutes = ? AND slot < ? LIMIT ?)"""
_NEW: Final = (
    "SELECT seq, user_id, new AS n FROM only_counted INDEXED BY only_counted_new WHERE new > 0 ORDER BY seq LIMIT ?"
)
_SEEN: Final = "UPDATE only_counted SET new = new - ? WHERE seq = ? AND user_id = ?"
_BEHIND: Final = "SELECT seq, user_id, failures AS n FROM only_counted WHERE seq > ? AND seq <= ?"
_SPAN: Final = "place > ? AND place <= ?"
_SPAN_FROM: Final = f"{_SPAN} AND time_ms >= ?"


@dataclass(frozen=True, slots=True)
class CountedRule:
    """A rule with stored amounts."""

    rule_id: int
    changed_ms: int
    condition: Measured

    @property
    def kept_ms(self) -> int:
        """How far back its minutes are kept."""
        return self.condition.window_ms + HOUR_MS

    @property
    def back_ms(self) -> int:
        """How far back it is counted when it is new."""
        return HOURS_KEPT_MS if self.condition.is_usual else self.kept_ms

    @property
    def wants_hours(self) -> bool:
        """Whether hours are kept too: for usual amounts, and for long windows."""
        return self.condition.is_usual or self.condition.window_ms >= 6 * HOUR_MS


Amounts = dict[tuple[int, int, Key, str], tuple[int, float]]
"""Counts and figures by minutes of the slot, slot, key and part."""


@dataclass(slots=True)
class Turn:
    """The result of one turn of counting."""

    amounts: dict[int, tuple[CountedRule, Amounts]] = field(default_factory=dict)
    places: dict[int, int] = field(default_factory=dict)
    further: list[OnlyCounted] = field(default_factory=list)
    """Failures that are only counted with others, as far as they were counted in this turn."""

    @property
    def is_empty(self) -> bool:
        """Whether there were no records."""
        return not self.places and not self.further

    @property
    def changed(self) -> set[int]:
        """The rules with new counts."""
        return {number for number, (_, amounts) in self.amounts.items() if amounts}


def counted_to(reader: Reader) -> dict[int, int]:
    """Return up to which place each day file was counted."""
    return {int(row[0]): int(row[1]) for row in reader.rows(_COUNTED)}


def start(days: DayReaders) -> dict[int, int]:
    """Return the present end of the day files, from which a new rule is counted back and forward."""
    return {_BEGUN: 0} | {day.day: day.last_place for day in days.latest(MOST_DAYS)}


def move(connection: sqlite3.Connection, places: Mapping[int, int]) -> None:
    """Store up to which place the day files were counted. Runs on the writer."""
    connection.executemany(_MOVE, places.items())


def came_since(
    reader: Reader,
    days: DayReaders,
    names: Names,
    rules: Sequence[CountedRule],
    counted: Mapping[int, int],
    now_ms: int,
) -> Turn:
    """Count the records since ``counted``, for each rule."""
    turn = Turn({rule.rule_id: (rule, {}) for rule in rules})
    for day in days.latest(MOST_DAYS):
        at = counted.get(day.day, 0)
        if at >= day.last_place:
            continue
        try:
            for start_at in range(at, day.last_place, AT_ONCE):
                span = (start_at, min(start_at + AT_ONCE, day.last_place))
                _count(reader, days, names, DaySource(day.day, _SPAN, span, LIMIT_S), now_ms, turn.amounts)
        except UNREADABLE as error:
            _log.warning("alerts cannot count a day: %s", error)
        turn.places[day.day] = day.last_place
    turn.further = reader.all(OnlyCounted, _NEW, (AT_ONCE,))
    _count_further(reader, days, names, turn.further, now_ms, turn.amounts)
    return turn


def counted_back(
    reader: Reader,
    days: DayReaders,
    names: Names,
    rules: Sequence[CountedRule],
    counted: Mapping[int, int],
    now_ms: int,
    *,
    limit_s: float = BACK_S,
) -> tuple[dict[int, tuple[CountedRule, Amounts]], int]:
    """Count records from before rules began, the newest days first; return how far back that got within the time."""
    into: dict[int, tuple[CountedRule, Amounts]] = {rule.rule_id: (rule, {}) for rule in rules}
    from_ms = min(now_ms - rule.back_ms for rule in rules)
    reached_ms, ends_s = now_ms, time.monotonic() + limit_s
    for day in days.known(from_ms, now_ms + DAY_MS):
        upto = counted.get(day.day, 0)
        try:
            for start_at in range(0, upto, AT_ONCE):
                end_at = min(start_at + AT_ONCE, upto)
                _count(
                    reader,
                    days,
                    names,
                    DaySource(day.day, _SPAN_FROM, (start_at, end_at, from_ms), LIMIT_S),
                    now_ms,
                    into,
                )
                behind = reader.all(OnlyCounted, _BEHIND, (seq_of(day.day, start_at), seq_of(day.day, end_at)))
                _count_further(reader, days, names, behind, now_ms, into)
                if time.monotonic() > ends_s:
                    return into, reached_ms
        except QueryTooLong:
            return into, reached_ms
        except UNREADABLE as error:
            _log.warning("alerts cannot count a day: %s", error)
        reached_ms = min(reached_ms, max(from_ms, day.earliest_ms))
    return into, from_ms


def _count_further(
    reader: Reader,
    days: DayReaders,
    names: Names,
    rows: Sequence[OnlyCounted],
    now_ms: int,
    into: Mapping[int, tuple[CountedRule, Amounts]],
) -> None:
    """Count failures that were not kept, each like the one that represents it."""
    rules = [one for one in into.values() if KINDS[one[0].condition.source] == "failure"]
    if not rules:
        return
    for day, further in _by_day(rows).items():
        place = DaySource(day, AMONG, (json.dumps(list(further)),), LIMIT_S)
        try:
            came = Came(reader, days, names, "failure", place, (rule.condition for rule, _ in rules), further)
            for rule, amounts in rules:
                _put(came.of(rule.condition), rule, now_ms, amounts)
        except UNREADABLE as error:
            _log.warning("alerts cannot count a day: %s", error)


def _by_day(rows: Sequence[OnlyCounted]) -> dict[int, dict[int, dict[str, int]]]:
    """Return the number for each person, by day and by the place of the failure that represents them."""
    counts: dict[int, dict[int, dict[str, int]]] = {}
    for row in rows:
        day, place = day_and_place(row.seq)
        counts.setdefault(day, {}).setdefault(place, {})[row.user_id] = row.n
    return counts


def _count(
    reader: Reader,
    days: DayReaders,
    names: Names,
    place: DaySource,
    now_ms: int,
    into: Mapping[int, tuple[CountedRule, Amounts]],
) -> None:
    by_kind: dict[Kind, list[tuple[CountedRule, Amounts]]] = {}
    for rule, amounts in into.values():
        by_kind.setdefault(KINDS[rule.condition.source], []).append((rule, amounts))
    for kind, rules in by_kind.items():
        came = Came(reader, days, names, kind, place, (rule.condition for rule, _ in rules))
        if came.is_empty:
            continue
        for rule, amounts in rules:
            _put(came.of(rule.condition), rule, now_ms, amounts)


def write(connection: sqlite3.Connection, turn: Turn) -> None:
    """Add the counts of a turn, and store its positions, in one transaction. Runs on the writer."""
    for rule, amounts in turn.amounts.values():
        _write(connection, rule, amounts)
    move(connection, turn.places)
    connection.executemany(_SEEN, ((row.n, row.seq, row.user_id) for row in turn.further))


def write_back(connection: sqlite3.Connection, rule: CountedRule, amounts: Amounts, from_ms: int) -> None:
    """Add the counts of a rule from before it began, and since when it is counted. Runs on the writer."""
    if _write(connection, rule, amounts):
        connection.execute(_SINCE, (from_ms, rule.rule_id))


def _write(connection: sqlite3.Connection, rule: CountedRule, amounts: Amounts) -> bool:
    # Ended or changed meanwhile: it is counted from the beginning.
    if connection.execute(_IS_ACTIVE, (rule.rule_id, rule.changed_ms)).fetchone() is None:
        return False
    stat = rule.condition.stat
    sql = _ADD.format(figure=_FIGURES.get(stat) or _FIGURES[None])
    connection.executemany(
        sql,
        (
            (rule.rule_id, minutes, slot, json.dumps(list(key), ensure_ascii=False), part, n, figure)
            for (minutes, slot, key, part), (n, figure) in amounts.items()
        ),
    )
    return True


def amounts_of(reader: Reader, rule: CountedRule, minutes: int, first: int, last: int, slot_ms: int) -> AmountsByKey:
    """Return the counts of a rule by slots, whose length is that of the stored ones or longer."""
    amounts, each = AmountsByKey(), slot_ms // (minutes * MINUTE_MS)
    stat = rule.condition.stat
    for row in reader.all(AmountRow, _AMOUNTS, (rule.rule_id, minutes, first * each, last * each + each - 1)):
        amounts.add(tuple(json.loads(row.group_key)), row.slot // each, _amount(rule.condition, row), stat)
    return amounts


def prune(connection: sqlite3.Connection, rule: CountedRule, now_ms: int) -> int:
    """Remove counts that a rule no longer needs; return their number. Runs on the writer."""
    minute = (now_ms - rule.kept_ms) // MINUTE_MS
    removed = connection.execute(_OLD, (rule.rule_id, 1, minute, MOST_REMOVED)).rowcount
    return (
        removed
        + connection.execute(_OLD, (rule.rule_id, 60, (now_ms - HOURS_KEPT_MS) // HOUR_MS, MOST_REMOVED)).rowcount
    )


def amounts_between(
    reader: Reader,
    days: DayReaders,
    names: Names,
    condition: Measured,
    from_ms: int,
    to_ms: int,
    slot_ms: int,
    *,
    limit_s: float = LIMIT_S,
) -> tuple[AmountsByKey, int]:
    """Return the amounts of a condition by slots in a span, from the records themselves, and how far back they go."""
    amounts, reached_ms = AmountsByKey(), to_ms
    for day in days.known(from_ms, to_ms):
        place = DaySource(day.day, "time_ms >= ? AND time_ms < ?", (from_ms, to_ms), limit_s)
        try:
            came = [Came(reader, days, names, KINDS[condition.source], place, [condition])]
            if KINDS[condition.source] == "failure":
                came += _behind(reader, days, names, condition, place)
            for counted in came:
                for (key, minute, part), amount in counted.of(condition).items():
                    amounts.add(
                        key, minute * MINUTE_MS // slot_ms, _amount_of(condition, part, *amount), condition.stat
                    )
        except QueryTooLong:
            return amounts, reached_ms
        except UNREADABLE as error:
            _log.warning("a preview cannot count a day: %s", error)
        reached_ms = max(from_ms, day.earliest_ms)
    return amounts, from_ms


def _behind(reader: Reader, days: DayReaders, names: Names, condition: Measured, place: DaySource) -> list[Came]:
    """Return the counts that failures of a place represent, if any."""
    rows = reader.all(OnlyCounted, _BEHIND, (seq_of(place.day, 0), seq_of(place.day + 1, 0)))
    further = _by_day(rows).get(place.day)
    if further is None:
        return []
    among = place._replace(where=f"{place.where} AND {AMONG}", params=(*place.params, json.dumps(list(further))))
    return [Came(reader, days, names, "failure", among, [condition], further)]


def _put(counts: CountsByKey, rule: CountedRule, now_ms: int, into: Amounts) -> None:
    """Add the records of a rule, by minutes and by hours."""
    oldest = (now_ms - rule.kept_ms) // MINUTE_MS
    stat = rule.condition.stat
    for (key, minute, part), (n, figure) in counts.items():
        if minute >= oldest:
            add(into, (1, minute, key, part), n, figure, stat)
        if rule.wants_hours:
            add(into, (60, minute // 60, key, part), n, figure, stat)


def _amount(condition: Measured, row: AmountRow) -> Amount:
    return _amount_of(condition, row.part, row.n, row.figure)


def _amount_of(condition: Measured, part: str, n: int, figure: float) -> Amount:
    if condition.measure == "people":
        return Amount(n, people={part})
    amount = Amount(n, figure=figure)
    if condition.stat in ("median", "p95", "p99"):
        amount.buckets[int(part)] = n
    return amount
