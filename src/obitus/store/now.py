"""What is happening now: runs and failures of a window by slices, entry points, answer codes and types, from rollups."""

from __future__ import annotations

import json
import sqlite3
from collections import Counter
from dataclasses import dataclass, field
from typing import Any, Final

from obitus.core.clock import HOUR_MS, MINUTE_MS
from obitus.core.statistics import below_share
from obitus.store.calling import SLOTS_KEPT_MS
from obitus.store.database import Reader
from obitus.store.rows.issues import IssueCount, IssueNow, NamedCount
from obitus.store.rows.now import FailuresInSlot, RunsAlike, RunsInSlot
from obitus.store.windows import Window, counted

SHORT_MS: Final = SLOTS_KEPT_MS - HOUR_MS
"""Windows that begin within this time are counted by five minutes, earlier ones by hours."""
MOST_REMOVED: Final = 5_000
MOST_NEW: Final = 20

NARROWED: Final = {
    "app": " AND app_id = (SELECT id FROM apps WHERE name = :app)",
    "environment": " AND environment = :environment",
    "release": " AND release_id IN (SELECT id FROM releases WHERE version = :release)",
}
_RUNS_BY_SLOT: Final = """
SELECT slot, SUM(runs) AS runs, SUM(runs * (outcome = 'failed')) AS failed FROM run_slots
WHERE minutes = :minutes AND slot >= :first AND slot < :end{narrowed} GROUP BY slot"""
_RUNS_ALIKE: Final = """
SELECT apps.name AS app, s.entry_point, s.outcome, s.status, s.below_ms, s.runs FROM (
  SELECT app_id, entry_point, outcome, status, below_ms, SUM(runs) AS runs FROM run_slots
  WHERE minutes = :minutes AND slot >= :first AND slot < :end{narrowed} GROUP BY app_id, entry_point, outcome, status, below_ms) s
JOIN apps ON apps.id = s.app_id WHERE apps.removed_ms IS NULL"""
_FAILURES_BY_SLOT: Final = """
SELECT slot, SUM(failures) AS failures FROM failure_slots
WHERE slot >= :first AND slot < :end{narrowed} GROUP BY slot"""
_FAILURES_BY_HOUR: Final = """
SELECT hour AS slot, SUM(failures) AS failures FROM issue_counts INDEXED BY issue_counts_by_hour
WHERE hour >= :first AND hour < :end{narrowed} GROUP BY hour"""
_OF_APP: Final = " AND issue_id IN (SELECT id FROM issues WHERE app_id = (SELECT id FROM apps WHERE name = :app))"
_BY_ISSUE: Final = "SELECT issue_id, SUM(n) AS n FROM ({parts}) GROUP BY issue_id"
_ISSUES: Final = """
SELECT i.id, i.type, i.cause, i.place, i.state, i.first_ms, i.entry_point, apps.name AS app FROM issues i JOIN apps ON apps.id = i.app_id
WHERE i.id IN (SELECT value FROM json_each(?)) AND i.merged_into IS NULL AND apps.removed_ms IS NULL"""
_WARNINGS: Final = """
SELECT w.logger AS name, SUM(w.records) AS n FROM warning_slots w JOIN apps ON apps.id = w.app_id
WHERE w.minutes = :minutes AND w.slot >= :first AND w.slot < :end{narrowed} AND apps.removed_ms IS NULL GROUP BY w.logger ORDER BY n DESC, w.logger LIMIT :most"""
_REGRESSED: Final = """
SELECT DISTINCT issue_id FROM issue_history INDEXED BY issue_history_regressed
WHERE to_state = 'regressed' AND time_ms >= :from_ms AND time_ms < :to_ms"""
_OLD: Final = (
    """DELETE FROM run_slots WHERE (minutes, slot, app_id, entry_point, release_id, environment, outcome, status, below_ms) IN (
      SELECT minutes, slot, app_id, entry_point, release_id, environment, outcome, status, below_ms FROM run_slots
      WHERE minutes = 5 AND slot < ? LIMIT ?)""",
    """DELETE FROM call_slots WHERE (minutes, slot, app_id, entry_point, release_id, environment, outcome, kind, target, below_ms) IN (
      SELECT minutes, slot, app_id, entry_point, release_id, environment, outcome, kind, target, below_ms FROM call_slots
      WHERE minutes = 5 AND slot < ? LIMIT ?)""",
    """DELETE FROM warning_slots WHERE (minutes, slot, app_id, logger, release_id, environment) IN (
      SELECT minutes, slot, app_id, logger, release_id, environment FROM warning_slots WHERE minutes = 5 AND slot < ? LIMIT ?)""",
    """DELETE FROM link_slots WHERE (minutes, slot, caller_id, app_id, environment, below_ms) IN (
      SELECT minutes, slot, caller_id, app_id, environment, below_ms FROM link_slots WHERE minutes = 5 AND slot < ? LIMIT ?)""",
    """DELETE FROM failure_slots WHERE (slot, app_id, release_id, environment) IN (
      SELECT slot, app_id, release_id, environment FROM failure_slots WHERE slot < ? LIMIT ?)""",
)


