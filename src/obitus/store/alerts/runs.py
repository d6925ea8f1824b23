"""Counts of all runs for rules, from the slots in which runs are counted anyway; and when groups came last."""

from __future__ import annotations

import json
import sqlite3
from collections import defaultdict
from collections.abc import Iterable
from typing import Any, Final

from obitus.core.alerting.amounts import Amount, Key
from obitus.core.alerting.conditions import Measured, Silent
from obitus.core.alerting.over_time import AmountsByKey
from obitus.core.asking.holding import leaf_holds
from obitus.core.asking.tree import Compare, Leaf, Node, Words
from obitus.core.clock import MINUTE_MS
from obitus.store.asking.compiling import Names, in_sql
from obitus.store.calling import SLOTS_KEPT_MS
from obitus.store.database import Reader, typed
from obitus.store.rows.alerts import LastCame, RunSlotRow

_COLUMNS: Final = {
    "app": "s.app_id",
    "environment": "s.environment",
    "release": "s.release_id",
    "entry_point": "s.entry_point",
    "outcome": "s.outcome",
    "status": "NULLIF(s.status, 0)",
}
_RUNS: Final = """
SELECT s.slot, {one} AS one, {two} AS two, s.outcome, {below} AS below_ms, SUM(s.runs) AS runs FROM run_slots s
WHERE s.minutes = :minutes AND s.slot IN (SELECT value FROM json_each(:slots)) AND s.app_id IN (SELECT value FROM json_each(:apps)){asked}
GROUP BY s.slot, one, two, s.outcome, below_ms"""
_LAST: Final = """
SELECT {one} AS one, {two} AS two, MAX(s.slot) AS last_ms FROM run_slots s
WHERE s.minutes = :minutes AND s.slot IN (SELECT value FROM json_each(:slots)) AND s.app_id IN (SELECT value FROM json_each(:apps)){asked}
GROUP BY one, two"""
_CAME: Final = """
SELECT {one} AS one, {two} AS two, s.slot AS last_ms FROM run_slots s
WHERE s.minutes = :minutes AND s.slot IN (SELECT value FROM json_each(:slots)) AND s.app_id IN (SELECT value FROM json_each(:apps)){asked}
GROUP BY one, two, s.slot ORDER BY s.slot"""
_REPORTED: Final = """
SELECT id AS one, NULL AS two, last_report_ms AS last_ms FROM apps WHERE removed_ms IS NULL AND last_report_ms IS NOT NULL"""


class Compiled:
    """A condition on slots of runs."""

    def __init__(self, condition: Measured | Silent, names: Names) -> None:
        self._names = names
        self._leaves: list[Leaf] = []
        self.params: dict[str, Any] = {}
        self.apps = self._apps(condition.node)
        self.asked = "" if condition.node is None else f" AND {in_sql(condition.node, self._of)}"
        by = [*condition.by, "", ""][:2]
        self._by = condition.by
        self.one, self.two = (_COLUMNS.get(name, "NULL") for name in by)

    def register(self, connection: sqlite3.Connection) -> None:
        """Register the function that the condition calls."""
        leaves = self._leaves
        connection.create_function("leaf_holds", 2, lambda at, value: leaf_holds(leaves[at], value), deterministic=True)

    def key(self, one: Any, two: Any) -> Key:
        """Return the values of a row's groups."""
        return tuple(self._named(name, value) for name, value in zip(self._by, (one, two), strict=False))

    def with_slots(self, minutes: int, slots: Iterable[int]) -> dict[str, Any]:
        """Return all parameters of a statement about some slots."""
        return self.params | {"minutes": minutes, "slots": json.dumps(list(slots)), "apps": json.dumps(self.apps)}

    def _named(self, field: str, value: Any) -> str:
        if value is None:
            return ""
        if field == "app":
            return self._names.apps.get(value, "")
        return self._names.releases.get(value, "") if field == "release" else str(value)

    def _apps(self, node: Node | None) -> list[int]:
        """Return the apps that can match: few of them make few rows."""
        parts = getattr(node, "parts", (node,)) if node is not None and not isinstance(node, Compare) else (node,)
        asked = [part for part in parts if isinstance(part, Compare) and part.field == "app"]
        if type(node).__name__ == "AnyOf":
            asked = []
        return [number for number, name in self._names.apps.items() if all(leaf_holds(part, name) for part in asked)]

    def _of(self, leaf: Leaf) -> str:
        assert not isinstance(leaf, Words)
        name = f"q{len(self.params)}"
        if leaf.field in ("app", "release"):
            called = self._names.apps if leaf.field == "app" else self._names.releases
            self.params[name] = json.dumps(
                [number for number, text in called.items() if leaf_holds(leaf, text or None)]
            )
            return f"{_COLUMNS[leaf.field]} IN (SELECT value FROM json_each(:{name}))"  # noqa: S608 - a column, from above
        if isinstance(leaf, Compare) and leaf.op == "=" and leaf.text and leaf.field != "status":
            self.params[name] = leaf.text
            return f"{_COLUMNS[leaf.field]} = :{name}"
        self._leaves.append(leaf)
        self.params[name] = len(self._leaves) - 1
        return f"leaf_holds(:{name}, NULLIF({_COLUMNS[leaf.field]}, ''))"


