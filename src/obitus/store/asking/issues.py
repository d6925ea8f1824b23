"""Questions about issues: terms about the issue itself are conditions on its row, all others on its failures. An
issue matches when it has a failure inside the window for which all terms about failures hold together. Attributes of
failures are in the files of the days: a term about one becomes the numbers of the failures for which it holds.
"""

from __future__ import annotations

import json
import logging
import sqlite3
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from typing import Any, Final

from obitus.core.asking.holding import leaf_holds
from obitus.core.asking.reading import QuestionTrouble
from obitus.core.asking.tree import All, Compare, Leaf, Node, Words, leaves_of
from obitus.core.days import seq_of
from obitus.core.severity import SEVERITIES
from obitus.store.asking.compiling import Compiler, Names, in_sql
from obitus.store.asking.finding import NARROWED, narrowed_places
from obitus.store.days.reading import DayReaders
from obitus.store.errors import UNREADABLE

_log = logging.getLogger("obitus.store")

MOST_NARROWED: Final = 20_000
"""Most failures of a day from the text index: all of them are needed, not only the newest."""
MOST_FAILURES: Final = 50_000
"""Most failures for which a term in the files of the days may hold."""
_OF_ISSUES: Final = {
    "app": "apps.name",
    "type": "issues.type",
    "cause": "NULLIF(issues.cause, '')",
    "place": "NULLIF(issues.place, '')",
    "message": "NULLIF(issues.message, '')",
    "state": "issues.state",
    "settled_in": "issues.settled_in",
    "first_seen": "issues.first_ms",
    "last_seen": "issues.last_ms",
    "began_in": "(SELECT NULLIF(version, '') FROM releases WHERE releases.id = issues.began_in_id)",
    "issue": "issues.id",
    "failures": "issues.failures",
    "with": "(SELECT name FROM people WHERE people.id = issues.holder_id)",
    "waits_for": "NULLIF(issues.waits_for, '')",
    "reopened": "NULLIF(issues.reopened, '')",
}
_OF_FAILURES: Final = {
    "environment": "f.environment",
    "release": "(SELECT NULLIF(version, '') FROM releases WHERE releases.id = f.release_id)",
    "time": "f.time_ms",
    "received": "f.received_ms",
    "trace_id": "NULLIF(lower(hex(f.trace_id)), '')",
    "user.id": "f.user_id",
}
_TEXTS: Final = ("type", "cause", "place", "message")
_POINTS: Final = "EXISTS (SELECT 1 FROM issue_releases p WHERE p.issue_id = issues.id AND {holds})"
_SEQS: Final = "SELECT place FROM failures WHERE time_ms >= ? AND time_ms < ?"


@dataclass(slots=True)
class Asked:
    """A compiled question about issues: conditions, and the terms of their functions."""

    of_issues: str = ""
    of_failures: str = ""
    params: dict[str, Any] = field(default_factory=dict)
    leaves: list[Leaf] = field(default_factory=list)

    def register(self, connection: sqlite3.Connection) -> None:
        """Register the function that the conditions call."""
        leaves = self.leaves
        connection.create_function(
            "leaf_holds", 2, lambda number, value: leaf_holds(leaves[number], value), deterministic=True
        )


def asked_of_issues(node: Node, days: DayReaders, names: Names, window: tuple[int, int], me: str = "") -> Asked:
    """Compile a question about issues; raises QuestionTrouble where it asks for too much. ``me`` is the name of the
    asking person: ``with=me`` means theirs.
    """
    making = _Making(days, names, window, me)
    parts = node.parts if isinstance(node, All) else (node,)
    about_issues: list[Node] = []
    about_failures: list[Node] = []
    for part in parts:
        (about_failures if any(_is_of_failures(leaf) for leaf in leaves_of(part)) else about_issues).append(part)
    making.asked.of_issues = making.joined(about_issues)
    making.asked.of_failures = making.joined(about_failures)
    return making.asked


def _is_of_failures(leaf: Leaf) -> bool:
    return not isinstance(leaf, Words) and leaf.field not in _OF_ISSUES and leaf.field != "entry_point"


