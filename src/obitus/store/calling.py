"""Counting who calls whom, from runs that were sent whole. Runs on the writer; equal entries of a batch are written once."""

from __future__ import annotations

import json
import sqlite3
from collections import Counter, defaultdict
from collections.abc import Iterator
from typing import Final, NamedTuple

from obitus.core.calls import bucket_of
from obitus.core.clock import DAY_MS, MINUTE_MS
from obitus.store import names
from obitus.store.days.runs import RunFacts

SLOTS_KEPT_MS: Final = 4 * DAY_MS
"""How long runs and calls are counted by five minutes too."""
SPANS_KEPT_MS: Final = 15 * MINUTE_MS
"""How long a run is matched with its caller, whichever comes first."""
MOST_REMOVED: Final = 5_000

_WHOLE: Final = """
INSERT INTO run_slots (minutes, slot, app_id, entry_point, release_id, environment, outcome, status, below_ms, runs, whole, whole_ms)
VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, 0, ?, ?)
ON CONFLICT DO UPDATE SET whole = whole + excluded.whole, whole_ms = whole_ms + excluded.whole_ms"""
_CALLS: Final = """
INSERT INTO call_slots (minutes, slot, app_id, entry_point, release_id, environment, outcome, kind, target, below_ms, calls, failed, spent_ms)
VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
ON CONFLICT DO UPDATE SET calls = calls + excluded.calls, failed = failed + excluded.failed, spent_ms = spent_ms + excluded.spent_ms"""
_ANSWERED: Final = """
INSERT INTO answered_at (kind, name, app_id, runs) VALUES (?, ?, ?, ?)
ON CONFLICT DO UPDATE SET runs = runs + excluded.runs"""
_LINKS: Final = """
INSERT INTO link_slots (minutes, slot, caller_id, app_id, environment, below_ms, runs, failed) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
ON CONFLICT DO UPDATE SET runs = runs + excluded.runs, failed = failed + excluded.failed"""
_SPANS: Final = "INSERT OR IGNORE INTO latest_spans (span_id, app_id, came_ms) VALUES (?, ?, ?)"
_CALLER: Final = "SELECT app_id FROM latest_spans WHERE span_id = ?"
_UNCALLED: Final = "INSERT INTO uncalled (parent, app_id, environment, time_ms, below_ms, failed, came_ms) VALUES (?, ?, ?, ?, ?, ?, ?)"
_WAITING: Final = "SELECT id, parent, app_id, environment, time_ms, below_ms, failed FROM uncalled WHERE parent = ?"
_FOUND: Final = "DELETE FROM uncalled WHERE id IN (SELECT value FROM json_each(?))"
_OLD: Final = (
    "DELETE FROM latest_spans WHERE span_id IN (SELECT span_id FROM latest_spans WHERE came_ms < ? ORDER BY came_ms LIMIT ?)",
    "DELETE FROM uncalled WHERE id IN (SELECT id FROM uncalled WHERE came_ms < ? ORDER BY came_ms LIMIT ?)",
)


class _Run(NamedTuple):
    """A run that another one called."""

    parent: bytes
    app_id: int
    environment: str
    time_ms: int
    below_ms: float
    failed: bool