@dataclass(frozen=True, slots=True)
class Slots:
    """A window in whole slots: of five minutes, or of an hour where it begins earlier."""

    minutes: int
    first: int
    end: int

    @property
    def slot_ms(self) -> int:
        """How long one is."""
        return self.minutes * MINUTE_MS

    @property
    def window(self) -> tuple[int, int]:
        """Their span."""
        return self.first * self.slot_ms, self.end * self.slot_ms

    def before(self) -> Slots:
        """Return the same number of slots just before."""
        return Slots(self.minutes, self.first - (self.end - self.first), self.first)


def slots_of(window: Window, now_ms: int) -> Slots:
    """Return the slots of a window."""
    length_ms = window.to_ms - window.from_ms
    # The window before has to be counted by five minutes, too.
    minutes = 5 if now_ms - window.from_ms + length_ms <= SHORT_MS else 60
    slot_ms = minutes * MINUTE_MS
    return Slots(minutes, window.from_ms // slot_ms, -(-window.to_ms // slot_ms))


@dataclass(slots=True)
class Point:
    """An entry point of an app in a window: outcomes and durations of its runs."""

    app: str
    entry_point: str
    runs: int = 0
    failed: int = 0
    refused: int = 0
    durations: Counter[float] = field(default_factory=Counter)
    """Runs by the end of their bucket, 0 beyond all."""

    def below_ms(self, share: float) -> float | None:
        """Return the end of the bucket below which this share of runs lies; None without runs, or beyond all buckets."""
        return below_share(self.durations, share)


@dataclass(slots=True)
class SlotCounts:
    """The counts of some slots."""

    runs: int = 0
    failed: int = 0
    failures: int = 0
    runs_by_slot: dict[int, int] = field(default_factory=dict)
    failed_by_slot: dict[int, int] = field(default_factory=dict)
    failures_by_slot: dict[int, int] = field(default_factory=dict)
    points: dict[tuple[str, str], Point] = field(default_factory=dict)
    statuses: Counter[int] = field(default_factory=Counter)
    by_issue: dict[int, int] = field(default_factory=dict)


def narrowed_to(slots: Slots, window: Window) -> tuple[str, dict[str, Any]]:
    """Return the conditions of a window on slots, and all parameters of the statements."""
    from_ms, to_ms = slots.window
    params: dict[str, Any] = {
        "minutes": slots.minutes, "first": slots.first, "end": slots.end, "from_ms": from_ms, "to_ms": to_ms, "slot_ms": slots.slot_ms,
        "app": window.app, "environment": window.environment, "release": window.release,
    }  # fmt: skip
    return "".join(sql for name, sql in NARROWED.items() if params[name] is not None), params


def seen(reader: Reader, slots: Slots, window: Window) -> SlotCounts:
    """Return the counts of slots; ``window`` selects app, environment and release."""
    from_ms, to_ms = slots.window
    narrowed, params = narrowed_to(slots, window)
    counts = SlotCounts()
    for slot in reader.all(RunsInSlot, _RUNS_BY_SLOT.format(narrowed=narrowed), params):
        counts.runs_by_slot[slot.slot], counts.failed_by_slot[slot.slot] = slot.runs, slot.failed
    for row in reader.all(RunsAlike, _RUNS_ALIKE.format(narrowed=narrowed), params):
        point = counts.points.setdefault((row.app, row.entry_point), Point(row.app, row.entry_point))
        point.runs += row.runs
        point.failed += row.runs * (row.outcome == "failed")
        point.refused += row.runs * (row.outcome == "refused")
        if row.below_ms >= 0:
            point.durations[row.below_ms] += row.runs
        if row.status:
            counts.statuses[row.status] += row.runs
        counts.runs += row.runs
        counts.failed += row.runs * (row.outcome == "failed")
    by_slot = _FAILURES_BY_SLOT if slots.minutes == 5 else _FAILURES_BY_HOUR
    of_issues = narrowed if slots.minutes == 5 else narrowed.replace(NARROWED["app"], _OF_APP)
    for failed in reader.all(FailuresInSlot, by_slot.format(narrowed=of_issues), params):
        counts.failures_by_slot[failed.slot] = failed.failures
    inside = counted(reader, Window(from_ms, to_ms, window.app, window.environment, window.release))
    counts.by_issue = dict(reader.all(IssueCount, _BY_ISSUE.format(parts=inside.sql), inside.params))
    return counts


def warning_loggers(reader: Reader, slots: Slots, window: Window, most: int) -> list[NamedCount]:
    """Return the loggers with most records of WARN and worse in slots."""
    narrowed, params = narrowed_to(slots, window)
    return reader.all(NamedCount, _WARNINGS.format(narrowed=narrowed), params | {"most": most})


def issues_named(reader: Reader, numbers: list[int], app: str | None) -> dict[int, IssueNow]:
    """Return issues by number, of one app or all."""
    found = reader.all(IssueNow, _ISSUES, (json.dumps(numbers),))
    return {row.id: row for row in found if app is None or row.app == app}


def regressed_in(reader: Reader, from_ms: int, to_ms: int) -> set[int]:
    """Return the issues that regressed inside a span."""
    return set(reader.column(int, _REGRESSED, {"from_ms": from_ms, "to_ms": to_ms}))


def prune(connection: sqlite3.Connection, now_ms: int) -> int:
    """Remove slots of five minutes that are no longer needed; return how many: at most some thousands at a time."""
    before = (now_ms - SLOTS_KEPT_MS) // (5 * MINUTE_MS)
    return sum(connection.execute(sql, (before, MOST_REMOVED)).rowcount for sql in _OLD)
