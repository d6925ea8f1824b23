"""New failures and logs, as rules over windows count them: read once for all rules, by combinations of fields with few values.

Most rules ask for fields of few values, such as the app, the entry point or the severity. Records with equal values
of these are equal for such rules: a rule is evaluated once for each combination, not for each record. The other
terms of a rule (words, attributes) are evaluated only on records that pass the first part of its question.
"""

from __future__ import annotations

import json
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cached_property
from typing import Any, Final, NamedTuple

from obitus.core.alerting.amounts import Key
from obitus.core.alerting.conditions import Measured
from obitus.core.asking.holding import holds
from obitus.core.asking.records import Kind
from obitus.core.asking.summaries import bucket_of
from obitus.core.asking.tree import All, Compare, Node, Words, leaves_of
from obitus.core.asking.values import number_of
from obitus.core.clock import MINUTE_MS
from obitus.core.days import seq_of
from obitus.store.asking.compiling import Compiler, Names
from obitus.store.asking.expressions import Expressions, Value
from obitus.store.asking.finding import TABLES
from obitus.store.asking.kinds import FIELDS
from obitus.store.database import Reader, typed
from obitus.store.days.reading import DayReaders

KINDS: Final[dict[str, Kind]] = {"failures": "failure", "logs": "log", "runs": "run"}
FEW: Final = frozenset({"app", "environment", "release", "entry_point", "severity", "handled", "type", "logger"})
"""The fields with few values."""
MOST_GROUPS: Final = 500
"""Groups of one rule in one reading; further ones are counted together as `…`."""
_WHOSE: Final = (
    "SELECT seq, issue_id, COALESCE(user_id, '') FROM failures WHERE seq IN (SELECT value FROM json_each(?))"
)
AMONG: Final = "place IN (SELECT value FROM json_each(?))"

CountsByKey = Mapping[tuple[Key, int, str], tuple[int, float]]
"""The number of records, and their figure, by group, minute (since 1970) and part: a bucket of numbers, or a person."""


class DaySource(NamedTuple):
    """The source of records: the file of a day, and a condition in SQL on its rows."""

    day: int
    where: str
    params: tuple[Any, ...]
    limit_s: float


class _Record(NamedTuple):
    place: int
    one: Any
    two: Any
    time_ms: int
    value: Any


class _Alike:
    """Records with equal values in all fields with few values."""

    def __init__(self, fields: dict[str, Value]) -> None:
        self.fields = fields
        self.places: list[int] = []
        self.minutes: list[int] = []
        self.times: list[int] | None = None
        """How many each record counts as; absent where it is one."""

    @cached_property
    def by_minute(self) -> Counter[int]:
        if self.times is None:
            return Counter(self.minutes)
        counts: Counter[int] = Counter()
        for minute, n in zip(self.minutes, self.times, strict=True):
            counts[minute] += n
        return counts


