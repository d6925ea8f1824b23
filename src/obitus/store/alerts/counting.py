"""What rules over windows count of failures and logs: each record once, as it comes, by the minute and by the hour of its own time.

So a rule costs as much as came since it was looked at last, however long its window is. Positions and amounts are kept together: a
record is counted once, whenever the service is killed.
"""

from __future__ import annotations

import json
import logging
import sqlite3
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Final, NamedTuple

from obitus.core.alerting.amounts import Amount, Key
from obitus.core.alerting.conditions import Measured
from obitus.core.alerting.course import Courses
from obitus.core.asking.records import Kind
from obitus.core.asking.summaries import bucket_of
from obitus.core.asking.values import number_of
from obitus.core.clock import DAY_MS, HOUR_MS, MINUTE_MS
from obitus.core.days import seq_of
from obitus.store.asking.compiling import Compiler, Names
from obitus.store.asking.expressions import Expressions, Value
from obitus.store.asking.finding import TABLES
from obitus.store.database import Reader, typed
from obitus.store.days.reading import DayReaders
from obitus.store.errors import UNREADABLE, QueryTooLong
from obitus.store.rows.alerts import AmountRow

_log = logging.getLogger("obitus.store")

HOURS_KEPT_MS: Final = 35 * DAY_MS
MOST_DAYS: Final = 40
MOST_GROUPS: Final = 500
"""Groups that one rule tells apart in one turn; what comes beyond is counted as one, named `…`."""
LIMIT_S: Final = 10.0
MOST_REMOVED: Final = 5_000
KINDS: Final[dict[str, Kind]] = {"failures": "failure", "logs": "log", "runs": "run"}

_BEGUN: Final = -1
"""A day that is none: its row says that counting has begun, in a store with no day yet."""
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
_WHOSE: Final = (
    "SELECT seq, issue_id, COALESCE(user_id, '') FROM failures WHERE seq IN (SELECT value FROM json_each(?))"
)


class _Row(NamedTuple):
    """A record as far as it is counted."""

    place: int
    one: Any
    two: Any
    time_ms: int
    value: Any


@dataclass(frozen=True, slots=True)
class Counted:
    """A rule whose amounts are kept."""

    rule_id: int
    changed_ms: int
    condition: Measured

    @property
    def kept_ms(self) -> int:
        """How far back its minutes are kept."""
        return self.condition.window_ms + HOUR_MS

    @property
    def wants_hours(self) -> bool:
        """Whether hours are kept too: for what is usual, and for long windows."""
        return self.condition.is_usual or self.condition.window_ms >= 6 * HOUR_MS


Amounts = dict[tuple[int, int, Key, str], tuple[int, float]]
"""How many, and their figure, by minutes of the slot, slot, key and part."""


@dataclass(slots=True)
class Turn:
    """What one turn of counting found."""

    amounts: dict[int, tuple[Counted, Amounts]] = field(default_factory=dict)
    places: dict[int, int] = field(default_factory=dict)

    @property
    def changed(self) -> set[int]:
        """The rules of which something was counted."""
        return {number for number, (_, amounts) in self.amounts.items() if amounts}


def counted_to(reader: Reader) -> dict[int, int]:
    """Return how far each day file was counted."""
    return {int(row[0]): int(row[1]) for row in reader.rows(_COUNTED)}


def start(days: DayReaders) -> dict[int, int]:
    """Return how far the day files go: a rule that begins now is counted back from there, and on from there."""
    return {_BEGUN: 0} | {day.day: day.last_place for day in days.latest(MOST_DAYS)}


def move(connection: sqlite3.Connection, places: Mapping[int, int]) -> None:
    """Keep how far the day files were counted. Runs on the writer."""
    connection.executemany(_MOVE, places.items())


def came_since(
    reader: Reader, days: DayReaders, names: Names, rules: Sequence[Counted], counted: Mapping[int, int], now_ms: int
) -> Turn:
    """Count what came since ``counted``, for each rule."""
    turn = Turn({rule.rule_id: (rule, {}) for rule in rules})
    for day in days.latest(MOST_DAYS):
        at = counted.get(day.day, 0)
        if at >= day.last_place:
            continue
        span = (at, day.last_place)
        try:
            for rule in rules:
                _count(reader, days, names, rule, day.day, span, now_ms, turn.amounts[rule.rule_id][1])
        except UNREADABLE as error:
            _log.warning("alerts cannot count a day: %s", error)
        turn.places[day.day] = day.last_place
    return turn


