"""All runs are counted; whole ones are sent when they failed, were refused, were slow, or are to compare with."""

from __future__ import annotations

from collections import Counter
from itertools import count

from hypothesis import given
from hypothesis import strategies as st

import obitus
from obitus.client.tally import (
    HEALTHY_AN_HOUR,
    HEALTHY_NEAR_FAILED_AN_HOUR,
    MOST_ENTRY_POINTS,
    OTHER,
    SLOW_AN_HOUR,
    Tally,
)
from obitus.core.clock import HOUR_MS
from tests.client.conftest import Reported


def new_tally() -> Tally:
    ids = count(1)
    return Tally(lambda: f"id-{next(ids)}")


@given(
    st.lists(
        st.tuples(
            st.sampled_from("abc"),
            st.sampled_from(["ok", "refused", "failed"]),
            st.sampled_from([None, 200, 404]),
            st.floats(0, 1e6),
        )
    )
)
def test_every_run_is_counted_once(runs: list[tuple[str, str, int | None, float]]) -> None:
    """The counts add up to what was added, by entry point, outcome and status, and each duration lies in its bucket."""
    tally = new_tally()
    for run in runs:
        tally.add(*run, 0)
    seen = tally.look()
    taken = tally.take()
    assert seen == taken and tally.take() == []
    counted: Counter[tuple[str, str, int | None]] = Counter()
    for report in taken:
        counted[report["entry_point"], report["outcome"], report.get("status")] += report["runs"]
    assert counted == Counter((entry, outcome, status) for entry, outcome, status, _ in runs)
    assert len({report["id"] for report in taken}) == len(taken)


def test_a_few_healthy_ones_an_hour() -> None:
    """The 1st, 2nd, 4th, 8th … of each entry point and hour, with the reason."""
    tally = new_tally()
    kept = [i for i in range(1, 5000) if tally.add("GET /piers", "ok", 200, 5.0, 1000)]
    assert kept == [1, 2, 4, 8, 16, 32, 64, 128, 256, 512] and len(kept) == HEALTHY_AN_HOUR
    assert tally.add("GET /other", "ok", 200, 5.0, 1000) == "healthy, to compare failing ones with"
    assert tally.add("GET /piers", "ok", 200, 5.0, 1000 + HOUR_MS) is not None


def test_slow_ones_for_their_entry_point() -> None:
    """Slow is what 99 of 100 earlier runs of the same entry point stayed under; a bound keeps a bad hour small."""
    tally = new_tally()
    for _ in range(1000):
        tally.add("GET /fast", "ok", 200, 8.0, 1000)
        tally.add("GET /slow", "ok", 200, 800.0, 1000)
    reason = tally.add("GET /fast", "ok", 200, 90.0, 1000)
    assert reason == "slow: over 20 ms, which 99 of 100 earlier runs of this entry point stayed under"
    assert tally.add("GET /slow", "ok", 200, 90.0, 1000) is None
    again = [tally.add("GET /fast", "ok", 200, 90.0, 1000) for _ in range(100)]
    assert sum(reason is not None and reason.startswith("slow") for reason in again) <= SLOW_AN_HOUR


def test_failed_and_refused_ones_always() -> None:
    """With the outcome as the reason."""
    tally = new_tally()
    assert tally.add("x", "failed", 500, 1.0, 0) == "failed" and tally.add("x", "refused", 404, 1.0, 0) == "refused"


def test_more_healthy_ones_where_something_fails() -> None:
    """The next three of the same entry point after each that failed or was refused, so many an hour at most; none of others."""
    tally = new_tally()
    for _ in range(20):
        tally.add("GET /piers", "ok", 200, 5.0, 1000)
    tally.add("GET /piers", "failed", 500, 5.0, 1000)
    kept = [tally.add("GET /piers", "ok", 200, 5.0, 1000) for _ in range(10)]
    assert kept == ["healthy, soon after one that was not"] * 3 + [None] * 7
    assert tally.add("GET /other", "ok", 200, 5.0, 1000) == "healthy, to compare failing ones with"
    assert tally.add("GET /other", "ok", 200, 5.0, 1000) == "healthy, to compare failing ones with"
    assert tally.add("GET /other", "ok", 200, 5.0, 1000) is None
    in_all = 0
    for _ in range(300):
        tally.add("GET /piers", "refused", 422, 5.0, 1000)
        in_all += sum(reason == kept[0] for reason in (tally.add("GET /piers", "ok", 200, 5.0, 1000) for _ in range(4)))
    assert in_all == HEALTHY_NEAR_FAILED_AN_HOUR - 3


def test_entry_points_without_end_are_bounded() -> None:
    """Beyond the bound they are counted together."""
    tally = new_tally()
    for i in range(MOST_ENTRY_POINTS + 50):
        tally.add(f"GET /{i}", "ok", 200, 1.0, 0)
    others = [report for report in tally.take() if report["entry_point"] == OTHER]
    assert sum(report["runs"] for report in others) == 50


def test_a_healthy_run_arrives_with_its_trail(reported: Reported) -> None:
    """So that failing ones can be compared with it; the tally counts it too."""
    with obitus.run("job nightly-manifest"):
        obitus.mark("rows read", rows=62)
    run = reported.one("run")
    assert run["run"]["outcome"] == "ok" and run["trail"][0]["message"] == "rows read"
    tally = reported.one("tally")
    assert (tally["entry_point"], tally["outcome"], tally["runs"]) == ("job nightly-manifest", "ok", 1)
    rows = reported.running.service.records.reader.rows("SELECT entry_point, runs FROM run_counts")
    assert [tuple(row) for row in rows] == [("job nightly-manifest", 1)]
