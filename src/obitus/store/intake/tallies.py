"""Counting runs of tallies, and of tallies that have grown."""

from __future__ import annotations

import sqlite3

from obitus.core.clock import HOUR_MS
from obitus.store import names
from obitus.store.calling import slots_at
from obitus.store.database import typed
from obitus.store.intake.batch import Batch
from obitus.store.intake.facts import Prepared, TallyFacts
from obitus.store.rows.records import GrowingTally

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
_GROWS = "INSERT INTO growing_tallies (seq, app_id, release_id, environment, time_ms, runs) VALUES (?, ?, ?, ?, ?, ?)"
_GROWING = "SELECT release_id, environment, time_ms, runs FROM growing_tallies WHERE seq = ?"
_HAS_GROWN = "UPDATE growing_tallies SET runs = ? WHERE seq = ?"


def count(batch: Batch, report: Prepared, tally: TallyFacts, seq: int, release_id: int) -> str:
    """Count the runs of a new tally; return the name by which its entry point is counted."""
    place = (release_id, report.environment, report.time_ms)
    counted = _count_runs(batch.connection, report, tally, tally.runs, place)
    if tally.grows:
        batch.connection.execute(_GROWS, (seq, report.app_id, *place, tally.runs))
    return counted


def has_grown(batch: Batch, seq: int, report: Prepared) -> bool:
    """Count the additional runs of a tally that is there already; return whether there are any."""
    if report.tally is None or not report.tally.grows:
        return False
    tallies = typed(batch.connection.execute(_GROWING, (seq,)), GrowingTally)
    if not tallies or tallies[0].runs >= report.tally.runs:
        return False
    first = tallies[0]
    # Additional runs count in the tally's first hour, even if the process has reached the next hour.
    place = (first.release_id, first.environment, first.time_ms)
    _count_runs(batch.connection, report, report.tally, report.tally.runs - first.runs, place)
    batch.connection.execute(_HAS_GROWN, (report.tally.runs, seq))
    batch.grown(seq, report)
    return True


def _count_runs(
    connection: sqlite3.Connection, report: Prepared, tally: TallyFacts, runs: int, place: tuple[int, str, int]
) -> str:
    """Count runs of a tally in a release, an environment and the hour of a time; return the name by which they are counted."""
    release_id, environment, time_ms = place
    entry_point = names.entry_point(connection, report.app_id, tally.entry_point)
    values = {
        "app_id": report.app_id,
        "release_id": release_id,
        "environment": environment,
        "entry_point": entry_point,
        "outcome": tally.outcome,
        "hour": time_ms // HOUR_MS,
        "runs": runs,
    }
    for statement in (_COUNT_RUNS, _COUNT_RUNS_BY_RELEASE, _COUNT_RUNS_BY_HOUR):
        connection.execute(statement, values)
    values |= {"status": tally.status, "below_ms": tally.below_ms}
    for minutes, slot in slots_at(time_ms, report.received_ms):
        connection.execute(_COUNT_RUNS_BY_SLOT, values | {"minutes": minutes, "slot": slot})
    return entry_point
