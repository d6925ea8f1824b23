"""Verifying records: every file by SQLite's own check, every count against its rows."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from typing import Final, NamedTuple

from obitus.core.days import day_text, seq_of
from obitus.store import errors, issue_users
from obitus.store.backups.taking import MAIN
from obitus.store.database import lock_folder, our_errors
from obitus.store.days import removed
from obitus.store.days.files import FOLDER, path_of
from obitus.store.issue_users import WHOSE
from obitus.store.migrations import SCHEMA_VERSION
from obitus.store.names import OTHERS

MOST_NAMED: Final = 5
"""Most differences of one count that are named."""


@dataclass(frozen=True)
class Difference:
    """A difference."""

    what: str
    said: str
    mended: bool = False


class _Count(NamedTuple):
    """A stored count, and its rows. Both statements give a key of columns and then the number."""

    what: str
    kept: str
    rows: str
    mend: tuple[str, ...] | Callable[[sqlite3.Connection], None] = ()


# For an issue with more users than are counted by name the sum is compared.
_ALL_BY_NAME: Final = f"issue_id NOT IN (SELECT issue_id FROM issue_users WHERE user_id = '{OTHERS}')"  # noqa: S608 - a constant
_COUNTS: Final = (
    _Count(
        "failures of users beyond the bound (issue_users)",
        f"SELECT issue_id, SUM(failures) FROM issue_users WHERE NOT {_ALL_BY_NAME} GROUP BY 1",  # noqa: S608 - of constants
        f"SELECT issue_id, SUM(n) FROM ({WHOSE}) WHERE NOT {_ALL_BY_NAME} GROUP BY 1",  # noqa: S608 - of constants
        issue_users.count_again,
    ),
    _Count(
        "failures of issues by hour (issue_counts)",
        "SELECT issue_id, release_id, environment, hour, failures FROM issue_counts WHERE failures",
        "SELECT issue_id, release_id, environment, time_ms / 3600000, SUM(stands_for) FROM failures GROUP BY 1, 2, 3, 4",
        (
            "DELETE FROM issue_counts",
            "INSERT INTO issue_counts (issue_id, release_id, environment, hour, failures) SELECT issue_id, release_id, environment, time_ms / 3600000, SUM(stands_for) FROM failures GROUP BY 1, 2, 3, 4",
        ),
    ),
    _Count(
        "failures of issues by day (issue_days)",
        "SELECT issue_id, release_id, environment, day, failures FROM issue_days WHERE failures",
        "SELECT issue_id, release_id, environment, time_ms / 86400000, SUM(stands_for) FROM failures GROUP BY 1, 2, 3, 4",
        (
            "DELETE FROM issue_days",
            "INSERT INTO issue_days (issue_id, release_id, environment, day, failures) SELECT issue_id, release_id, environment, time_ms / 86400000, SUM(stands_for) FROM failures GROUP BY 1, 2, 3, 4",
        ),
    ),
    _Count(
        "failures of issues by user (issue_users)",
        f"SELECT issue_id, user_id, failures FROM issue_users WHERE failures AND {_ALL_BY_NAME}",  # noqa: S608 - of constants
        f"SELECT issue_id, user_id, SUM(n) FROM ({WHOSE}) WHERE {_ALL_BY_NAME} GROUP BY 1, 2",  # noqa: S608 - of the constant above
        issue_users.count_again,
    ),
    _Count(
        "users of issues (issues.users)",
        "SELECT id, users FROM issues WHERE users",
        f"SELECT issue_id, COUNT(*) FROM issue_users WHERE failures AND user_id <> '{OTHERS}' GROUP BY 1",  # noqa: S608 - a constant
        issue_users.count_again,
    ),
    _Count(
        "failures of issues (issues.failures)",
        "SELECT id, failures FROM issues WHERE failures",
        "SELECT issue_id, SUM(stands_for) FROM failures GROUP BY 1",
        (
            "UPDATE issues SET failures = (SELECT COALESCE(SUM(stands_for), 0) FROM failures WHERE issue_id = issues.id)",
        ),
    ),
    _Count(
        "failures that were only counted (issues.only_counted)",
        "SELECT id, only_counted FROM issues WHERE only_counted",
        "SELECT issue_id, SUM(stands_for) - COUNT(*) FROM failures WHERE stands_for > 1 GROUP BY 1",
        (
            "UPDATE issues SET only_counted = (SELECT COALESCE(SUM(stands_for - 1), 0) FROM failures WHERE issue_id = issues.id)",
        ),
    ),
    _Count(
        "whose failures were only counted (only_counted)",
        "SELECT seq, SUM(failures) FROM only_counted GROUP BY 1",
        "SELECT seq, stands_for - 1 FROM failures WHERE stands_for > 1",
    ),
    _Count(
        "failures of issues by release (issue_releases)",
        "SELECT issue_id, release_id, environment, SUM(failures) FROM issue_releases GROUP BY 1, 2, 3",
        "SELECT issue_id, release_id, environment, SUM(stands_for) FROM failures GROUP BY 1, 2, 3",
    ),
    _Count(
        "failures of releases by hour (release_hours)",
        "SELECT release_id, environment, hour, failures FROM release_hours WHERE failures",
        "SELECT release_id, environment, time_ms / 3600000, SUM(stands_for) FROM failures GROUP BY 1, 2, 3",
        (
            "UPDATE release_hours SET failures = 0",
            "INSERT INTO release_hours (release_id, environment, hour, runs, failed, failures) SELECT release_id, environment, time_ms / 3600000, 0, 0, SUM(stands_for) FROM failures WHERE TRUE GROUP BY 1, 2, 3 ON CONFLICT DO UPDATE SET failures = excluded.failures",
        ),
    ),
    _Count(
        "failures by five minutes (failure_slots)",
        # Old slots are removed in steps: a part of the oldest slot may be gone.
        "SELECT slot, app_id, release_id, environment, failures FROM failure_slots WHERE slot > (SELECT MIN(slot) FROM failure_slots)",
        "SELECT time_ms / 300000, app_id, release_id, environment, SUM(stands_for) FROM failures WHERE time_ms / 300000 > (SELECT MIN(slot) FROM failure_slots) AND received_ms - time_ms < 345600000 GROUP BY 1, 2, 3, 4",
    ),
    _Count(
        "runs of releases (release_runs)",
        "SELECT release_id, environment, entry_point, ok + refused + failed FROM release_runs WHERE ok + refused + failed",
        "SELECT release_id, environment, entry_point, SUM(runs) FROM run_counts GROUP BY 1, 2, 3",
        (
            "DELETE FROM release_runs",
            "INSERT INTO release_runs (release_id, environment, entry_point, ok, refused, failed) SELECT release_id, environment, entry_point, SUM(runs * (outcome = 'ok')), SUM(runs * (outcome = 'refused')), SUM(runs * (outcome = 'failed')) FROM run_counts GROUP BY 1, 2, 3",
        ),
    ),
    _Count(
        "runs by hour (run_slots)",
        "SELECT slot, app_id, entry_point, release_id, environment, outcome, SUM(runs) FROM run_slots WHERE minutes = 60 GROUP BY 1, 2, 3, 4, 5, 6",
        "SELECT hour, app_id, entry_point, release_id, environment, outcome, runs FROM run_counts",
    ),
)
_DAYS: Final = "SELECT day, last_place, removed_ms IS NOT NULL FROM days ORDER BY day"
_FAILURES_OF_DAY: Final = """
SELECT COUNT(*), COALESCE(SUM(stands_for), 0) FROM failures WHERE seq BETWEEN ? AND ? AND app_id IN (SELECT id FROM apps WHERE removed_ms IS NULL)"""
_OF_APPS: Final = "SELECT app_id, COUNT(*), SUM({times}) FROM failures WHERE place <= ? GROUP BY 1"
_WITH_FLOODS: Final = 2
_REMOVED: Final = "UPDATE days SET removed_ms = latest_ms, removed_why = ?, reports = ? WHERE day = ?"


def verify(data: Path, *, repair: bool = False) -> list[Difference]:
    """Return all differences. Raises StoreError where the records cannot be opened. A service may run meanwhile,
    unless differences are to be repaired: counts are read at one moment. Repaired are counts that follow from rows,
    and the entries of days whose file is missing, broken (it is kept under another name) or has less than was
    written.
    """
    if not (data / MAIN).is_file():
        raise errors.NotThere(f"{data} holds no records ({MAIN} is missing)")
    if not repair:
        return list(_differences(data, repair=False))
    with lock_folder(data):
        return list(_differences(data, repair=True))


def _differences(data: Path, *, repair: bool) -> Iterator[Difference]:
    address = f"{(data / MAIN).absolute().as_uri()}?mode={'rw' if repair else 'ro'}"
    with our_errors(data / MAIN), closing(sqlite3.connect(address, uri=True, isolation_level=None)) as main:
        wrong = [row[0] for row in main.execute("PRAGMA integrity_check(5)")]
        if wrong != ["ok"]:
            yield Difference(MAIN, "; ".join(wrong))
            return
        version = int(main.execute("PRAGMA user_version").fetchone()[0])
        if version != SCHEMA_VERSION:
            raise errors.StoreTooNew(
                f"{data / MAIN} has schema version {version}, this Obitus looks at {SCHEMA_VERSION}. Start the service once, or the newer version"
            )
        main.execute("BEGIN IMMEDIATE" if repair else "BEGIN")
        apps = {int(row[0]) for row in main.execute("SELECT id FROM apps WHERE removed_ms IS NULL")}
        for day, last_place, some_are_gone in main.execute(_DAYS).fetchall():
            # A day that was removed or lost may have a file again.
            if not some_are_gone or path_of(data / FOLDER, day).exists():
                yield from _day(data, main, day, last_place, apps, some_are_gone=bool(some_are_gone), repair=repair)
        for count in _COUNTS:
            yield from _counted(main, count, repair=repair)
        main.execute("COMMIT")


def _day(
    data: Path,
    main: sqlite3.Connection,
    day: int,
    last_place: int,
    apps: set[int],
    *,
    some_are_gone: bool,
    repair: bool,
) -> Iterator[Difference]:
    path, name = path_of(data / FOLDER, day), f"{FOLDER}/{day_text(day)}.sqlite3"
    if not path.exists():
        if repair:
            main.execute(_REMOVED, (removed.WAS_MISSING, 0, day))
        yield Difference(name, "the file is missing; its records are gone", repair)
        return
    try:
        wrong, written, reports, failures, stand_for = _look_at_day(path, last_place, apps)
    except errors.StoreError as trouble:
        wrong, written, reports, failures, stand_for = str(trouble), last_place, 0, 0, 0
    if wrong:
        if repair:
            kept = removed.keep_damaged(path)
            main.execute(_REMOVED, (removed.was_damaged(kept), 0, day))
        yield Difference(name, wrong, repair)
        return
    if written < last_place and not some_are_gone:
        if repair:
            main.execute(_REMOVED, (removed.WAS_CUT, reports, day))
        cut = f"it is written up to {written:,}, and {MAIN} counts up to {last_place:,}: it was cut, or replaced by an older file"
        yield Difference(name, cut, repair)
        some_are_gone = some_are_gone or repair
    failures_known, in_all = main.execute(_FAILURES_OF_DAY, (seq_of(day, 0), seq_of(day, last_place))).fetchone()
    thinned = main.execute("SELECT what FROM thinned WHERE day = ?", (day,)).fetchone()
    some_are_gone = some_are_gone or (thinned is not None and "failures" in json.loads(thinned[0])["gone"])
    if failures > failures_known if some_are_gone else failures != failures_known:
        yield Difference(name, f"it holds {failures:,} failures, and {MAIN} counts {failures_known:,} of that day")
    # Records beyond the count may belong to failures before: they are of a commit in progress, or of an interrupted one.
    elif stand_for > in_all + max(0, written - last_place) or (stand_for < in_all and not some_are_gone):
        yield Difference(
            name, f"its failures stand for {stand_for:,} in all, and those of that day in {MAIN} for {in_all:,}"
        )


def _look_at_day(path: Path, last_place: int, apps: set[int]) -> tuple[str, int, int, int, int]:
    """Return the differences of a day's file, up to which place it is written, and its numbers of reports and
    failures of apps, with those that are only counted."""
    with (
        our_errors(path),
        closing(sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True, isolation_level=None)) as day,
    ):
        wrong = [row[0] for row in day.execute("PRAGMA integrity_check(5)")]
        if wrong != ["ok"]:
            return "; ".join(wrong), 0, 0, 0, 0
        version = int(day.execute("PRAGMA user_version").fetchone()[0])
        if version == 0:
            return "the file is empty: it was cut", 0, 0, 0, 0
        written = int(day.execute("SELECT place FROM written").fetchone()[0])
        # Files of the first version have no counted failures.
        is_old = version < _WITH_FLOODS
        rows = day.execute(_OF_APPS.format(times="1" if is_old else "stands_for"), (last_place,)).fetchall()
        matching = [(count, times) for app, count, times in rows if app in apps]
        reports = int(day.execute("SELECT COUNT(*) FROM ids").fetchone()[0])
        return "", written, reports, sum(count for count, _ in matching), sum(times for _, times in matching)


def _counted(main: sqlite3.Connection, count: _Count, *, repair: bool) -> Iterator[Difference]:
    counts_kept = {tuple(row[:-1]): row[-1] for row in main.execute(count.kept)}
    rows = {tuple(row[:-1]): row[-1] for row in main.execute(count.rows)}
    keys = [key for key in counts_kept.keys() | rows.keys() if counts_kept.get(key, 0) != rows.get(key, 0)]
    if not keys:
        return
    named = ", ".join(
        f"{' '.join(map(str, key))}: {counts_kept.get(key, 0):,} kept, {rows.get(key, 0):,} by its rows"
        for key in sorted(keys, key=str)[:MOST_NAMED]
    )
    mended = repair and bool(count.mend)
    if mended:
        if callable(count.mend):
            count.mend(main)
        else:
            for statement in count.mend:
                main.execute(statement)
    yield Difference(count.what, f"{len(keys):,} differ ({named})", mended)
