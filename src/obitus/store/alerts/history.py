"""Events in a span, for which rules over events would have fired."""

from __future__ import annotations

from typing import Final

from obitus.store.database import Reader
from obitus.store.rows.alerts import Happened, QuietThen, RateRegressionThen

MOST: Final = 1000

_NEW: Final = """
SELECT i.id AS issue_id, i.first_ms AS time_ms FROM issues i INDEXED BY issues_by_first JOIN apps ON apps.id = i.app_id AND apps.removed_ms IS NULL
WHERE i.first_ms >= ? AND i.first_ms < ? AND i.merged_into IS NULL ORDER BY i.first_ms DESC LIMIT ?"""
_REGRESSED: Final = """
SELECT issue_id, time_ms FROM issue_history INDEXED BY issue_history_regressed
WHERE to_state = 'regressed' AND time_ms >= ? AND time_ms < ? AND from_state <> 'regressed' ORDER BY time_ms DESC LIMIT ?"""
_REOPENED: Final = """
SELECT issue_id, time_ms FROM issue_history INDEXED BY issue_history_by_time
WHERE time_ms >= ? AND time_ms < ? AND to_state IS NOT NULL AND from_state IS NOT NULL AND from_state = 'parked' AND to_state = 'untriaged' AND person_id IS NULL
ORDER BY time_ms DESC LIMIT ?"""
_RATE_REGRESSION_COLUMNS: Final = """
SELECT s.id, s.issue_id, s.entry_point, apps.name AS app, apps.id AS app_id, r.version AS release, s.environment, s.reason, s.found_ms
FROM rate_regressions s JOIN releases r ON r.id = s.release_id JOIN apps ON apps.id = r.app_id AND apps.removed_ms IS NULL"""
_RATE_REGRESSIONS: Final = f"{_RATE_REGRESSION_COLUMNS} WHERE s.sure = 1 AND s.found_ms >= ? AND s.found_ms < ? ORDER BY s.found_ms DESC LIMIT ?"
_RATE_REGRESSION: Final = f"""{_RATE_REGRESSION_COLUMNS}
WHERE s.release_id = ? AND s.environment = ? AND s.issue_id = ? AND s.entry_point = ? AND s.ended_ms IS NULL ORDER BY s.id DESC LIMIT 1"""
_QUIET_COLUMNS: Final = """
SELECT q.id, apps.name AS app, q.app_id, q.environment, q.kind, q.subject, q.reason, q.found_ms
FROM quiet_failures q JOIN apps ON apps.id = q.app_id AND apps.removed_ms IS NULL"""
_QUIET: Final = f"{_QUIET_COLUMNS} WHERE q.found_ms >= ? AND q.found_ms < ? ORDER BY q.found_ms DESC LIMIT ?"
_QUIET_ONE: Final = f"{_QUIET_COLUMNS} WHERE q.id = ?"


def new_issues(reader: Reader, from_ms: int, to_ms: int) -> list[Happened]:
    """Return the issues that began in a span, the latest first."""
    return reader.all(Happened, _NEW, (from_ms, to_ms, MOST))


def regressed(reader: Reader, from_ms: int, to_ms: int) -> list[Happened]:
    """Return when issues regressed."""
    return reader.all(Happened, _REGRESSED, (from_ms, to_ms, MOST))


def reopened(reader: Reader, from_ms: int, to_ms: int) -> list[Happened]:
    """Return when parked issues reopened by themselves."""
    return reader.all(Happened, _REOPENED, (from_ms, to_ms, MOST))


def rate_regressions(reader: Reader, from_ms: int, to_ms: int) -> list[RateRegressionThen]:
    """Return rate regressions."""
    return reader.all(RateRegressionThen, _RATE_REGRESSIONS, (from_ms, to_ms, MOST))


def rate_regression(
    reader: Reader, release_id: int, environment: str, issue_id: int, entry_point: str
) -> RateRegressionThen | None:
    """Return one, None where it was removed."""
    return reader.first(RateRegressionThen, _RATE_REGRESSION, (release_id, environment, issue_id, entry_point))


def quiet(reader: Reader, from_ms: int, to_ms: int) -> list[QuietThen]:
    """Return the quiet failures that were found."""
    return reader.all(QuietThen, _QUIET, (from_ms, to_ms, MOST))


def quiet_one(reader: Reader, number: int) -> QuietThen | None:
    """Return one quiet failure, None where it was removed."""
    return reader.first(QuietThen, _QUIET_ONE, (number,))
