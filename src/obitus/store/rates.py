"""Failures and runs by release, from rollups only: the time of a query does not grow with the number of reports."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Sequence
from typing import Final

from obitus.core.comparing import RateRegression
from obitus.store import events
from obitus.store.database import Reader, typed
from obitus.store.rows.issues import IssueName
from obitus.store.rows.rates import (
    CountInRelease,
    DueRate,
    FailuresInHour,
    HourOfRelease,
    IssueAtPoint,
    IssueInHours,
    IssueInRelease,
    OpenRateRegression,
    PointInRelease,
    RateRegressionRow,
    ReleaseSums,
    RunsInHour,
    RunsInRelease,
)

MOST_RATE_REGRESSIONS: Final = 200

_POINTS_OF_ISSUE = "SELECT DISTINCT entry_point FROM issue_releases WHERE issue_id = ? AND entry_point NOT IN ('', '…')"
_ISSUE_BY_RELEASE = """
SELECT ir.release_id, r.version, ir.environment, SUM(ir.failures) AS failures, MIN(ir.first_ms) AS first_ms, MAX(ir.last_ms) AS last_ms
FROM issue_releases ir JOIN releases r ON r.id = ir.release_id WHERE ir.issue_id = ? GROUP BY ir.release_id, ir.environment"""
_RUNS_ON = """
SELECT release_id, environment, SUM(ok + refused + failed) AS runs FROM release_runs
WHERE entry_point IN (SELECT value FROM json_each(:points)) AND release_id IN (SELECT value FROM json_each(:releases))
GROUP BY release_id, environment"""
_RUNS = """
SELECT release_id, environment, SUM(runs) AS runs, SUM(failed) AS failed, SUM(failures) AS failures,
  MIN(CASE WHEN runs > 0 THEN hour END) AS first_hour, MAX(CASE WHEN runs > 0 THEN hour END) AS last_hour
FROM release_hours WHERE release_id IN (SELECT value FROM json_each(?)) GROUP BY release_id, environment"""
_NEW_ISSUES = """
SELECT began_in_id AS release_id, COUNT(*) AS n FROM issues
WHERE began_in_id IN (SELECT value FROM json_each(?)) AND merged_into IS NULL AND failures > 0 GROUP BY began_in_id"""
_REGRESSED = """
SELECT release_id, COUNT(DISTINCT issue_id) AS n FROM issue_history
WHERE to_state = 'regressed' AND release_id IN (SELECT value FROM json_each(?)) GROUP BY release_id"""
_REGRESSED_IN = "SELECT DISTINCT issue_id FROM issue_history WHERE to_state = 'regressed' AND release_id = ?"
_RATE_REGRESSIONS_IN = """
SELECT release_id, COUNT(*) AS n FROM rate_regressions
WHERE ended_ms IS NULL AND sure AND release_id IN (SELECT value FROM json_each(?)) GROUP BY release_id"""
_ISSUES_OF = """
SELECT issue_id, release_id, entry_point, SUM(failures) AS failures FROM issue_releases
WHERE release_id IN (SELECT value FROM json_each(:releases)) AND (:environment IS NULL OR environment = :environment)
GROUP BY issue_id, release_id, entry_point"""
_POINTS_OF = """
SELECT entry_point, release_id, SUM(ok + refused + failed) AS runs, SUM(failed) AS failed, SUM(refused) AS refused FROM release_runs
WHERE release_id IN (SELECT value FROM json_each(:releases)) AND (:environment IS NULL OR environment = :environment)
GROUP BY entry_point, release_id"""
_HOURS_OF = """
SELECT hour, SUM(runs) AS runs, SUM(failed) AS failed FROM release_hours
WHERE runs > 0 AND release_id = :release AND (:environment IS NULL OR environment = :environment) GROUP BY hour ORDER BY hour"""
# Without the hints the planner uses the index by hour alone, which has all releases of all apps.
_ISSUES_IN_HOURS = """
SELECT c.issue_id, c.release_id, SUM(c.failures) AS failures FROM json_each(:hours) h
JOIN issue_counts c INDEXED BY issue_counts_by_release ON c.release_id IN (:before, :now) AND c.hour = h.value
WHERE :environment IS NULL OR c.environment = :environment GROUP BY c.issue_id, c.release_id"""
_POINTS_IN_HOURS = """
SELECT c.entry_point, c.release_id, SUM(c.runs) AS runs, SUM(c.runs * (c.outcome = 'failed')) AS failed,
  SUM(c.runs * (c.outcome = 'refused')) AS refused FROM json_each(:hours) h
