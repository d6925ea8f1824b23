"""Readings about releases with 1,000,000 failures and 5,000,000 runs in the store, against 10,000 and 50,000.

Both stores have the same releases, entry points and issues: what differs is how often each was met.
"""

from __future__ import annotations

import random
import sqlite3
from collections.abc import Callable
from pathlib import Path
from typing import Any

from bench.measuring import median_s, row
from obitus.core.clock import HOUR_MS
from obitus.core.days import UNDATED
from obitus.service.api import compared, since
from obitus.service.jobs.watching import histories_of
from obitus.service.settings import Settings
from obitus.service.wiring import Parts
from obitus.store import releases as store
from obitus.store.days.rows import ADD_EVIDENCE

FEW, MANY = 10_000, 1_000_000
RELEASES, POINTS, ISSUES, HOURS = 30, 40, 120, 30 * 48

_FAILURES = """
INSERT INTO failures (seq, id, app_id, issue_id, release_id, environment, time_ms, received_ms, severity, handled, message, entry_point,
                      verdict, from_older_release, fingerprint) VALUES (?1, ?7, 1, ?2, ?3, ?4, ?5, ?5, 'ERROR', 0, 'no depth', ?6, '', 0, 'f')"""
# The rollups as intake makes them, one report after another: here in one go.
_ROLLUPS = """
INSERT INTO issue_counts SELECT issue_id, release_id, environment, time_ms / 3600000, COUNT(*) FROM failures GROUP BY 1, 2, 3, 4;
INSERT INTO issue_releases SELECT issue_id, release_id, environment, entry_point, COUNT(*), MIN(time_ms), MAX(time_ms) FROM failures GROUP BY 1, 2, 3, 4;
INSERT INTO release_runs SELECT release_id, environment, entry_point, SUM(runs * (outcome = 'ok')), 0, SUM(runs * (outcome = 'failed')) FROM run_counts GROUP BY 1, 2, 3;
INSERT INTO release_hours SELECT release_id, environment, hour, SUM(runs), 0, SUM(failures) FROM (
  SELECT release_id, environment, hour, runs, 0 AS failures FROM run_counts
  UNION ALL SELECT release_id, environment, hour, 0, failures FROM issue_counts) GROUP BY 1, 2, 3;
INSERT INTO issues (id, app_id, type, cause, place, message, entry_point, state, state_ms, settled_in, settled_ms, first_ms, last_ms, first_seq, last_seq, began_in_id, failures, from_older_releases)
SELECT issue_id, 1, 'Tide' || issue_id, '', 'sailings.tides', 'no depth', MIN(entry_point), CASE WHEN issue_id % 3 THEN 'untriaged' ELSE 'settled' END, 0, '1.20.0', MAX(time_ms),
  MIN(time_ms), MAX(time_ms), MIN(seq), MAX(seq), MIN(release_id), COUNT(*), 0 FROM failures GROUP BY issue_id;
INSERT INTO settlings (issue_id, environment, how, release, time_ms) SELECT id, '', 'release', '1.20.0', settled_ms FROM issues WHERE state = 'settled';
ANALYZE;
"""


def measure(folder: Path) -> None:
    """Print a row for each reading."""
    services = [filled(folder / f"store-{failures}", failures) for failures in (FEW, MANY)]
    release = "1.22.0"

    def histories(service: Parts) -> Any:
        order = store.order(service.records.reader, 1)
        ids = {r.version: r.id for r in store.releases(service.records.reader, 1)}
        return histories_of(
            service.records.reader,
            ids[release],
            [(name, ids[name]) for name in order.before(release)[:12]],
            "production",
        )

    readings: dict[str, Callable[[Parts], Any]] = {
        "since when, verdict and lane of an issue": lambda s: since.since_answer(s.records, s.clock, 3),
        "list of releases": lambda s: compared.release_rows(known := compared.Releases(s.records, "sailings"), [r.version for r in known.order.releases[-20:]]),
        "one release": lambda s: compared.release_answer(compared.Releases(s.records, "sailings"), release, None),
        "two releases compared": lambda s: compared.compare(compared.Releases(s.records, "sailings"), "1.21.0", release, None, same_time=False),
        "two compared at the same time": lambda s: compared.compare(compared.Releases(s.records, "sailings"), "1.21.0", release, "production", same_time=True),
        "rates of a release, to be watched": histories,
    }  # fmt: skip
    for name, read in readings.items():
        few, many = (median_s(lambda s=service, read=read: read(s)) for service in services)  # type: ignore[misc]
        row(f"{name}: 1,000,000 failures / 10,000", f"{many * 1000:.1f} ms", f"{few * 1000:.1f} ms", many / few)
    for service in services:
        service.close()


