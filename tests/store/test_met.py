"""However failures are cut into batches, their issues show and count the same; and a batch asks the store for what differs, not for each."""

from __future__ import annotations

import atexit
import shutil
import sqlite3
import uuid
from functools import cache
from pathlib import Path
from tempfile import TemporaryDirectory, mkdtemp
from typing import Any

import pytest
from bench.releases.streams import NothingFurther
from hypothesis import example, given
from hypothesis import strategies as st

from obitus.core.days import day_of
from obitus.core.lifecycle import Settling
from obitus.core.parking import Until
from obitus.store import apps, deciding
from obitus.store.days.failures import FailureRow
from obitus.store.grouping import Decided
from obitus.store.intake import met
from obitus.store.intake.facts import FailureFacts, Prepared
from obitus.store.intake.taking import take
from obitus.store.writer import Writer
from tests.store.conftest import NOW_MS, Store

WHAT = {
    "issues": "SELECT * FROM issues ORDER BY id",
    "releases": "SELECT * FROM issue_releases ORDER BY issue_id, release_id, environment, entry_point",
    "failures": "SELECT * FROM failures ORDER BY seq",
    "only counted": "SELECT * FROM only_counted ORDER BY seq, user_id",
    "users": "SELECT * FROM issue_users ORDER BY issue_id, user_id",
    "hours": "SELECT * FROM issue_counts ORDER BY issue_id, release_id, environment, hour",
    "history": "SELECT issue_id, from_state, to_state, reason, time_ms FROM issue_history ORDER BY id",
    "parked": "SELECT issue_id, failed FROM parkings ORDER BY issue_id",
}


def failed(
    app: int, n: int, *, fault: int, release: int, after_s: int, point: int, user: int, counted: int | None
) -> Prepared:
    """Return a failure as it is given to the store; it is the n-th of all."""
    time_ms = NOW_MS + after_s * 1000
    entry_point = f"GET /piers/{point}"
    message = f"berth {n} is taken"
    row = FailureRow(4, False, "BerthTaken", message, entry_point, None, None, (), "berth")
    decided = Decided(f"3-{fault}", None, NothingFurther())
    names = ("ERROR", False, "BerthTaken", "", "berths.py", message, entry_point, f"p-{user}" if user else None, None)
    return Prepared(
        uuid.UUID(int=n + 1).bytes,
        "failure",
        app,
        ("production", "rehearsal")[n % 2],
        f"3.{release}.0",
        time_ms,
        NOW_MS + 700_000 + n,
        day_of(uuid.UUID(int=n + 1).bytes, time_ms),
        b"{}",
        failure=FailureFacts(*names, decided, row),
        counted=counted,
    )


def shown(path: Path) -> dict[str, list[Any]]:
    """Return all that is kept of issues."""
    connection = sqlite3.connect(path)
    try:
        return {name: connection.execute(statement).fetchall() for name, statement in WHAT.items()}
    finally:
        connection.close()


FAILURES = st.lists(
    st.fixed_dictionaries(
        {
            "fault": st.integers(0, 2),
            "release": st.integers(0, 2),
            "after_s": st.sampled_from([-5, 0, 1, 2, 400]),
            "point": st.integers(0, 3),
            "user": st.integers(0, 2),
            "counted": st.none() | st.just(5),
        }
    ),
    min_size=1,
    max_size=14,
)


ONE = {"fault": 0, "release": 0, "after_s": 1, "point": 0, "user": 1, "counted": None}
STATES = ("", "parked", "settled")


@cache
def begun(state: str) -> Path:
    """Return a folder of records in which one issue of one app has failed once, and is in a state."""
    folder = Path(mkdtemp(prefix="obitus-met-"))
    atexit.register(shutil.rmtree, folder)
    writer = Writer(folder / "records.sqlite3")
    app = writer.run(lambda c: apps.add_app(c, "sailings", "script", NOW_MS))
    _take(writer, [failed(app, 0, **ONE | {"after_s": -60})])
    if state:
        writer.run(lambda c: _decide(c, state))
    writer.close()
    return folder


@pytest.mark.long
@given(FAILURES, st.lists(st.integers(1, 6), min_size=1, max_size=6), st.sampled_from(STATES))
@example([ONE] * 6, [2, 4], "parked")
@example([ONE | {"after_s": -5}, ONE, ONE], [3], "parked")
@example([ONE | {"release": 1}, ONE | {"release": 1}], [3], "settled")
@example([ONE, ONE | {"counted": 5}, ONE | {"counted": 5}], [2, 1], "")
def test_batches_make_no_difference(drawn: list[dict[str, Any]], sizes: list[int], state: str) -> None:
    """One by one or many at once, in whatever order they happened, and also where they bring their issue back."""
    bound, met.MOST_POINTS = met.MOST_POINTS, 2  # type: ignore[misc]
    found = []
    try:
        for cuts in ([1], [*sizes, 100]):
            with TemporaryDirectory() as folder:
                path = Path(folder) / "data" / "records.sqlite3"
                shutil.copytree(begun(state), path.parent)
                writer = Writer(path)
                reports = [failed(1, n + 1, **each) for n, each in enumerate(drawn)]
                left = list(cuts)
                while reports:
                    size = left.pop(0) if len(left) > 1 else left[0]
                    _take(writer, reports[:size])
                    reports = reports[size:]
                writer.close()
                found.append(shown(path))
    finally:
        met.MOST_POINTS = bound  # type: ignore[misc]
    for name in WHAT:
        assert found[0][name] == found[1][name], name


def _decide(connection: sqlite3.Connection, state: str) -> None:
    order = (
        deciding.DecisionOrder("park", until=Until(another=("release", "environment")), newest="3.0.0")
        if state == "parked"
        else deciding.DecisionOrder("settle", settling=Settling("release", NOW_MS, "3.1.0"))
    )
    deciding.decide_by_link(connection, 1, order, None, "A link", NOW_MS)


def _take(writer: Writer, reports: list[Prepared]) -> None:
    writer.run(lambda c: take(c, writer.days, reports))


def test_many_of_one_issue_are_few_statements(store: Store) -> None:
    """A hundred failures of one fault write one row each, and what they have in common once."""
    statements: list[str] = []

    def cost(n: int, first: int) -> int:
        reports = [failed(store.app, first + i * 2, **ONE) for i in range(n)]

        def work(connection: sqlite3.Connection) -> None:
            connection.set_trace_callback(statements.append)
            take(connection, store.writer.days, reports)
            connection.set_trace_callback(None)

        statements.clear()
        store.writer.run(work)
        return len(statements)

    cost(1, 0)  # Makes the issue.
    of_one, of_many = cost(1, 1000), cost(101, 2000)
    assert of_many - of_one == 100
    assert sum("INSERT INTO failures" in one for one in statements) == 101
