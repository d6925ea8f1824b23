"""Taking reports in: one report, one issue found or made, its counts, its state, its evidence. Runs on the writer.

What was reported goes to the file of its day, what is decided and counted to the main file; both are one commit.
"""

from __future__ import annotations

import sqlite3
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, Final, Literal, NamedTuple

from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.core.days import day_and_place, seq_of
from obitus.core.floods import SLOT_MS, Alike
from obitus.core.lifecycle import Happened, Judgement, State, judge_failure
from obitus.core.wording import ago
from obitus.store import events, names, releases, tracepoints
from obitus.store.calling import SLOTS_KEPT_MS, CallCounts, slots_at
from obitus.store.database import our_errors, typed
from obitus.store.days import failures, logs, runs
from obitus.store.days.failures import FailureRow
from obitus.store.days.logs import LogFacts
from obitus.store.days.rows import ADD_EVIDENCE, ADD_ID, ADD_WORDS, NEW_EVIDENCE, NO_ID, PLACE_OF
from obitus.store.days.runs import RunFacts
from obitus.store.days.writing import DayFile, WritingDays
from obitus.store.floods import Crowd
from obitus.store.grouping import (
    COLLECTING_TYPE,
    MOST_ISSUES,
    MOST_NEW_ISSUES,
    Decided,
    WantsWhole,
    add_fingerprint,
    find,
)
from obitus.store.issues import SETTLINGS, add_history, settling_of
from obitus.store.names import OTHERS
from obitus.store.parking import ParkedIssues
from obitus.store.rows.issues import SettledBy
from obitus.store.rows.records import GrowingTally

_ADD_ISSUE = """
INSERT INTO issues (app_id, type, cause, place, message, entry_point, state, state_ms,
                    first_ms, last_ms, first_seq, last_seq, began_in_id, failures, from_older_releases)
VALUES (:app_id, :type, :cause, :place, :message, :entry_point, 'untriaged', :received_ms,
        :time_ms, :time_ms, :seq, :seq, :release_id, 0, 0) RETURNING id"""
_STATE = "SELECT state FROM issues WHERE id = ?"
_ADD_FAILURE = """
INSERT INTO failures (seq, id, app_id, issue_id, release_id, environment, time_ms, received_ms, severity, handled, message,
                      entry_point, user_id, trace_id, verdict, from_older_release, fingerprint)
VALUES (:seq, :id, :app_id, :issue_id, :release_id, :environment, :time_ms, :received_ms, :severity, :handled, :message,
        :entry_point, :user_id, :trace_id, :verdict, :from_older_release, :fingerprint)"""
# Reports come late and in any order: what an issue shows goes by when it happened, not by when it came.
_ONE_MORE = """
UPDATE issues SET
  failures = failures + 1,
  from_older_releases = from_older_releases + :from_older_release,
  message = CASE WHEN :time_ms >= last_ms THEN :message ELSE message END,
  entry_point = CASE WHEN :time_ms >= last_ms THEN :entry_point ELSE entry_point END,
  last_seq = CASE WHEN :time_ms >= last_ms THEN :seq ELSE last_seq END,
  last_ms = MAX(last_ms, :time_ms),
  first_seq = CASE WHEN :time_ms < first_ms THEN :seq ELSE first_seq END,
  began_in_id = CASE WHEN :time_ms < first_ms THEN :release_id ELSE began_in_id END,
  first_ms = MIN(first_ms, :time_ms)
WHERE id = :issue_id"""
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
_COUNT_BY_RELEASE = """
INSERT INTO issue_releases (issue_id, release_id, environment, entry_point, failures, first_ms, last_ms)
VALUES (:issue_id, :release_id, :environment, :entry_point, 1, :time_ms, :time_ms)
ON CONFLICT DO UPDATE SET failures = failures + 1, first_ms = MIN(first_ms, excluded.first_ms),
  last_ms = MAX(last_ms, excluded.last_ms) RETURNING failures"""
