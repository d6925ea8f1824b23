"""Counts of all apps, for monitoring."""

from __future__ import annotations

from typing import Final, NamedTuple

from obitus.core.clock import HOUR_MS
from obitus.store.database import Reader

MOST_LABELS: Final = 500
"""Most combinations of app, environment and outcome; of more, those with the greatest numbers."""

_FAILURES: Final = """
SELECT apps.name AS app, d.environment, SUM(d.failures) AS n FROM issue_days d JOIN issues i ON i.id = d.issue_id
JOIN apps ON apps.id = i.app_id AND apps.removed_ms IS NULL WHERE d.day >= :day GROUP BY apps.name, d.environment ORDER BY n DESC LIMIT :most"""
_RUNS: Final = """
SELECT apps.name AS app, s.environment, s.outcome, SUM(s.runs) AS n FROM run_slots s JOIN apps ON apps.id = s.app_id AND apps.removed_ms IS NULL
WHERE s.minutes = 60 AND s.slot >= :hour GROUP BY apps.name, s.environment, s.outcome ORDER BY n DESC LIMIT :most"""
_STATES: Final = """
SELECT apps.name AS app, i.state, COUNT(*) AS n FROM issues i JOIN apps ON apps.id = i.app_id AND apps.removed_ms IS NULL
WHERE i.merged_into IS NULL GROUP BY apps.name, i.state ORDER BY n DESC LIMIT :most"""


class FailuresOfApp(NamedTuple):
    """Failures of an app in an environment."""

    app: str
    environment: str
    n: int


class RunsOfApp(NamedTuple):
    """Runs of an app in an environment with one outcome."""

    app: str
    environment: str
    outcome: str
    n: int


class IssuesOfApp(NamedTuple):
    """Issues of an app in a state."""

    app: str
    state: str
    n: int


def failures(reader: Reader, since_ms: int) -> list[FailuresOfApp]:
    """Return failures by app and environment, since a day (UTC)."""
    return reader.all(FailuresOfApp, _FAILURES, {"day": since_ms // (24 * HOUR_MS), "most": MOST_LABELS})


def runs(reader: Reader, since_ms: int) -> list[RunsOfApp]:
    """Return runs by app, environment and outcome, since an hour."""
    return reader.all(RunsOfApp, _RUNS, {"hour": since_ms // HOUR_MS, "most": MOST_LABELS})


def issues(reader: Reader) -> list[IssuesOfApp]:
    """Return issues by app and state."""
    return reader.all(IssuesOfApp, _STATES, {"most": MOST_LABELS})