JOIN run_counts c INDEXED BY run_counts_by_release ON c.release_id IN (:before, :now) AND c.hour = h.value
WHERE :environment IS NULL OR c.environment = :environment GROUP BY c.entry_point, c.release_id"""
_RUNS_SINCE = """
SELECT hour, SUM(runs) AS runs FROM run_counts
WHERE app_id = :app_id AND entry_point IN (SELECT value FROM json_each(:points)) AND hour >= :hour
  AND (:environment IS NULL OR environment = :environment)
  AND (:releases IS NULL OR release_id IN (SELECT value FROM json_each(:releases))) GROUP BY hour"""
_HOURS_SINCE = """
SELECT h.hour, SUM(h.runs) AS runs FROM release_hours h JOIN releases r ON r.id = h.release_id
WHERE r.app_id = :app_id AND h.hour >= :hour AND (:environment IS NULL OR h.environment = :environment)
  AND (:releases IS NULL OR h.release_id IN (SELECT value FROM json_each(:releases))) GROUP BY h.hour"""
_FAILURES_BY_HOUR = """
SELECT hour, SUM(failures) AS failures FROM issue_counts WHERE issue_id = :issue_id
  AND (:environment IS NULL OR environment = :environment) GROUP BY hour"""
_FAILURES_FROM = """
SELECT COALESCE(SUM(stands_for), 0) AS n FROM failures WHERE issue_id = :issue_id AND time_ms >= :from_ms AND time_ms < :to_ms
  AND (:environment IS NULL OR environment = :environment)"""
_TITLES = """
SELECT issues.id, issues.type, issues.cause, issues.place, issues.state, issues.began_in_id, issues.first_ms, issues.last_ms,
  issues.merged_into, issues.entry_point
FROM issues WHERE issues.id IN (SELECT value FROM json_each(?))"""
_FIRST_OF = """
SELECT id FROM issues WHERE began_in_id = ? AND merged_into IS NULL AND failures > 0 ORDER BY first_ms, id LIMIT ?"""
_OPEN_RATE_REGRESSIONS = """
SELECT id, issue_id, entry_point FROM rate_regressions WHERE release_id = ? AND environment = ? AND ended_ms IS NULL"""
_ADD_RATE_REGRESSION = """
INSERT INTO rate_regressions (release_id, environment, issue_id, entry_point, against, before_failures, before_runs, failures, runs,
                        chance, sure, reason, found_ms)
VALUES (:release_id, :environment, :issue_id, :entry_point, :against, :before_failures, :before_runs, :failures, :runs,
        :chance, :sure, :reason, :now_ms)