_COUNT_OF_RELEASE = """
INSERT INTO release_hours (release_id, environment, hour, runs, failed, failures) VALUES (?, ?, ?, 0, 0, ?)
ON CONFLICT DO UPDATE SET failures = failures + excluded.failures"""
_POINTS = "SELECT COUNT(*) FROM issue_releases WHERE issue_id = :issue_id AND release_id = :release_id AND environment = :environment"
_UNCOUNT = """
DELETE FROM issue_releases WHERE issue_id = :issue_id AND release_id = :release_id AND environment = :environment
  AND entry_point = :entry_point"""
_SET_STATE = "UPDATE issues SET state = ?, state_ms = ? WHERE id = ?"
_COUNT_RUNS = """
INSERT INTO run_counts (app_id, release_id, environment, entry_point, outcome, hour, runs)
VALUES (:app_id, :release_id, :environment, :entry_point, :outcome, :hour, :runs)
ON CONFLICT DO UPDATE SET runs = runs + excluded.runs"""
_COUNT_RUNS_BY_RELEASE = """
INSERT INTO release_runs (release_id, environment, entry_point, ok, refused, failed)
VALUES (:release_id, :environment, :entry_point, :runs * (:outcome = 'ok'), :runs * (:outcome = 'refused'), :runs * (:outcome = 'failed'))
ON CONFLICT DO UPDATE SET ok = ok + excluded.ok, refused = refused + excluded.refused, failed = failed + excluded.failed"""
_COUNT_RUNS_BY_HOUR = """
INSERT INTO release_hours (release_id, environment, hour, runs, failed, failures)
VALUES (:release_id, :environment, :hour, :runs, :runs * (:outcome = 'failed'), 0)
ON CONFLICT DO UPDATE SET runs = runs + excluded.runs, failed = failed + excluded.failed"""
_COUNT_RUNS_BY_SLOT = """
INSERT INTO run_slots (minutes, slot, app_id, entry_point, release_id, environment, outcome, status, below_ms, runs)
VALUES (:minutes, :slot, :app_id, :entry_point, :release_id, :environment, :outcome, :status, :below_ms, :runs)
ON CONFLICT DO UPDATE SET runs = runs + excluded.runs"""
_COUNT_BY_SLOT = """
INSERT INTO failure_slots (slot, app_id, release_id, environment, failures) VALUES (?, ?, ?, ?, ?)
ON CONFLICT DO UPDATE SET failures = failures + excluded.failures"""
_COUNT_WARNINGS = """
INSERT INTO warning_slots (minutes, slot, app_id, logger, release_id, environment, records) VALUES (?, ?, ?, ?, ?, ?, ?)
ON CONFLICT DO UPDATE SET records = records + excluded.records"""
_COUNT_SAID = """
INSERT INTO warned_hours (app_id, hour, said, release_id, environment, records) VALUES (?, ?, ?, ?, ?, ?)
ON CONFLICT DO UPDATE SET records = records + excluded.records"""
_GROWS = "INSERT INTO growing_tallies (seq, app_id, release_id, environment, time_ms, runs) VALUES (?, ?, ?, ?, ?, ?)"
_GROWING = "SELECT release_id, environment, time_ms, runs FROM growing_tallies WHERE seq = ?"
_HAS_GROWN = "UPDATE growing_tallies SET runs = ? WHERE seq = ?"
_DUE = "INSERT INTO rates_due (release_id, environment, batches) VALUES (?, ?, 1) ON CONFLICT DO UPDATE SET batches = batches + 1"
_HEARD_OF = """
UPDATE apps SET first_report_ms = MIN(COALESCE(first_report_ms, :first_ms), :first_ms),
  last_report_ms = MAX(COALESCE(last_report_ms, :last_ms), :last_ms) WHERE id = :app_id"""
MOST_POINTS: Final = 100
"""How many entry points of an issue are kept apart in one release; what comes beyond is counted as ``…``."""
MOST_USERS: Final = 100_000
"""How many users of an issue are counted by name; the others are counted together as ``…``, and the number of users stays."""
_ADD_ROWS: Final = (ADD_EVIDENCE, logs.ADD, runs.ADD, failures.ADD, ADD_WORDS)
LATE_MS: Final = DAY_MS
"""From how late on a report's judgement says that it came late."""