def counted_back(
    reader: Reader, days: DayReaders, names: Names, rule: Counted, counted: Mapping[int, int], from_ms: int, now_ms: int
) -> tuple[Amounts, int]:
    """Count for a rule what came before it began, the newest days first; return how far back it got in the time there is."""
    amounts: Amounts = {}
    reached_ms = now_ms
    for day in days.known(from_ms, now_ms + DAY_MS):
        upto = counted.get(day.day, 0)
        if not upto:
            continue
        try:
            _count(reader, days, names, rule, day.day, (0, upto), now_ms, amounts, from_ms=from_ms)
        except QueryTooLong:
            return amounts, reached_ms
        except UNREADABLE as error:
            _log.warning("alerts cannot count a day: %s", error)
        reached_ms = min(reached_ms, max(from_ms, day.earliest_ms))
    return amounts, from_ms


def write(connection: sqlite3.Connection, turn: Turn) -> None:
    """Add what a turn counted, and keep how far it got, in one transaction. Runs on the writer."""
    for rule, amounts in turn.amounts.values():
        _write(connection, rule, amounts)
    move(connection, turn.places)


def write_back(connection: sqlite3.Connection, rule: Counted, amounts: Amounts, from_ms: int) -> None:
    """Add what a rule counted back, and since when it is counted. Runs on the writer."""
    if _write(connection, rule, amounts):
        connection.execute(_SINCE, (from_ms, rule.rule_id))


def _write(connection: sqlite3.Connection, rule: Counted, amounts: Amounts) -> bool:
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


