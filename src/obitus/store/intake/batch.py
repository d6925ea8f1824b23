"""State shared by the reports of one batch: the files of their days, and counts that are written once for all of them."""

from __future__ import annotations

import sqlite3
from collections import Counter
from typing import Any, Final

from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.core.days import day_and_place, seq_of
from obitus.core.floods import SLOT_MS
from obitus.store import events, issue_users, names, releases, tracepoints
from obitus.store.calling import SLOTS_KEPT_MS, CallCounts, slots_at
from obitus.store.database import our_errors
from obitus.store.days import failures, logs, runs
from obitus.store.days.logs import LogFacts
from obitus.store.days.rows import ADD_EVIDENCE, ADD_ID, ADD_WORDS, NEW_EVIDENCE, NO_ID, PLACE_OF
from obitus.store.days.writing import DayFile, WritingDays
from obitus.store.floods import Crowd
from obitus.store.intake.facts import Prepared
from obitus.store.intake.met import MetIssues
from obitus.store.names import OTHERS
from obitus.store.parking import ParkedIssues

_COUNT_BY_HOUR = """
INSERT INTO issue_counts (issue_id, release_id, environment, hour, failures) VALUES (?, ?, ?, ?, ?)
ON CONFLICT DO UPDATE SET failures = failures + excluded.failures"""
_COUNT_BY_DAY = """
INSERT INTO issue_days (issue_id, release_id, environment, day, failures) VALUES (?, ?, ?, ?, ?)
ON CONFLICT DO UPDATE SET failures = failures + excluded.failures"""
_COUNT_BY_USER = """
INSERT INTO issue_users (issue_id, user_id, failures) VALUES (?, ?, ?)
ON CONFLICT DO UPDATE SET failures = failures + excluded.failures RETURNING failures"""
_USERS = "SELECT users FROM issues WHERE id = ?"
_SET_USERS = "UPDATE issues SET users = ? WHERE id = ?"
_NO_USER = "DELETE FROM issue_users WHERE issue_id = ? AND user_id = ?"
_COUNT_OF_RELEASE = """
INSERT INTO release_hours (release_id, environment, hour, runs, failed, failures) VALUES (?, ?, ?, 0, 0, ?)
ON CONFLICT DO UPDATE SET failures = failures + excluded.failures"""
_COUNT_BY_SLOT = """
INSERT INTO failure_slots (slot, app_id, release_id, environment, failures) VALUES (?, ?, ?, ?, ?)
ON CONFLICT DO UPDATE SET failures = failures + excluded.failures"""
_COUNT_WARNINGS = """
INSERT INTO warning_slots (minutes, slot, app_id, logger, release_id, environment, records) VALUES (?, ?, ?, ?, ?, ?, ?)
ON CONFLICT DO UPDATE SET records = records + excluded.records"""
_COUNT_SAID = """
INSERT INTO warned_hours (app_id, hour, said, release_id, environment, records) VALUES (?, ?, ?, ?, ?, ?)
ON CONFLICT DO UPDATE SET records = records + excluded.records"""
_DUE = "INSERT INTO rates_due (release_id, environment, batches) VALUES (?, ?, 1) ON CONFLICT DO UPDATE SET batches = batches + 1"
_HEARD_OF = """
UPDATE apps SET first_report_ms = MIN(COALESCE(first_report_ms, :first_ms), :first_ms),
  last_report_ms = MAX(COALESCE(last_report_ms, :last_ms), :last_ms) WHERE id = :app_id"""
_ADD_ROWS: Final = (ADD_EVIDENCE, logs.ADD, runs.ADD, failures.ADD, ADD_WORDS)