@dataclass(frozen=True, slots=True)
class FailureFacts:
    """What the store keeps of a failure in columns, beside its evidence."""

    severity: str
    handled: bool
    type: str
    cause: str
    place: str
    message: str
    entry_point: str
    user_id: str | None
    trace_id: bytes | None
    decided: Decided
    row: FailureRow
    """What is kept of it in its day's file."""


@dataclass(frozen=True, slots=True)
class TallyFacts:
    """Counted runs of one entry point that ended with one outcome."""

    entry_point: str
    outcome: str
    runs: int
    grows: bool = False
    """Whether it may come again under its id with more runs."""
    status: int = 0
    """Of the answer, 0 where there is none."""
    below_ms: float = 0.0
    """The end of the bucket of durations, 0 beyond all of them."""


class Prepared(NamedTuple):
    """A report that was checked, redacted, fingerprinted and compressed: all that is left is to write it."""

    id: bytes
    kind: Literal["failure", "log", "run", "tally"]
    app_id: int
    environment: str
    release: str
    time_ms: int
    received_ms: int
    day: int
    """The day that it is kept under (``core.days``)."""
    body: bytes = b""
    """The whole report, compressed; empty for a log record, whose columns hold all of it."""
    dictionary_id: int | None = None
    failure: FailureFacts | None = None
    tally: TallyFacts | None = None
    log: LogFacts | None = None
    run: RunFacts | None = None
    is_wanted: bool = False
    """Whether it was asked for, to be kept whole."""

    @property
    def is_brief(self) -> bool:
        """Whether it is a failure that was not prepared, and can be counted and no more."""
        return self.failure is not None and not self.failure.decided.was_prepared


@dataclass(frozen=True, slots=True)
class Taken:
    """What became of one report."""

    already_there: bool
    issue_id: int | None = None
    new_issue: bool = False
    regressed: bool = False
    beyond: bool = False
    """Whether its release is not kept apart, since the app has too many."""
    hit_of: int = 0
    """The tracepoint that it is a new hit of; 0 for none."""
    among_others: bool = False
    """Whether its entry point is not kept apart, since the app has too many."""
    only_counted: bool = False
    """Whether it was counted and not kept whole, since its issue fails so often."""
    wants_whole: bool = False
    """Whether nothing was done, since it was not prepared and is to be kept whole."""


def take(connection: sqlite3.Connection, days: WritingDays, reports: Sequence[Prepared]) -> list[Taken]:
    """Write reports in the caller's transaction.

    A report that is already there changes nothing, but for a tally that has grown: what is new of it is counted.
    """
    batch = _Batch(connection, days)
    taken = [_take_one(batch, report) for report in reports]
    batch.write_rows()
    batch.note()
    return taken