ON CONFLICT (release_id, environment, issue_id, entry_point) WHERE ended_ms IS NULL DO UPDATE SET against = excluded.against,
  before_failures = excluded.before_failures, before_runs = excluded.before_runs, failures = excluded.failures,
  runs = excluded.runs, chance = excluded.chance, sure = excluded.sure, reason = excluded.reason"""
_END_RATE_REGRESSION = "UPDATE rate_regressions SET ended_ms = ? WHERE id = ?"
_RATE_REGRESSION_COLUMNS = """
SELECT s.id, s.issue_id, s.entry_point, s.environment, s.against, s.before_failures, s.before_runs, s.failures, s.runs, s.chance,
  s.sure, s.reason, s.found_ms, s.ended_ms, r.version FROM rate_regressions s JOIN releases r ON r.id = s.release_id"""
_RATE_REGRESSIONS_OF_ISSUE = (
    f"{_RATE_REGRESSION_COLUMNS} WHERE s.issue_id = ? AND s.ended_ms IS NULL ORDER BY s.id DESC LIMIT 20"
)
_RATE_REGRESSIONS_OF_RELEASE = f"{_RATE_REGRESSION_COLUMNS} WHERE s.release_id = ? AND s.ended_ms IS NULL ORDER BY s.sure DESC, s.chance LIMIT {MOST_RATE_REGRESSIONS}"

_DUE = """
SELECT r.app_id, d.release_id, r.version, d.environment, d.batches FROM rates_due d JOIN releases r ON r.id = d.release_id
ORDER BY r.app_id, r.version, d.environment"""
_LOOKED_AT = "DELETE FROM rates_due WHERE release_id = ? AND environment = ? AND batches = ?"


def points_of(reader: Reader, issue_id: int) -> list[str]:
    """Return the entry points of an issue."""
    return reader.column(str, _POINTS_OF_ISSUE, (issue_id,))


def issue_by_release(reader: Reader, issue_id: int) -> list[IssueInRelease]:
    """Return the failures of an issue by release and environment."""
    return reader.all(IssueInRelease, _ISSUE_BY_RELEASE, (issue_id,))


def runs_by_release(reader: Reader, points: Sequence[str], releases: Sequence[int]) -> dict[tuple[int, str], int]:
    """Return runs by (release, environment): those of these entry points, or all where there is no entry point."""
    if points:
        ids = json.dumps(list(releases))
        rows = reader.all(RunsInRelease, _RUNS_ON, {"points": json.dumps(list(points)), "releases": ids})
        return {(row.release_id, row.environment): row.runs for row in rows}
    return {(row.release_id, row.environment): row.runs for row in sums_of(reader, releases)}


def sums_of(reader: Reader, releases: Sequence[int]) -> list[ReleaseSums]:
    """Return runs, failed runs and failures of releases by environment, with the first and last hour with runs."""
    return reader.all(ReleaseSums, _RUNS, (json.dumps(list(releases)),))


def brought_by(reader: Reader, releases: Sequence[int]) -> dict[int, tuple[int, int, int]]:
    """Return (new issues, regressions, rate regressions) by release."""
    ids = json.dumps(list(releases))
    counts = [dict(reader.all(CountInRelease, sql, (ids,))) for sql in (_NEW_ISSUES, _REGRESSED, _RATE_REGRESSIONS_IN)]
    new, regressed, higher = counts
    return {release: (new.get(release, 0), regressed.get(release, 0), higher.get(release, 0)) for release in releases}


def issues_of(reader: Reader, releases: Iterable[int], environment: str | None) -> list[IssueAtPoint]:
    """Return the failures of releases by issue and entry point."""
    return reader.all(IssueAtPoint, _ISSUES_OF, {"releases": json.dumps(list(releases)), "environment": environment})


def points_in(reader: Reader, releases: Iterable[int], environment: str | None) -> list[PointInRelease]:
    """Return the runs of releases by entry point."""
    return reader.all(PointInRelease, _POINTS_OF, {"releases": json.dumps(list(releases)), "environment": environment})


def hours_of(reader: Reader, release: int, environment: str | None) -> list[HourOfRelease]:
    """Return the runs of a release by hour, in order."""
    return reader.all(HourOfRelease, _HOURS_OF, {"release": release, "environment": environment})


def in_hours(
    reader: Reader, before: int, now: int, hours: Sequence[int], environment: str | None
) -> tuple[list[IssueInHours], list[PointInRelease]]:
    """Return failures by issue and runs by entry point of two releases in some hours only."""
    values = {"before": before, "now": now, "hours": json.dumps(list(hours)), "environment": environment}
    return reader.all(IssueInHours, _ISSUES_IN_HOURS, values), reader.all(PointInRelease, _POINTS_IN_HOURS, values)


def runs_by_hour(
    reader: Reader,
    app_id: int,
    points: Sequence[str],
    hour: int,
    environment: str | None,
    releases: Sequence[int] | None,
) -> dict[int, int]:
    """Return runs by hour from an hour on, of these entry points (or all), in these releases (or all)."""
    values = {
        "app_id": app_id,
        "points": json.dumps(list(points)),
        "hour": hour,
        "environment": environment,
        "releases": None if releases is None else json.dumps(list(releases)),
    }
    return dict(reader.all(RunsInHour, _RUNS_SINCE if points else _HOURS_SINCE, values))


def failures_by_hour(reader: Reader, issue_id: int, environment: str | None) -> dict[int, int]:
    """Return an issue's failures by hour."""
    values = {"issue_id": issue_id, "environment": environment}
    return dict(reader.all(FailuresInHour, _FAILURES_BY_HOUR, values))