def amounts_in(reader: Reader, condition: Measured, names: Names, slots: Iterable[int], slot_ms: int) -> AmountsByKey:
    """Return the amounts of a condition over runs in some slots: of five minutes, or of an hour."""
    compiled = Compiled(condition, names)
    amounts, minutes = AmountsByKey(), slot_ms // MINUTE_MS
    below = "s.below_ms" if condition.measure == "stat" else "0.0"
    sql = _RUNS.format(one=compiled.one, two=compiled.two, asked=compiled.asked, below=below)
    with reader.lend() as connection:
        compiled.register(connection)
        rows = typed(connection.execute(sql, compiled.with_slots(minutes, slots)), RunSlotRow)
    for row in rows:
        amounts.add(compiled.key(row.one, row.two), row.slot, _amount(condition, row), None)
    return amounts


def _amount(condition: Measured, row: RunSlotRow) -> Amount:
    if condition.measure in ("failed", "refused"):
        return Amount(row.runs if row.outcome == condition.measure else 0, row.runs)
    if condition.measure == "per thousand":
        return Amount(0, row.runs)
    amount = Amount(row.runs)
    if condition.measure == "stat":
        if row.below_ms < 0:
            return Amount()
        amount.buckets[row.below_ms] = row.runs
    return amount


def last_came(reader: Reader, condition: Silent, names: Names, now_ms: int, known_ms: int) -> dict[Key, int]:
    """Return when each group came last, among those that came since ``known_ms``; in milliseconds, at the end of its slot."""
    compiled = Compiled(condition, names)
    if condition.source == "reports":
        rows = reader.all(LastCame, _REPORTED)
        apps = set(compiled.apps)
        times = [(row.one, row.last_ms) for row in rows if row.one in apps]
        if not condition.by:
            return {(): max(time_ms for _, time_ms in times)} if times else {}
        return {compiled.key(app, None): time_ms for app, time_ms in times}
    last_ms: dict[Key, int] = {}
    for minutes, from_ms in (
        (60, known_ms),
        (5, max(known_ms, now_ms - min(SLOTS_KEPT_MS, condition.window_ms + 60 * MINUTE_MS))),
    ):
        slot_ms = minutes * MINUTE_MS
        sql = _LAST.format(one=compiled.one, two=compiled.two, asked=compiled.asked)
        with reader.lend() as connection:
            compiled.register(connection)
            slots = range(from_ms // slot_ms, now_ms // slot_ms + 1)
            rows = typed(connection.execute(sql, compiled.with_slots(minutes, slots)), LastCame)
        for row in rows:
            key = compiled.key(row.one, row.two)
            # An hour is less precise than five minutes; its end may be ahead of now.
            came_ms = row.last_ms * slot_ms if minutes == 60 else (row.last_ms + 1) * slot_ms
            last_ms[key] = max(last_ms.get(key, 0), min(came_ms, now_ms))
    return last_ms


def slots_of(
    reader: Reader, condition: Silent, names: Names, minutes: int, from_ms: int, to_ms: int
) -> dict[Key, list[int]]:
    """Return the slots in which each group had runs, in order."""
    compiled = Compiled(condition, names)
    slot_ms = minutes * MINUTE_MS
    slots_by_key: dict[Key, list[int]] = defaultdict(list)
    with reader.lend() as connection:
        compiled.register(connection)
        slots = range(from_ms // slot_ms, to_ms // slot_ms + 1)
        sql = _CAME.format(one=compiled.one, two=compiled.two, asked=compiled.asked)
        for row in typed(connection.execute(sql, compiled.with_slots(minutes, slots)), LastCame):
            slots_by_key[compiled.key(row.one, row.two)].append(row.last_ms)
    return slots_by_key