def amounts_of(reader: Reader, rule: Counted, minutes: int, first: int, last: int, slot_ms: int) -> Courses:
    """Return what was counted for a rule, by slots of a length that are as long as those kept, or longer."""
    found, each = Courses(), slot_ms // (minutes * MINUTE_MS)
    stat = rule.condition.stat
    for row in reader.all(AmountRow, _AMOUNTS, (rule.rule_id, minutes, first * each, last * each + each - 1)):
        found.add(tuple(json.loads(row.group_key)), row.slot // each, _amount(rule.condition, row), stat)
    return found


def prune(connection: sqlite3.Connection, rule: Counted, now_ms: int) -> int:
    """Remove what a rule counted and needs no more; return how much. Runs on the writer."""
    minute = (now_ms - rule.kept_ms) // MINUTE_MS
    removed = connection.execute(_OLD, (rule.rule_id, 1, minute, MOST_REMOVED)).rowcount
    return (
        removed
        + connection.execute(_OLD, (rule.rule_id, 60, (now_ms - HOURS_KEPT_MS) // HOUR_MS, MOST_REMOVED)).rowcount
    )


def courses_between(
    reader: Reader,
    days: DayReaders,
    names: Names,
    condition: Measured,
    from_ms: int,
    to_ms: int,
    slot_ms: int,
    *,
    limit_s: float = LIMIT_S,
) -> tuple[Courses, int]:
    """Return what a condition comes to by slots in a span, from the records themselves, and how far back that goes."""
    found, reached_ms = Courses(), to_ms
    rule = Counted(0, 0, condition)
    for day in days.known(from_ms, to_ms):
        try:
            for row in _rows(
                reader, days, names, rule, day.day, "time_ms >= ? AND time_ms < ?", (from_ms, to_ms), limit_s
            ):
                key, part, amount = row[0], row[2], row[3]
                found.add(key, row[1] // slot_ms, _amount_of(condition, part, *amount), condition.stat)
        except QueryTooLong:
            return found, reached_ms
        except UNREADABLE as error:
            _log.warning("a preview cannot count a day: %s", error)
        reached_ms = max(from_ms, day.earliest_ms)
    return found, from_ms


def _count(
    reader: Reader,
    days: DayReaders,
    names: Names,
    rule: Counted,
    day: int,
    places: tuple[int, int],
    now_ms: int,
    into: Amounts,
    *,
    from_ms: int | None = None,
) -> None:
    where, params = "place > ? AND place <= ?", list[Any](places)
    if from_ms is not None:
        where += " AND time_ms >= ?"
        params.append(from_ms)
    oldest_ms = now_ms - rule.kept_ms
    stat = rule.condition.stat
    for key, time_ms, part, (n, figure) in _rows(reader, days, names, rule, day, where, params, LIMIT_S):
        if time_ms >= oldest_ms:
            _put(into, (1, time_ms // MINUTE_MS, key, part), n, figure, stat)
        if rule.wants_hours:
            _put(into, (60, time_ms // HOUR_MS, key, part), n, figure, stat)


def _put(into: Amounts, at: tuple[int, int, Key, str], n: int, figure: float, stat: str | None) -> None:
    before = into.get(at)
    if before is None:
        into[at] = n, figure
    elif stat in ("smallest", "largest"):
        into[at] = before[0] + n, (min if stat == "smallest" else max)(before[1], figure)
    else:
        into[at] = before[0] + n, before[1] + figure


def _rows(
    reader: Reader,
    days: DayReaders,
    names: Names,
    rule: Counted,
    day: int,
    where: str,
    params: Sequence[Any],
    limit_s: float,
) -> Iterator[tuple[Key, int, str, tuple[int, float]]]:
    """Yield what a condition counts among some records of a day: key, time, part, and how many with which figure."""
    condition = rule.condition
    kind = KINDS[condition.source]
    seen: set[Key] = set()
    with days.open(day, limit_s=limit_s) as connection:
        # First: a question may call what a compiler gives the connection.
        compiler = Compiler(connection, kind, names)
        asked = compiler.condition(condition.node) if condition.node is not None else None
        fields = Expressions(connection, kind, names)
        of_day = [name for name in condition.by if name != "issue"]
        keys = [fields.key(name) for name in of_day]
        columns = [*(sql for sql, _ in keys), "NULL", "NULL"][:2]
        number = fields.number(condition.of) if condition.of else "NULL"
        sql = f"SELECT place, {columns[0]} AS one, {columns[1]} AS two, time_ms, {number} AS value FROM {TABLES[kind]} WHERE {where}"  # noqa: S608 - expressions from here and from kinds
        values = list(params)
        if asked is not None:
            sql += f" AND {asked.sql}"
            values += asked.params
        rows = typed(connection.execute(sql, values), _Row)
        resolved = [
            [resolve(value) for (_, resolve), value in zip(keys, (row.one, row.two), strict=False)] for row in rows
        ]
    wants_main = "issue" in condition.by or condition.measure == "people"
    whose = _whose(reader, day, rows) if wants_main else {}
    for row, found in zip(rows, resolved, strict=True):
        issue, person = whose.get(row.place, (0, ""))
        key = _key(condition.by, found, issue)
        if key not in seen:
            if len(seen) >= MOST_GROUPS:
                key = tuple("…" for _ in condition.by)
            seen.add(key)
        if condition.measure == "people":
            if person:
                yield key, row.time_ms, person, (1, 0.0)
        elif condition.measure == "stat":
            value = number_of(row.value)
            if value is not None:
                part = str(bucket_of(value)) if condition.stat in ("median", "p95", "p99") else ""
                yield key, row.time_ms, part, (1, value)
        else:
            yield key, row.time_ms, "", (1, 0.0)


def _key(by: Iterable[str], found: Sequence[Value], issue: int) -> Key:
    values = iter(found)
    return tuple(str(issue) if name == "issue" else _text(next(values)) for name in by)


def _text(value: Value) -> str:
    if value is None:
        return ""
    return json.dumps(value) if isinstance(value, bool) else str(value)


def _whose(reader: Reader, day: int, rows: Sequence[_Row]) -> dict[int, tuple[int, str]]:
    """Return the issues and people of failures, by their places."""
    found: dict[int, tuple[int, str]] = {}
    for start_at in range(0, len(rows), 5000):
        seqs = json.dumps([seq_of(day, row.place) for row in rows[start_at : start_at + 5000]])
        for row in reader.rows(_WHOSE, (seqs,)):
            found[int(row[0]) - seq_of(day, 0)] = int(row[1]), str(row[2])
    return found


def _amount(condition: Measured, row: AmountRow) -> Amount:
    return _amount_of(condition, row.part, row.n, row.figure)


def _amount_of(condition: Measured, part: str, n: int, figure: float) -> Amount:
    if condition.measure == "people":
        return Amount(n, people={part})
    amount = Amount(n, figure=figure)
    if condition.stat in ("median", "p95", "p99"):
        amount.buckets[int(part)] = n
    return amount