def failures_between(reader: Reader, issue_id: int, from_ms: int, to_ms: int, environment: str | None) -> int:
    """Return the number of an issue's failures inside a short span."""
    values = {"issue_id": issue_id, "from_ms": from_ms, "to_ms": to_ms, "environment": environment}
    return reader.value(int, _FAILURES_FROM, values)


def issues_named(reader: Reader, numbers: Iterable[int]) -> dict[int, IssueName]:
    """Return the titles of issues, by number."""
    return {row.id: row for row in reader.all(IssueName, _TITLES, (json.dumps(list(numbers)),))}


def first_in(reader: Reader, release: int, most: int) -> list[int]:
    """Return the issues that were first seen in a release, in order."""
    return reader.column(int, _FIRST_OF, (release, most))


def regressed_in(reader: Reader, release: int) -> set[int]:
    """Return the issues that regressed with a failure of a release."""
    return set(reader.column(int, _REGRESSED_IN, (release,)))


def rate_regressions_of_issue(reader: Reader, issue_id: int) -> list[RateRegressionRow]:
    """Return an issue's rate regressions that have not ended, the latest first."""
    return reader.all(RateRegressionRow, _RATE_REGRESSIONS_OF_ISSUE, (issue_id,))


def rate_regressions_of_release(reader: Reader, release: int) -> list[RateRegressionRow]:
    """Return the rate regressions of a release, the surest first."""
    return reader.all(RateRegressionRow, _RATE_REGRESSIONS_OF_RELEASE, (release,))


def due(reader: Reader) -> list[DueRate]:
    """Return releases with reports since their rates were compared, by app."""
    return reader.all(DueRate, _DUE)


def looked_at(connection: sqlite3.Connection, places: Sequence[DueRate]) -> None:
    """Forget which were due, except those with reports since."""
    connection.executemany(_LOOKED_AT, [(row.release_id, row.environment, row.batches) for row in places])


def keep_rate_regressions(
    connection: sqlite3.Connection, release: int, environment: str, regressions: Sequence[RateRegression], now_ms: int
) -> tuple[list[int], int]:
    """Store the rate regressions of a release; return the issues with new ones, and how many earlier ones ended."""
    earlier = {
        (row.issue_id, row.entry_point): row.id
        for row in typed(connection.execute(_OPEN_RATE_REGRESSIONS, (release, environment)), OpenRateRegression)
    }
    by_issue: dict[tuple[int, str], RateRegression] = {}
    for rate_regression in regressions:
        by_issue[
            (rate_regression.key, "") if isinstance(rate_regression.key, int) else (0, str(rate_regression.key))
        ] = rate_regression
    for (issue_id, point), rate_regression in by_issue.items():
        connection.execute(
            _ADD_RATE_REGRESSION,
            {
                "release_id": release,
                "environment": environment,
                "issue_id": issue_id,
                "entry_point": point,
                "against": json.dumps(rate_regression.against),
                "before_failures": rate_regression.before.failures,
                "before_runs": rate_regression.before.runs,
                "failures": rate_regression.now.failures,
                "runs": rate_regression.now.runs,
                "chance": rate_regression.chance,
                "sure": int(rate_regression.sure),
                "reason": rate_regression.reason,
                "now_ms": now_ms,
            },
        )
    over = [number for key, number in earlier.items() if key not in by_issue]
    for number in over:
        connection.execute(_END_RATE_REGRESSION, (now_ms, number))
        events.add(connection, "rate-regression-ended", now_ms, release_id=release, environment=environment)
    news = [key for key in by_issue.keys() - earlier.keys() if by_issue[key].sure]
    for issue_id, point in news:
        about = {"issue": issue_id} if issue_id else {"entry_point": point}
        events.add(connection, "rate-regression", now_ms, release_id=release, environment=environment, **about)
    return [issue_id for issue_id, _ in news if issue_id], len(over)
