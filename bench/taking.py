"""What a failure costs the store when a batch brings many of one issue, against as many of different ones; all issues are known."""

from __future__ import annotations

import time
import uuid
from itertools import count
from pathlib import Path
from typing import Final

from bench.measuring import in_turns, row
from bench.releases.streams import NothingFurther
from obitus.core.days import day_of
from obitus.store import apps
from obitus.store.days.failures import FailureRow
from obitus.store.grouping import Decided
from obitus.store.intake.facts import FailureFacts, Prepared
from obitus.store.intake.taking import take
from obitus.store.writer import Writer

AT_ONCE: Final = 100
NOW_MS: Final = 1_790_000_000_000
STEP_MS: Final = 60_000
"""Between two batches: so all of them are kept whole."""


def measure(folder: Path) -> None:
    """Print the row."""
    writer, numbers = Writer(folder / "taking" / "records.sqlite3"), count()
    app = writer.run(lambda c: apps.add_app(c, "sailings", "script", NOW_MS))

    def taken(issues: int) -> float:
        time_ms = NOW_MS + next(numbers) * STEP_MS
        reports = [_prepared(app, place % issues, place, time_ms) for place in range(AT_ONCE)]
        began_s = time.perf_counter()
        writer.run(lambda c: take(c, writer.days, reports))
        return (time.perf_counter() - began_s) / AT_ONCE

    taken(AT_ONCE)
    ours, floor = in_turns(lambda: taken(1), lambda: taken(AT_ONCE))
    row(
        f"a failure stored, {AT_ONCE} of one issue in a batch / of {AT_ONCE} issues",
        f"{ours * 1e6:.0f} us",
        f"{floor * 1e6:.0f} us",
        ours / floor,
    )
    writer.close()


def _prepared(app: int, issue: int, number: int, time_ms: int) -> Prepared:
    id = uuid.uuid4().bytes
    where = (f"fares_{issue}.py", f"no berth for {number}", "GET /fares")
    row = FailureRow(4, False, "NoBerth", where[1], where[2], None, None, (), "NoBerth fares")
    facts = (
        "ERROR",
        False,
        "NoBerth",
        "",
        *where,
        f"p-{number % 40}",
        None,
        Decided(f"3-{issue}", None, NothingFurther()),
    )
    placed = (app, "production", "3.0.0", time_ms, time_ms, day_of(id, time_ms), b"{}")
    return Prepared(id, "failure", *placed, failure=FailureFacts(*facts, row))