class Batch:
    """State and work shared by the reports of one batch."""

    def __init__(self, connection: sqlite3.Connection, days: WritingDays) -> None:
        self.connection, self._days = connection, days
        self._came: dict[tuple[int, str, str], tuple[releases.ReleaseOfReport, int]] = {}
        self._rows: dict[DayFile, tuple[list[Any], list[Any], list[Any], list[Any], list[Any]]] = {}
        self._heard: dict[int, tuple[int, int]] = {}
        self._due: set[tuple[int, str]] = set()
        self._hours: Counter[tuple[int, int, str, int]] = Counter()
        self._days_of_issues: Counter[tuple[int, int, str, int]] = Counter()
        self._hours_of_releases: Counter[tuple[int, str, int]] = Counter()
        self._slots: Counter[tuple[int, int, int, str]] = Counter()
        self._users: Counter[tuple[int, str]] = Counter()
        self._warnings: Counter[tuple[int, int, int, str, int, str]] = Counter()
        self._said: Counter[tuple[int, int, str, int, str]] = Counter()
        self._names: dict[tuple[int, str, str], str] = {}
        self._hits: dict[tuple[int, int], tuple[int, int]] = {}
        """By app and tracepoint: how many, and when the latest was."""
        self.calls = CallCounts(connection)
        self.met = MetIssues(connection)
        self.parked = ParkedIssues(connection)
        self.crowd = Crowd(connection, days)

    def release_of(self, report: Prepared) -> releases.ReleaseOfReport:
        """Return the release of a report, which is added if it was not known."""
        key = (report.app_id, report.release, report.environment)
        release_known = self._came.get(key)
        # A later report of the same release does not change when that was first seen.
        if release_known is not None and report.time_ms >= release_known[1]:
            return release_known[0]
        release = releases.come(self.connection, report.app_id, report.release, report.time_ms)
        if report.release and not release.beyond:
            if release.new:
                releases.bind_next(self.connection, report.app_id, report.release, report.received_ms)
                events.add(
                    self.connection, "release-seen", report.received_ms, app_id=report.app_id, release=report.release
                )
            releases.infer_deploy(self.connection, report.app_id, release.id, report.environment, report.time_ms)
        self._came[key] = (release, report.time_ms)
        return release

    def number(self, report: Prepared, release_id: int) -> tuple[int, bool]:
        """Give a report its number; return it, and whether the report is new."""
        file = self._days.at(report.day)
        try:
            if not file.connection.execute(ADD_ID, (report.id, report.app_id, file.next_place)).rowcount:
                place = int(file.connection.execute(PLACE_OF, (report.id, report.app_id)).fetchone()[0])
                return seq_of(file.day, place), False
            place = file.take_place(report.time_ms)
        except sqlite3.Error:
            # Name the file; done here, where it costs the good ones nothing.
            with our_errors(file.path):
                raise
        if report.release and report.kind in ("failure", "tally"):
            self._due.add((release_id, report.environment))
        first_ms, last_ms = self._heard.get(report.app_id, (report.received_ms, report.received_ms))
        self._heard[report.app_id] = (min(first_ms, report.received_ms), max(last_ms, report.received_ms))
        return seq_of(file.day, place), True

    def give_back(self, report: Prepared, seq: int) -> None:
        """Undo a report; its number is not reused."""
        file = self._days.at(day_and_place(seq)[0])
        with our_errors(file.path):
            file.connection.execute(NO_ID, (report.id, report.app_id))
        file.added -= 1

    def add_rows(self, seq: int, report: Prepared, release_id: int) -> None:
        """Keep a report whole, in the file of its day."""
        day, place = day_and_place(seq)
        file = self._days.at(day)
        try:
            self._add_rows(file, place, report, release_id)
        except sqlite3.Error:
            with our_errors(file.path):
                raise

    def _add_rows(self, file: DayFile, place: int, report: Prepared, release_id: int) -> None:
        evidence, log_rows, run_rows, failure_rows, words = self._rows.setdefault(file, ([], [], [], [], []))
        if report.body:
            evidence.append((place, report.app_id, report.kind, report.dictionary_id, report.body))
        before = (place, report.time_ms, report.received_ms - report.time_ms, report.app_id, release_id)
        if report.log is not None:
            log_rows.append((*before, *logs.columns(report.log, file.texts, report.environment)))
            words.append((place, report.log.indexed))
        elif report.run is not None:
            run_rows.append((*before, *runs.columns(report.run, file.texts, report.environment)))
            words.append((place, report.run.indexed))
        elif report.failure is not None:
            failure_rows.append((*before, *failures.columns(report.failure.row, file.texts, report.environment)))
            words.append((place, report.failure.row.indexed))

    def count(self, report: Prepared, issue_id: int, release_id: int, user_id: str | None, failures: int = 1) -> None:
        """Count one or several failures; equal counts of a batch are written once at its end."""
        environment, time_ms = report.environment, report.time_ms
        hour = time_ms // HOUR_MS
        self._hours[issue_id, release_id, environment, hour] += failures
        self._days_of_issues[issue_id, release_id, environment, time_ms // DAY_MS] += failures
        self._hours_of_releases[release_id, environment, hour] += failures
        if report.received_ms - time_ms < SLOTS_KEPT_MS:
            self._slots[time_ms // SLOT_MS, report.app_id, release_id, environment] += failures
        if user_id is not None:
            self._users[issue_id, user_id] += failures

    def warn(self, report: Prepared, log: LogFacts, release_id: int) -> None:
        """Count one warning."""
        logger = self._name(report.app_id, "logger", log.logger)
        for minutes, slot in slots_at(report.time_ms, report.received_ms):
            self._warnings[minutes, slot, report.app_id, logger, release_id, report.environment] += 1
        text_id = self._name(report.app_id, "said", log.warns)
        self._said[report.app_id, report.time_ms // HOUR_MS, text_id, release_id, report.environment] += 1

    def hit(self, report: Prepared, tracepoint: int) -> None:
        """Count one hit of a tracepoint."""
        count, latest_ms = self._hits.get((report.app_id, tracepoint), (0, 0))
        self._hits[report.app_id, tracepoint] = (count + 1, max(latest_ms, report.time_ms))

    def _name(self, app_id: int, kind: str, name: str) -> str:
        key = (app_id, kind, name)
        if key not in self._names:
            self._names[key] = names.target(self.connection, app_id, kind, name)
        return self._names[key]

    def _write_counts(self) -> None:
        self.connection.executemany(_COUNT_WARNINGS, ((*key, n) for key, n in self._warnings.items()))
        self.connection.executemany(_COUNT_SAID, ((*key, n) for key, n in self._said.items()))
        for statement, counts in (
            (_COUNT_BY_HOUR, self._hours),
            (_COUNT_BY_DAY, self._days_of_issues),
            (_COUNT_OF_RELEASE, self._hours_of_releases),
            (_COUNT_BY_SLOT, self._slots),
        ):
            self.connection.executemany(statement, ((*key, count) for key, count in counts.items()))
        for (app_id, tracepoint), (count, latest_ms) in self._hits.items():
            tracepoints.count_hit(self.connection, app_id, tracepoint, count, latest_ms)
        self._write_users()

    def _write_users(self) -> None:
        users: dict[int, int] = {}
        """New numbers of users, for issues that hit somebody new."""
        for (issue_id, user_id), count in self._users.items():
            in_all = self.connection.execute(_COUNT_BY_USER, (issue_id, user_id, count)).fetchone()[0]
            if in_all != count or user_id == OTHERS:
                continue
            if issue_id not in users:
                users[issue_id] = int(self.connection.execute(_USERS, (issue_id,)).fetchone()[0])
            if users[issue_id] < issue_users.MOST_USERS:
                users[issue_id] += 1
                continue
            self.connection.execute(_NO_USER, (issue_id, user_id))
            self.connection.execute(_COUNT_BY_USER, (issue_id, OTHERS, count)).fetchone()
        self.connection.executemany(_SET_USERS, ((number, issue_id) for issue_id, number in users.items()))

    def write_rows(self) -> None:
        """Write the rows of reports, many in one statement."""
        for file, lists in self._rows.items():
            with our_errors(file.path):
                for statement, rows in zip(_ADD_ROWS, lists, strict=True):
                    file.connection.executemany(statement, rows)
        self._rows.clear()

    def grown(self, seq: int, report: Prepared) -> None:
        """Replace a tally by its new version."""
        day, place = day_and_place(seq)
        file = self._days.at(day)
        self.write_rows()
        with our_errors(file.path):
            file.connection.execute(NEW_EVIDENCE, (report.dictionary_id, report.body, place))

    def note(self) -> None:
        """Write counts, first and last times of apps, and marks for jobs that something new has come."""
        self.met.write()
        self._write_counts()
        self.crowd.write()
        self.parked.finish()
        self.calls.write()
        for release_id, environment in self._due:
            self.connection.execute(_DUE, (release_id, environment))
        for app_id, (first_ms, last_ms) in self._heard.items():
            self.connection.execute(_HEARD_OF, {"app_id": app_id, "first_ms": first_ms, "last_ms": last_ms})
