"""What a window counts with, days and hours and single failures, comes to what the failures say, whatever the window."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.store import issues
from obitus.store.database import Reader
from obitus.store.migrations import open_for_writing
from obitus.store.windows import Window, failures_over_time, slices_of
from tests.examples import many

START_MS = 20_000 * DAY_MS + 7 * HOUR_MS + 123
DAYS = 45


@pytest.fixture(scope="module")
def reader(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Reader]:
    """A store of 3,000 failures of five issues over 45 days, in two releases and two environments."""
    path: Path = tmp_path_factory.mktemp("windows") / "obitus.sqlite3"
    dice = random.Random(5)
    connection = open_for_writing(path)
    connection.execute("BEGIN")
    connection.execute("INSERT INTO apps (id, name, kind, created_ms) VALUES (1, 'sailings', 'script', 0)")
    for number in (1, 2):
        connection.execute(
            "INSERT INTO releases (id, app_id, version, first_ms) VALUES (?, 1, ?, 0)", (number, f"3.{number}.0")
        )
    for number in range(1, 6):
        connection.execute(
            """INSERT INTO issues (id, app_id, type, cause, place, message, entry_point, state, state_ms, first_ms, last_ms,
                 first_seq, last_seq, began_in_id, failures, from_older_releases)
               VALUES (?, 1, 'Tide', '', '', '', '', 'untriaged', 0, 0, 0, 0, 0, 1, 0, 0)""",
            (number,),
        )
    for seq in range(3000):
        # Some exactly where a day or an hour begins or ends.
        time_ms = START_MS + dice.randrange(DAYS * DAY_MS)
        time_ms = dice.choice([time_ms, time_ms, time_ms // HOUR_MS * HOUR_MS, time_ms // DAY_MS * DAY_MS + DAY_MS - 1])
        connection.execute(
            """INSERT INTO failures (seq, id, app_id, issue_id, release_id, environment, time_ms, received_ms, severity, handled,
                 message, entry_point, verdict, from_older_release, fingerprint)
               VALUES (?, x'00', 1, ?, ?, ?, ?, 0, 'ERROR', 0, '', '', '', 0, '')""",
            (seq, dice.randrange(1, 6), dice.randrange(1, 3), dice.choice(["production", "quay"]), time_ms),
        )
    for table, unit, length in (("issue_counts", "hour", HOUR_MS), ("issue_days", "day", DAY_MS)):
        connection.execute(
            f"INSERT INTO {table} (issue_id, release_id, environment, {unit}, failures) "
            f"SELECT issue_id, release_id, environment, time_ms / {length}, COUNT(*) FROM failures GROUP BY 1, 2, 3, 4"
        )
    connection.execute("COMMIT")
    connection.close()
    reader = Reader(path)
    yield reader
    reader.close()


moments = st.integers(START_MS - 3 * DAY_MS, START_MS + (DAYS + 3) * DAY_MS)
whole = st.one_of(
    moments, moments.map(lambda ms: ms // HOUR_MS * HOUR_MS), moments.map(lambda ms: ms // DAY_MS * DAY_MS)
)
where = st.sampled_from([None, "production", "quay", "nowhere"])
which = st.sampled_from([None, "3.1.0", "3.2.0", "9"])


@many(150)
@given(whole, whole, where, which)
def test_counts_come_to_the_failures(
    reader: Reader, one: int, other: int, environment: str | None, release: str | None
) -> None:
    """Each issue, all issues, and the slices of the picture."""
    window = Window(min(one, other), max(one, other), None, environment, release)
    truth = {
        row["issue_id"]: row["n"]
        for row in reader.rows(
            """SELECT f.issue_id, COUNT(*) AS n FROM failures f JOIN releases r ON r.id = f.release_id
               WHERE f.time_ms >= :from_ms AND f.time_ms < :to_ms AND (:environment IS NULL OR f.environment = :environment)
                 AND (:release IS NULL OR r.version = :release) GROUP BY 1""",
            window.params(),
        )
    }
    assert {row.id: row.failures for row in issues.issues(reader, window)} == truth
    assert issues.sums(reader, window).failures == sum(truth.values())
    assert issues.failures_inside(reader, 3, window) == truth.get(3, 0)
    slices = slices_of(window)
    assert 1 <= slices.count <= 31
    assert slices.place_of(slices.first) == 0 and slices.place_of(slices.last) == slices.count - 1
    # What the picture shows covers the hours or days that the window touches: no less than what is inside.
    found = failures_over_time(reader, json.dumps([1, 2, 3, 4, 5]), window)
    for issue, failures in truth.items():
        assert len(found[issue]) == slices.count and sum(found[issue]) >= failures


def test_slices_are_alike() -> None:
    """But for the last, which is what is left."""
    for hours in (1, 24, 25, 31, 32, 169, 336, 360, 30 * 24, 45 * 24, 90 * 24, 400 * 24):
        slices = slices_of(Window(0, hours * HOUR_MS))
        widths = [0] * slices.count
        for unit in range(slices.first, slices.last + 1):
            widths[slices.place_of(unit)] += 1
        assert slices.count <= 31 and len(set(widths[:-1])) <= 1 and 0 < widths[-1] <= widths[0], (hours, widths)