class Came:
    """The records of one kind in one place, for the rules that ask for them.

    With ``further`` the counts are not of these records but of those that they represent: the number of each person,
    by the place of the record.
    """

    def __init__(
        self,
        reader: Reader,
        days: DayReaders,
        names: Names,
        kind: Kind,
        place: DaySource,
        conditions: Iterable[Measured],
        further: Mapping[int, Mapping[str, int]] | None = None,
    ) -> None:
        self._further = further
        self._reader, self._days, self._names, self._kind, self._place = reader, days, names, kind, place
        self._few = FEW & FIELDS[kind].keys()
        self._asked = sorted(self._few & _fields(conditions))
        self._by_app: dict[Value, list[_Alike]] = defaultdict(list)
        self._matching: dict[str, list[_Alike]] = {}
        self._found: dict[tuple[Any, ...], CountsByKey] = {}
        self._read()

    @property
    def is_empty(self) -> bool:
        """Whether there are no records."""
        return not self._by_app

    def of(self, condition: Measured) -> CountsByKey:
        """Return the records of a condition. Conditions that differ only in their limit or window share the result."""
        what = (condition.where, condition.by, condition.measure, condition.stat, condition.of)
        counts = self._found.get(what)
        if counts is None:
            counts = self._found[what] = self._count(condition)
        return counts

    def _read(self) -> None:
        alike: dict[tuple[Any, ...], _Alike] = {}
        with self._days.open(self._place.day, limit_s=self._place.limit_s) as connection:
            fields = Expressions(connection, self._kind, self._names)
            keys = [(name, *fields.key(name)) for name in self._asked]
            columns = "".join(f", {sql}" for _, sql, _ in keys)
            sql = f"SELECT place, time_ms{columns} FROM {TABLES[self._kind]} WHERE {self._place.where}"  # noqa: S608 - expressions from kinds
            for place, time_ms, *values in connection.execute(sql, self._place.params):
                like = tuple(values)
                alike_ones = alike.get(like)
                if alike_ones is None:
                    alike_ones = alike[like] = _Alike(
                        {name: resolve(value) for (name, _, resolve), value in zip(keys, values, strict=True)}
                    )
                alike_ones.places.append(place)
                alike_ones.minutes.append(time_ms // MINUTE_MS)
                if self._further is not None:
                    alike_ones.times = alike_ones.times or []
                    alike_ones.times.append(sum(self._further[place].values()))
        for alike_one in alike.values():
            self._by_app[alike_one.fields.get("app")].append(alike_one)

    def _count(self, condition: Measured) -> CountsByKey:
        first, has_more = split(condition.node, self._few)
        matching = self._of_few(condition.where, first)
        if not matching:
            return {}
        if has_more or condition.measure == "stat" or not self._few.issuperset(set(condition.by) - {"issue"}):
            return self._looked_for(condition, matching)
        groups = _Groups(condition.by)
        counts: Counter[tuple[Key, int, str]] = Counter()
        wants_whose = "issue" in condition.by or condition.measure == "people"
        for alike in matching:
            if not wants_whose:
                key = groups.key([_text(alike.fields[name]) for name in condition.by])
                for minute, n in alike.by_minute.items():
                    counts[key, minute, ""] += n
                continue
            for minute, place in zip(alike.minutes, alike.places, strict=True):
                issue, people = self._whose_are(place)
                if condition.measure != "people":
                    people = {"": sum(people.values())}
                elif "" in people:
                    people = {person: n for person, n in people.items() if person}
                if people:
                    key = groups.key([str(issue) if name == "issue" else _text(alike.fields[name]) for name in condition.by])  # fmt: skip
                for person, n in people.items():
                    counts[key, minute, person] += n
        return {at: (n, 0.0) for at, n in counts.items()}

    def _of_few(self, where: str, first: Node | None) -> list[_Alike]:
        """Return the records that pass the part of a question about fields with few values."""
        matching = self._matching.get(where)
        if matching is None:
            app = _app_of(first)
            among = (
                (alike for each in self._by_app.values() for alike in each)
                if app is None
                else self._by_app.get(app, ())
            )
            matching = self._matching[where] = [
                alike for alike in among if first is None or holds(first, alike.fields, ())
            ]
        return matching

    def _looked_for(self, condition: Measured, matching: Sequence[_Alike]) -> CountsByKey:
        """Count by the whole question, among the records that may match."""
        place = self._place
        if sum(map(len, self._by_app.values())) > len(matching):
            places = sorted(place for one in matching for place in one.places)
            place = place._replace(where=AMONG, params=(json.dumps(places),))
        records, values = self._records(condition, place)
        groups = _Groups(condition.by)
        counts: dict[tuple[Key, int, str], tuple[int, float]] = {}
        for record, resolved in zip(records, values, strict=True):
            issue, people = self._whose_are(record.place)
            others = iter(resolved)
            key = groups.key([str(issue) if name == "issue" else _text(next(others)) for name in condition.by])
            minute = record.time_ms // MINUTE_MS
            if condition.measure == "people":
                for person, n in people.items():
                    if person:
                        add(counts, (key, minute, person), n, 0.0, None)
                continue
            part, figure, times = "", 0.0, sum(people.values())
            if condition.measure == "stat":
                value = number_of(record.value)
                if value is None:
                    continue
                figure = value if condition.stat in ("smallest", "largest") else value * times
                part = str(bucket_of(value)) if condition.stat in ("median", "p95", "p99") else ""
            add(counts, (key, minute, part), times, figure, condition.stat)
        return counts

    def _whose_are(self, place: int) -> tuple[int, Mapping[str, int]]:
        """Return the issue of a record, and how many are counted with it, by person; "" for unnamed ones."""
        issue, person = self._whose.get(place, (0, ""))
        return issue, {person: 1} if self._further is None else self._further[place]

    def _records(self, condition: Measured, place: DaySource) -> tuple[list[_Record], list[list[Value]]]:
        """Return the records of a question, and the values by which they are grouped."""
        with self._days.open(place.day, limit_s=place.limit_s) as connection:
            # First: a question may call functions that a compiler registers.
            compiler = Compiler(connection, self._kind, self._names)
            where = compiler.condition(condition.node) if condition.node is not None else None
            fields = Expressions(connection, self._kind, self._names)
            keys = [fields.key(name) for name in condition.by if name != "issue"]
            columns = [*(sql for sql, _ in keys), "NULL", "NULL"][:2]
            number = fields.number(condition.of) if condition.of else "NULL"
            sql = f"SELECT place, {columns[0]} AS one, {columns[1]} AS two, time_ms, {number} AS value FROM {TABLES[self._kind]} WHERE {place.where}"  # noqa: S608 - expressions from here and from kinds
            params = list(place.params)
            if where is not None:
                sql += f" AND {where.sql}"
                params += where.params
            records = typed(connection.execute(sql, params), _Record)
            resolves: list[Callable[[Any], Value]] = [resolve for _, resolve in keys]
            values = [
                [resolve(value) for resolve, value in zip(resolves, (one.one, one.two), strict=False)]
                for one in records
            ]
        return records, values

    @cached_property
    def _whose(self) -> dict[int, tuple[int, str]]:
        """The issues and people of failures, by their places."""
        issues_and_people: dict[int, tuple[int, str]] = {}
        if self._kind != "failure":
            return issues_and_people
        base = seq_of(self._place.day, 0)
        places = [base + place for each in self._by_app.values() for one in each for place in one.places]
        for start in range(0, len(places), 5000):
            for row in self._reader.rows(_WHOSE, (json.dumps(places[start : start + 5000]),)):
                issues_and_people[int(row[0]) - base] = int(row[1]), str(row[2])
        return issues_and_people


class _Groups:
    """The groups of one rule in one reading, at most as many as are counted by name."""

    def __init__(self, by: tuple[str, ...]) -> None:
        self._rest: Key = tuple("…" for _ in by)
        self._seen: set[Key] = set()

    def key(self, values: Sequence[str]) -> Key:
        key = tuple(values)
        if key not in self._seen:
            if len(self._seen) >= MOST_GROUPS:
                return self._rest
            self._seen.add(key)
        return key


def add(into: dict[Any, tuple[int, float]], at: Any, n: int, figure: float, stat: str | None) -> None:
    """Add a number of further records to an amount."""
    before = into.get(at)
    if before is None:
        into[at] = n, figure
    elif stat in ("smallest", "largest"):
        into[at] = before[0] + n, (min if stat == "smallest" else max)(before[1], figure)
    else:
        into[at] = before[0] + n, before[1] + figure


def split(node: Node | None, few: frozenset[str]) -> tuple[Node | None, bool]:
    """Return the part of a question that needs only ``few`` fields, and whether it has other parts."""
    if node is None:
        return None, False
    parts = node.parts if isinstance(node, All) else (node,)
    first = tuple(part for part in parts if _asks_few(part, few))
    found = None if not first else first[0] if len(first) == 1 else All(first)
    return found, len(first) < len(parts)


def _asks_few(node: Node, few: frozenset[str]) -> bool:
    return all(not isinstance(leaf, Words) and leaf.field in few for leaf in leaves_of(node))


def _app_of(node: Node | None) -> str | None:
    """Return the app that a question requires; None where it requires none."""
    for part in node.parts if isinstance(node, All) else (node,):
        if isinstance(part, Compare) and part.field == "app" and part.op == "=" and part.text:
            return part.text
    return None


def _fields(conditions: Iterable[Measured]) -> frozenset[str]:
    """Return the fields that conditions use or group by."""
    fields: set[str] = set()
    for condition in conditions:
        fields.update(condition.by)
        if condition.node is not None:
            fields.update(leaf.field for leaf in leaves_of(condition.node) if not isinstance(leaf, Words))
    return frozenset(fields)


def _text(value: Value) -> str:
    if value is None:
        return ""
    return json.dumps(value) if isinstance(value, bool) else str(value)