class _Making:
    def __init__(self, days: DayReaders, names: Names, window: tuple[int, int], me: str) -> None:
        self.asked = Asked()
        self._days, self._names, self._window, self._me = days, names, window, me

    def joined(self, parts: Iterable[Node]) -> str:
        return " AND ".join(in_sql(part, self._of) for part in parts)

    def _of(self, leaf: Leaf) -> str:
        if isinstance(leaf, Words):
            texts = [self._holds(leaf, _OF_ISSUES[name]) for name in _TEXTS]
            return "(" + " OR ".join([*texts, self._on_entry_points(leaf)]) + ")"
        if isinstance(leaf, Compare) and leaf.field == "with" and leaf.text == "me" and self._me:
            leaf = replace(leaf, text=self._me)
        if leaf.field == "entry_point":
            return self._on_entry_points(leaf)
        if leaf.field == "severity":
            return self._one_of("f.severity", [name for name in SEVERITIES if leaf_holds(leaf, name)])
        if leaf.field == "handled":
            return self._one_of("f.handled", [flag for flag in (0, 1) if leaf_holds(leaf, bool(flag))])
        column = _OF_ISSUES.get(leaf.field) or _OF_FAILURES.get(leaf.field)
        return self._by_attribute(leaf) if column is None else self._holds(leaf, column)

    def _named(self, value: Any) -> str:
        name = f"q{len(self.asked.params)}"
        self.asked.params[name] = value
        return f":{name}"

    def _holds(self, leaf: Leaf, value: str) -> str:
        self.asked.leaves.append(leaf)
        return f"leaf_holds({self._named(len(self.asked.leaves) - 1)}, {value})"

    def _one_of(self, value: str, wanted: list[Any]) -> str:
        return f"{value} IN (SELECT value FROM json_each({self._named(json.dumps(wanted))}))"  # noqa: S608 - a column, from above

    def _on_entry_points(self, leaf: Leaf) -> str:
        """Return whether it holds for any entry point of the issue; for a negated term, for none."""
        if isinstance(leaf, Compare) and leaf.op == "!=":
            return "NOT " + self._on_entry_points(Compare(leaf.field, "=", leaf.text, leaf.number))
        return _POINTS.format(holds=self._holds(leaf, "NULLIF(p.entry_point, '')"))

    def _by_attribute(self, leaf: Leaf) -> str:
        # A negated term holds for most failures: the positive one is searched.
        if isinstance(leaf, Compare) and leaf.op == "!=":
            return "NOT " + self._by_attribute(Compare(leaf.field, "=", leaf.text, leaf.number))
        return self._one_of("f.seq", self._failures(leaf))

    def _failures(self, leaf: Leaf) -> list[int]:
        """Return the numbers of the failures of the window for which a term in their day's file holds."""
        failures: list[int] = []
        for day in self._days.known(*self._window):
            try:
                with self._days.open(day.day) as connection:
                    failures += [
                        seq_of(day.day, place) for place in _places(connection, leaf, self._names, self._window)
                    ]
            except UNREADABLE as error:
                _log.warning("a day is passed over: %s", error)
            if len(failures) > MOST_FAILURES:
                raise QuestionTrouble(
                    f"{_written(leaf)} holds for more than {MOST_FAILURES:,} failures of this window. Ask for less time, or for something rarer",
                    1,
                )
        return failures


def _places(connection: sqlite3.Connection, leaf: Leaf, names: Names, window: tuple[int, int]) -> list[int]:
    sql, params = _SEQS, list[Any](window)
    places = narrowed_places(connection, leaf, "failure", MOST_NARROWED)
    if places is not None:
        sql += NARROWED
        params.append(places)
    condition = Compiler(connection, "failure", names).condition(leaf)
    sql += f" AND {condition.sql}"
    return [row[0] for row in connection.execute(sql, (*params, *condition.params))]


def _written(leaf: Leaf) -> str:
    return f"{leaf.field}{leaf.op}{leaf.text}" if isinstance(leaf, Compare) else f"{getattr(leaf, 'field', '')} exists"
