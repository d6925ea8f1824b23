"""Failures of one batch that are counted and not kept whole, added to those that represent them. Runs on the writer."""

from __future__ import annotations

import sqlite3
from collections import Counter
from dataclasses import dataclass, field
from typing import Final

from obitus.core.days import day_and_place
from obitus.core.floods import Alike
from obitus.store.database import our_errors
from obitus.store.days.writing import WritingDays
from obitus.store.names import OTHERS

_IS_THERE: Final = "SELECT 1 FROM failures WHERE seq = ? AND issue_id = ?"
_STANDS_FOR: Final = "UPDATE failures SET stands_for = stands_for + :n WHERE seq = :seq"
_STANDS_FOR_IN_DAY: Final = "UPDATE failures SET stands_for = stands_for + ? WHERE place = ?"
_OF_ISSUE: Final = """
UPDATE issues SET failures = failures + :n, only_counted = only_counted + :n, last_ms = MAX(last_ms, :last_ms),
  from_older_releases = from_older_releases + :n * :from_older_release WHERE id = :issue_id"""
_OF_RELEASE: Final = """
UPDATE issue_releases SET failures = failures + :n, first_ms = MIN(first_ms, :first_ms), last_ms = MAX(last_ms, :last_ms)
WHERE issue_id = :issue_id AND release_id = :release_id AND environment = :environment AND entry_point = :entry_point"""
_WHOSE: Final = """
INSERT INTO only_counted (seq, user_id, failures, new) VALUES (?, ?, ?, ?)
ON CONFLICT DO UPDATE SET failures = failures + excluded.failures, new = new + excluded.new"""


@dataclass(slots=True)
class _Behind:
    """Those of this batch that one failure represents."""

    alike: Alike
    first_ms: int
    last_ms: int
    users: Counter[str] = field(default_factory=Counter)


class Crowd:
    """The failures of one batch that are only counted."""

    def __init__(self, connection: sqlite3.Connection, days: WritingDays) -> None:
        self._connection, self._days = connection, days
        self._behind: dict[int, _Behind] = {}
        self._gone: set[int] = set()
        self._kept: set[int] = set()

    def take(self, issue_id: int, received_ms: int) -> bool:
        """Take one of the failures that an issue may keep whole now; return whether one was left."""
        return self._days.floods.take(issue_id, received_ms)

    def represented_by(self, alike: Alike, time_ms: int) -> int | None:
        """Return the number of the failure that represents this one; None where there is none."""
        seq = self._days.floods.represented_by(alike, time_ms)
        if seq is None or seq in self._behind or seq in self._kept:
            return seq
        # It may have been removed, or moved to another issue.
        is_there = seq not in self._gone and self._connection.execute(_IS_THERE, (seq, alike.issue_id)).fetchone()
        if not is_there:
            self._gone.add(seq)
            return None
        return seq

    def kept(self, alike: Alike, seq: int, time_ms: int) -> None:
        """Make a failure that is kept whole represent those like it from now on."""
        self._kept.add(seq)
        self._days.floods.kept(alike, seq, time_ms)

    def add(self, seq: int, alike: Alike, time_ms: int, user_id: str | None, failures: int = 1) -> None:
        """Count one or several that another represents."""
        behind = self._behind.get(seq)
        if behind is None:
            behind = self._behind[seq] = _Behind(alike, time_ms, time_ms)
        behind.first_ms, behind.last_ms = min(behind.first_ms, time_ms), max(behind.last_ms, time_ms)
        behind.users[user_id or ""] += failures

    def write(self) -> None:
        """Add the counts to the failures that represent them, once their rows are written."""
        for seq, behind in self._behind.items():
            # Opened first, which removes the changes of an interrupted commit.
            day, place = day_and_place(seq)
            file = self._days.at(day)
            n = behind.users.total()
            values = behind.alike._asdict() | {
                "n": n,
                "seq": seq,
                "first_ms": behind.first_ms,
                "last_ms": behind.last_ms,
            }
            self._connection.execute(_STANDS_FOR, values)
            self._connection.execute(_OF_ISSUE, values)
            if not self._connection.execute(_OF_RELEASE, values).rowcount:
                self._connection.execute(_OF_RELEASE, values | {"entry_point": OTHERS})
            self._connection.executemany(_WHOSE, ((seq, user, n, n) for user, n in behind.users.items()))
            with our_errors(file.path):
                file.connection.execute(_STANDS_FOR_IN_DAY, (n, place))