def filled(folder: Path, failures: int) -> Parts:
    """Return a service over a store with so many failures, and five times as many runs, of thirty releases in sixty days."""
    service = Parts(Settings(data=folder, port=0))
    service.passes.ensure_owner()
    connection = sqlite3.connect(service.settings.database, isolation_level=None)
    dice = random.Random(11)
    start = service.clock.now_ms() // HOUR_MS - HOURS
    connection.execute("PRAGMA synchronous = OFF")
    connection.execute("BEGIN")
    connection.execute("INSERT INTO apps (id, name, kind, created_ms) VALUES (1, 'sailings', 'script', 0)")
    for i in range(RELEASES):
        first = (start + i * 48) * HOUR_MS
        connection.execute(
            "INSERT INTO releases (id, app_id, version, first_ms) VALUES (?, 1, ?, ?)", (i + 1, f"1.{i}.0", first)
        )
        connection.execute(
            "INSERT INTO deploys (app_id, release_id, environment, time_ms, inferred) VALUES (1, ?, 'production', ?, 0)",
            (i + 1, first),
        )
    runs = failures * 5
    counted = []
    for i in range(RELEASES):
        # Each release lives two days alone and one more beside the next.
        for hour in range(start + i * 48, min(start + HOURS, start + i * 48 + 72)):
            for point in range(POINTS):
                n = max(1, round(runs / (RELEASES * 70 * POINTS)))
                counted.append((i + 1, f"GET /berths/{point}", "ok", hour, n))
    connection.executemany(
        "INSERT INTO run_counts (app_id, release_id, environment, entry_point, outcome, hour, runs) VALUES (1, ?, 'production', ?, ?, ?, ?)",
        counted,
    )

    def rows() -> Any:
        for seq in range(1, failures + 1):
            issue = dice.randrange(ISSUES) + 1
            at = dice.randrange(HOURS)
            release = min(RELEASES, at // 48 + 1 - (dice.random() < 0.1 and at >= 48))
            yield (
                seq,
                issue,
                release,
                "production",
                (start + at) * HOUR_MS + dice.randrange(HOUR_MS),
                f"GET /berths/{issue % POINTS}",
            )

    connection.execute("PRAGMA foreign_keys = OFF")
    pending: list[tuple[Any, ...]] = []
    for one in rows():
        pending.append(one)
        if len(pending) == 50_000:
            _write(connection, pending)
            pending = []
    _write(connection, pending)
    connection.execute("COMMIT")
    connection.executescript(_ROLLUPS)
    body = service.records.evidence.pack(b'{"exceptions": [{"type": "Tide", "frames": []}]}')[0]
    firsts = [row[0] for row in connection.execute("SELECT first_seq FROM issues")]
    connection.close()

    def keep(_: sqlite3.Connection) -> None:
        # Their numbers are below 2^32: the undated day's.
        file = service.records.writer.days.at(UNDATED)
        file.connection.executemany(ADD_EVIDENCE, [(first, 1, "failure", None, body) for first in firsts])

    service.records.writer.run(keep)
    return service


def _write(connection: sqlite3.Connection, rows: list[tuple[Any, ...]]) -> None:
    connection.executemany(_FAILURES, [(*row, row[0].to_bytes(16, "big")) for row in rows])