class _Batch:
    """What the reports of one batch have in common, done once for all of them."""

    def __init__(self, connection: sqlite3.Connection, days: WritingDays) -> None:
        self.connection, self._days = connection, days
        self._came: dict[tuple[int, str, str], tuple[releases.Found, int]] = {}
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
        self.parked = ParkedIssues(connection)
        self.crowd = Crowd(connection, days)

    def release_of(self, report: Prepared) -> releases.Found:
        """Return the release of a report, which has come with it if it was not known."""
        key = (report.app_id, report.release, report.environment)
        known = self._came.get(key)
        # One that is later than another of the same release changes nothing about when that first came.
        if known is not None and report.time_ms >= known[1]:
            return known[0]
        found = releases.come(self.connection, report.app_id, report.release, report.time_ms)
        if report.release and not found.beyond:
            if found.new:
                releases.bind_next(self.connection, report.app_id, report.release, report.received_ms)
                events.add(
                    self.connection, "release-seen", report.received_ms, app_id=report.app_id, release=report.release
                )
            releases.infer_deploy(self.connection, report.app_id, found.id, report.environment, report.time_ms)
        self._came[key] = (found, report.time_ms)
        return found

    def number(self, report: Prepared, release_id: int) -> tuple[int, bool]:
        """Give a report its number; return it, and whether the report is new."""
        file = self._days.at(report.day)
        try:
            if not file.connection.execute(ADD_ID, (report.id, report.app_id, file.next_place)).rowcount:
                place = int(file.connection.execute(PLACE_OF, (report.id, report.app_id)).fetchone()[0])
                return seq_of(file.day, place), False
            place = file.take_place(report.time_ms)
        except sqlite3.Error:
            # Which file it was; said here, where it costs the good ones nothing.
            with our_errors(file.path):
                raise
        if report.release and report.kind in ("failure", "tally"):
            self._due.add((release_id, report.environment))
        first_ms, last_ms = self._heard.get(report.app_id, (report.received_ms, report.received_ms))
        self._heard[report.app_id] = (min(first_ms, report.received_ms), max(last_ms, report.received_ms))
        return seq_of(file.day, place), True

    def give_back(self, report: Prepared, seq: int) -> None:
        """Let a report not have come; its number is given to no other."""
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

    def count(self, report: Prepared, issue_id: int, release_id: int, user_id: str | None) -> None:
        """Count one failure; what is alike in a batch is written at its end, once."""
        environment, time_ms = report.environment, report.time_ms
        hour = time_ms // HOUR_MS
        self._hours[issue_id, release_id, environment, hour] += 1
        self._days_of_issues[issue_id, release_id, environment, time_ms // DAY_MS] += 1
        self._hours_of_releases[release_id, environment, hour] += 1
        if report.received_ms - time_ms < SLOTS_KEPT_MS:
            self._slots[time_ms // SLOT_MS, report.app_id, release_id, environment] += 1
        if user_id is not None:
            self._users[issue_id, user_id] += 1

    def warn(self, report: Prepared, log: LogFacts, release_id: int) -> None:
        """Count one log record that warns."""
        logger = self._name(report.app_id, "logger", log.logger)
        for minutes, slot in slots_at(report.time_ms, report.received_ms):
            self._warnings[minutes, slot, report.app_id, logger, release_id, report.environment] += 1
        said = self._name(report.app_id, "said", log.warns)
        self._said[report.app_id, report.time_ms // HOUR_MS, said, release_id, report.environment] += 1

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
        """Of the issues that met somebody new, how many they have."""
        for (issue_id, user_id), count in self._users.items():
            in_all = self.connection.execute(_COUNT_BY_USER, (issue_id, user_id, count)).fetchone()[0]
            if in_all != count or user_id == OTHERS:
                continue
            if issue_id not in users:
                users[issue_id] = int(self.connection.execute(_USERS, (issue_id,)).fetchone()[0])
            if users[issue_id] < MOST_USERS:
                users[issue_id] += 1
                continue
            self.connection.execute(_NO_USER, (issue_id, user_id))
            self.connection.execute(_COUNT_BY_USER, (issue_id, OTHERS, count)).fetchone()
        self.connection.executemany(_SET_USERS, ((number, issue_id) for issue_id, number in users.items()))

    def write_rows(self) -> None:
        """Write what was reported, many rows in one statement."""
        for file, lists in self._rows.items():
            with our_errors(file.path):
                for statement, rows in zip(_ADD_ROWS, lists, strict=True):
                    file.connection.executemany(statement, rows)
        self._rows.clear()

    def grown(self, seq: int, report: Prepared) -> None:
        """Keep a tally as it was sent again, instead of as it was."""
        day, place = day_and_place(seq)
        file = self._days.at(day)
        self.write_rows()
        with our_errors(file.path):
            file.connection.execute(NEW_EVIDENCE, (report.dictionary_id, report.body, place))

    def note(self) -> None:
        """Count what came, and say when the apps were heard of first and last, and from where there is something new to look at."""
        self._write_counts()
        self.crowd.write()
        self.parked.finish()
        self.calls.write()
        for release_id, environment in self._due:
            self.connection.execute(_DUE, (release_id, environment))
        for app_id, (first_ms, last_ms) in self._heard.items():
            self.connection.execute(_HEARD_OF, {"app_id": app_id, "first_ms": first_ms, "last_ms": last_ms})


def _take_one(batch: _Batch, report: Prepared) -> Taken:
    release = batch.release_of(report)
    seq, is_new = batch.number(report, release.id)
    if not is_new:
        return Taken(already_there=not _has_grown(batch, seq, report))
    if report.failure is not None:
        try:
            taken = _add_failure(batch, report, report.failure, seq, release.id)
        except WantsWhole:
            batch.give_back(report, seq)
            return Taken(already_there=False, wants_whole=True)
        return replace(taken, beyond=release.beyond)
    batch.add_rows(seq, report, release.id)
    if report.tally is not None:
        place = (release.id, report.environment, report.time_ms)
        counted = _count_runs(batch.connection, report, report.tally.runs, place)
        if report.tally.grows:
            batch.connection.execute(_GROWS, (seq, report.app_id, *place, report.tally.runs))
        return Taken(already_there=False, beyond=release.beyond, among_others=counted == OTHERS)
    hit_of = 0
    if report.log is not None:
        if report.log.warns:
            batch.warn(report, report.log, release.id)
        hit_of = report.log.tracepoint
        if hit_of:
            batch.hit(report, hit_of)
    if report.run is not None:
        batch.calls.add(report.run, report.app_id, release.id, report.environment, report.time_ms, report.received_ms)
    return Taken(already_there=False, beyond=release.beyond, hit_of=hit_of)


def _has_grown(batch: _Batch, seq: int, report: Prepared) -> bool:
    """Count what is new of a tally that is there already; return whether anything is."""
    if report.tally is None or not report.tally.grows:
        return False
    tallies = typed(batch.connection.execute(_GROWING, (seq,)), GrowingTally)
    if not tallies or tallies[0].runs >= report.tally.runs:
        return False
    tally = tallies[0]
    # What is new counts where the tally began: a process that goes on into the next hour moves no runs there.
    place = (tally.release_id, tally.environment, tally.time_ms)
    _count_runs(batch.connection, report, report.tally.runs - tally.runs, place)
    batch.connection.execute(_HAS_GROWN, (report.tally.runs, seq))
    batch.grown(seq, report)
    return True


def _count_runs(connection: sqlite3.Connection, report: Prepared, runs: int, place: tuple[int, str, int]) -> str:
    """Count runs of a tally in a release, an environment and the hour of a time; return the name they are counted by."""
    assert report.tally is not None
    release_id, environment, time_ms = place
    entry_point = names.entry_point(connection, report.app_id, report.tally.entry_point)
    values = {
        "app_id": report.app_id,
        "release_id": release_id,
        "environment": environment,
        "entry_point": entry_point,
        "outcome": report.tally.outcome,
        "hour": time_ms // HOUR_MS,
        "runs": runs,
    }
    for statement in (_COUNT_RUNS, _COUNT_RUNS_BY_RELEASE, _COUNT_RUNS_BY_HOUR):
        connection.execute(statement, values)
    values |= {"status": report.tally.status, "below_ms": report.tally.below_ms}
    for minutes, slot in slots_at(time_ms, report.received_ms):
        connection.execute(_COUNT_RUNS_BY_SLOT, values | {"minutes": minutes, "slot": slot})
    return entry_point


def _add_failure(batch: _Batch, report: Prepared, facts: FailureFacts, seq: int, release_id: int) -> Taken:
    connection = batch.connection
    values = {
        "id": report.id,
        "app_id": report.app_id,
        "seq": seq,
        "release_id": release_id,
        "environment": report.environment,
        "time_ms": report.time_ms,
        "received_ms": report.received_ms,
        "severity": facts.severity,
        "handled": int(facts.handled),
        "type": facts.type,
        "cause": facts.cause,
        "place": facts.place,
        "message": facts.message,
        "entry_point": facts.entry_point,
        "user_id": facts.user_id,
        "trace_id": facts.trace_id,
        "verdict": "",
        "from_older_release": 0,
    }
    found = find(connection, report.app_id, facts.decided, report.received_ms)
    new_issue = found.issue_id is None
    if found.issue_id is not None:
        issue_id = found.issue_id
    else:
        collecting = {"type": COLLECTING_TYPE, "cause": "", "place": ""} if found.collecting else {}
        issue_id = int(connection.execute(_ADD_ISSUE, values | collecting).fetchone()[0])
        reason = f"First seen in {report.release or 'a release without a name'}, {report.environment}."
        if found.collecting:
            reason = (
                f"The app brought more than {MOST_NEW_ISSUES} new issues in one minute, or has {MOST_ISSUES:,} of them; "
                "what came beyond is collected here. A grouping rule can put it in order."
            )
        add_history(connection, issue_id, (None, "untriaged"), reason, report.time_ms, failure=(seq, release_id))
        events.add(connection, "issue-new", report.received_ms, app_id=report.app_id, issue=issue_id)
    if not found.known:
        add_fingerprint(connection, report.app_id, issue_id, facts.decided, found)
        batch.parked.met_elsewhere(report.app_id, found.fingerprint, report.received_ms)
    values["fingerprint"] = found.fingerprint
    values["issue_id"] = issue_id
    issue = connection.execute(_STATE, (issue_id,)).fetchone()
    state: State = issue["state"]
    judged = _judge(connection, report, issue_id, state)
    alike = Alike(
        issue_id,
        found.fingerprint,
        release_id,
        report.environment,
        facts.entry_point,
        facts.row.type,
        facts.severity,
        facts.handled,
        judged.from_older_release,
        day_and_place(seq)[0],
    )
    may_be_counted = found.known and not report.is_wanted
    standing = batch.crowd.standing(alike, report.time_ms, report.received_ms) if may_be_counted else None
    is_counted = standing is not None and not judged.changed
    if report.is_brief and not is_counted:
        raise WantsWhole
    # Before the failure is written: it must not count itself among what the issue has met.
    if state == "parked":
        release = (release_id, report.release)
        named = standing if standing is not None and is_counted else seq
        batch.parked.failed(issue_id, release, report.environment, report.time_ms, report.received_ms, named)
    if standing is not None and is_counted:
        batch.count(report, issue_id, release_id, facts.user_id)
        batch.crowd.add(standing, alike, report.time_ms, facts.user_id)
        return Taken(already_there=False, issue_id=issue_id, only_counted=True)
    batch.add_rows(seq, report, release_id)
    batch.crowd.kept(alike, seq, report.time_ms)
    if judged.changed or judged.from_older_release:
        values["verdict"] = judged.reason
        values["from_older_release"] = int(judged.from_older_release)
    connection.execute(_ADD_FAILURE, values)
    connection.execute(_ONE_MORE, values)
    batch.count(report, issue_id, release_id, facts.user_id)
    _count_by_release(connection, values)
    if judged.changed:
        connection.execute(_SET_STATE, (judged.state, report.received_ms, issue_id))
        failure = (seq, release_id)
        add_history(connection, issue_id, (state, judged.state), judged.reason, report.received_ms, failure=failure)
        events.add(connection, "issue-regressed", report.received_ms, app_id=report.app_id, issue=issue_id)
    return Taken(already_there=False, issue_id=issue_id, new_issue=new_issue, regressed=judged.changed)


def _judge(connection: sqlite3.Connection, report: Prepared, issue_id: int, state: State) -> Judgement:
    if state != "settled":
        return Judgement(state, from_older_release=False, changed=False, reason="")
    settlings = [settling_of(row) for row in typed(connection.execute(SETTLINGS, (issue_id,)), SettledBy)]
    happened = Happened(report.release or None, report.environment, report.time_ms)
    judged = judge_failure(state, settlings, happened, releases.StoredOrder(connection, report.app_id))
    if judged.changed and report.received_ms - report.time_ms > LATE_MS:
        late = f" It happened {ago(report.time_ms, report.received_ms)}, and was reported only now."
        judged = replace(judged, reason=judged.reason + late)
    return judged


def _count_by_release(connection: sqlite3.Connection, values: dict[str, object]) -> None:
    # Nearly every failure finds its row. So it is counted first, and only a row that is new is looked at for being one too many.
    counted = connection.execute(_COUNT_BY_RELEASE, values).fetchone()[0]
    if counted == 1 and connection.execute(_POINTS, values).fetchone()[0] > MOST_POINTS:
        connection.execute(_UNCOUNT, values)
        connection.execute(_COUNT_BY_RELEASE, values | {"entry_point": OTHERS}).fetchone()