class CallCounts:
    """The counts of the runs of one batch."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection
        self._entry_points: dict[tuple[int, str], str] = {}
        self._targets: dict[tuple[int, str, str], str] = {}
        self._whole: Counter[tuple[object, ...]] = Counter()
        self._whole_ms: defaultdict[tuple[object, ...], float] = defaultdict(float)
        self._calls: dict[tuple[object, ...], tuple[int, int, float]] = {}
        self._answered: Counter[tuple[str, str, int]] = Counter()
        self._spans: dict[bytes, tuple[int, int]] = {}
        self._called: list[_Run] = []
        self._received_ms = 0

    def add(
        self, run: RunFacts, app_id: int, release_id: int, environment: str, time_ms: int, received_ms: int
    ) -> None:
        """Count one run."""
        self._received_ms = max(self._received_ms, received_ms)
        entry_point = self._entry_point(app_id, run.entry_point)
        below_ms = -1.0 if run.duration_ms is None else bucket_of(run.duration_ms)
        where = (app_id, entry_point, release_id, environment)
        slots = list(slots_at(time_ms, received_ms))
        for slot in slots:
            if run.outcome:
                key = (*slot, *where, run.outcome, run.status or 0, below_ms)
                self._whole[key] += 1
                self._whole_ms[key] += run.duration_ms or 0
            for call in run.calls:
                target = self._target(app_id, call.kind, call.target)
                of_call = (*slot, *where, run.outcome, call.kind, target, call.below_ms)
                calls, failed, spent_ms = self._calls.get(of_call, (0, 0, 0.0))
                failed += call.times if call.failed else 0
                self._calls[of_call] = (calls + call.times, failed, spent_ms + call.spent_ms)
        if run.answered_at is not None:
            self._answered[*run.answered_at, app_id] += 1
        self._spans |= dict.fromkeys(run.spans, (app_id, received_ms))
        if run.parent is not None:
            self._called.append(_Run(run.parent, app_id, environment, time_ms, below_ms, run.outcome == "failed"))

    def write(self) -> None:
        """Write all counts."""
        execute_many = self._connection.executemany
        execute_many(_WHOLE, ((*key, n, self._whole_ms[key]) for key, n in self._whole.items()))
        execute_many(_CALLS, ((*key, *counts) for key, counts in self._calls.items()))
        execute_many(_ANSWERED, ((*key, n) for key, n in self._answered.items() if self._may_answer(*key)))
        self._link()

    def _link(self) -> None:
        """Match runs with their callers, whichever came first."""
        linked: list[tuple[int, _Run]] = []
        self._connection.executemany(_SPANS, ((span, *of) for span, of in self._spans.items()))
        ids: list[int] = []
        for span, (caller_id, _) in self._spans.items():
            for row in self._connection.execute(_WAITING, (span,)):
                ids.append(row[0])
                linked.append((caller_id, _Run(*row[1:])))
        if ids:
            self._connection.execute(_FOUND, (json.dumps(ids),))
        for run in self._called:
            caller = self._connection.execute(_CALLER, (run.parent,)).fetchone()
            if caller is not None:
                linked.append((caller[0], run))
            else:
                self._connection.execute(_UNCALLED, (*run, self._received_ms))
        counts: Counter[tuple[object, ...]] = Counter()
        failed: Counter[tuple[object, ...]] = Counter()
        for caller_id, run in linked:
            if caller_id != run.app_id:
                for slot in slots_at(run.time_ms, self._received_ms):
                    key = (*slot, caller_id, run.app_id, run.environment, run.below_ms)
                    counts[key] += 1
                    failed[key] += bool(run.failed)
        self._connection.executemany(_LINKS, ((*key, n, failed[key]) for key, n in counts.items()))

    def _entry_point(self, app_id: int, name: str) -> str:
        key = (app_id, name)
        if key not in self._entry_points:
            self._entry_points[key] = names.entry_point(self._connection, app_id, name)
        return self._entry_points[key]

    def _target(self, app_id: int, kind: str, name: str) -> str:
        key = (app_id, kind, name)
        if key not in self._targets:
            self._targets[key] = names.target(self._connection, app_id, kind, name)
        return self._targets[key]

    def _may_answer(self, kind: str, name: str, app_id: int) -> bool:
        return names.may_answer(self._connection, app_id, kind, name)


def slots_at(time_ms: int, received_ms: int) -> Iterator[tuple[int, int]]:
    """Yield the slots of a time: minutes and number. Old times have no slots of five minutes."""
    for minutes in (5, 60):
        if minutes == 60 or received_ms - time_ms < SLOTS_KEPT_MS:
            yield minutes, time_ms // (minutes * MINUTE_MS)


def prune_spans(connection: sqlite3.Connection, now_ms: int) -> int:
    """Forget runs that can no longer be matched; return how many: at most some thousands at a time."""
    return sum(connection.execute(sql, (now_ms - SPANS_KEPT_MS, MOST_REMOVED)).rowcount for sql in _OLD)
