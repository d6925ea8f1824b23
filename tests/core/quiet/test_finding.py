"""What is more than usual: planted rises are found, and where nothing rises hardly ever anything is."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.clock import HOUR_MS
from obitus.core.comparing import FailureRate, RateHistory
from obitus.core.quiet.finding import did_not_run, more_than_usual

NOW_H = 500_000


def drawn(dice: np.random.Generator, runs: int, share: float) -> FailureRate:
    return FailureRate(int(dice.binomial(runs, share)), runs)


@pytest.mark.parametrize("kind", ["refused", "warning"])
def test_a_planted_rise_is_found(kind: str) -> None:
    """Of twenty entry points one refuses three times as often as it did: it is named, first, with its numbers."""
    dice = np.random.default_rng(5)
    named = 0
    for _ in range(60):
        histories = [
            RateHistory(f"GET /{n}", drawn(dice, 400, 0.04), (("2.9.0", drawn(dice, 1500, 0.04)),)) for n in range(20)
        ]
        histories[7] = RateHistory("GET /7", drawn(dice, 400, 0.12), histories[7].earlier)
        found = more_than_usual(histories, kind, "in release 3.0.0")  # type: ignore[arg-type]
        named += bool(found) and found[0].subject == "GET /7"
    assert named >= 55, named
    assert "in release 3.0.0; " in found[0].reason and "2.9.0" in found[0].reason and "by chance" in found[0].reason


def test_where_nothing_rose_nothing_is_named() -> None:
    """At most one time in twenty."""
    dice = np.random.default_rng(6)
    wrong = 0
    for _ in range(200):
        histories = [
            RateHistory(f"GET /{n}", drawn(dice, 200, 0.05), (("2.9.0", drawn(dice, 600, 0.05)),)) for n in range(10)
        ]
        wrong += bool(more_than_usual(histories, "refused", "in release 3.0.0"))
    assert wrong <= 10, wrong


def test_what_was_never_there_is_new() -> None:
    """Five refusals where there were none in a thousand runs; one is too few to say anything."""
    quiet = RateHistory("POST /boardings", FailureRate(5, 40), (("2.9.0", FailureRate(0, 1000)),))
    (found,) = more_than_usual([quiet], "refused", "in release 3.0.0")
    assert "5 of 40 runs were refused (12.5%)" in found.reason and ": new, " in found.reason
    assert not more_than_usual(
        [RateHistory("POST /boardings", FailureRate(1, 40), quiet.earlier)], "refused", "in 3.0.0"
    )
    assert not more_than_usual([RateHistory("POST /boardings", FailureRate(5, 40), ())], "refused", "in 3.0.0")


def test_a_nightly_job_that_stays_away() -> None:
    """After two days it is missed, after one it is not; a job that ran twice is never expected."""
    nightly = [NOW_H - 24 * n for n in range(13, 1, -1)]
    (found,) = did_not_run({"job nightly-manifest": nightly}, NOW_H * HOUR_MS)
    assert found.subject == "job nightly-manifest" and found.last_hour == NOW_H - 48
    assert "It last ran 2 days ago" in found.reason and "never stayed away for more than 24 hours" in found.reason
    assert not did_not_run({"job nightly-manifest": [hour + 24 for hour in nightly]}, NOW_H * HOUR_MS)
    assert not did_not_run({"job once": [NOW_H - 300, NOW_H - 200]}, NOW_H * HOUR_MS)


@given(st.dictionaries(st.text(max_size=5), st.lists(st.integers(NOW_H - 400, NOW_H), max_size=30).map(sorted)))
def test_a_job_is_missed_only_when_it_is_late(hours: dict[str, list[int]]) -> None:
    """Whatever ran when: what is missed was away for longer than ever before."""
    unique = {job: sorted(set(ran)) for job, ran in hours.items()}
    for one in did_not_run(unique, NOW_H * HOUR_MS):
        ran = unique[one.subject]
        assert NOW_H - ran[-1] > max(later - earlier for earlier, later in pairwise(ran))
