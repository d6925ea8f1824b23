"""Until what an issue is parked: said in words, and brought back by the first of its conditions, never by none."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.parking import (
    ANOTHER,
    MetIn,
    Since,
    Until,
    as_another,
    reopened_by_count,
    reopened_by_place,
    reopened_by_time,
    so_far,
)
from obitus.core.releases import DatedRelease, ReleaseOrder

T = 1_764_320_400_000
H = 3_600_000
ORDER = ReleaseOrder(DatedRelease(version, T + hours * H) for version, hours in (("2.9.0", -40), ("3.0.0", -20), ("2.9.2", 2), ("3.0.1", 5), ("beef001", 6), ("0c0ffee", -6)))  # fmt: skip
COUNTS = st.none() | st.integers(1, 1000)
UNTILS = st.builds(Until, st.none() | st.integers(0, 2 * T), COUNTS, COUNTS, COUNTS, st.sets(st.sampled_from(ANOTHER)).map(as_another))  # fmt: skip
SINCES = st.builds(Since, st.integers(0, 2000), st.integers(0, 2000), st.integers(0, 2000))


def test_said_in_words() -> None:
    """Every condition is named, the last with `or`; what has none says nothing."""
    assert Until().said == "" and Until().is_open
    assert Until(time_ms=T).said == "until 2025-11-28 09:00 UTC"
    assert (
        Until(failures=1, another=("environment",)).said == "until 1 more failure or a failure in another environment"
    )
    whole = Until(T, 100, 20, 10, ANOTHER)
    assert whole.said == (
        "until 2025-11-28 09:00 UTC, 100 more failures, 20 failures within one hour, 10 more people, a failure in another release, "
        "a failure in another environment or a failure in another app"
    )
    assert so_far(whole, Since(37, 2, 5)) == "37 of 100 failures, 5 of 20 in the last hour, 2 of 10 people"
    assert so_far(Until(time_ms=T), Since(37, 2)) == ""


@given(UNTILS, SINCES, st.integers(0, 2 * T))
def test_nothing_comes_back_before_its_condition_holds(until: Until, since: Since, now_ms: int) -> None:
    """What brings one back is a condition that was set, and that holds; a reason is given exactly then."""
    counted = (
        (until.failures is not None and since.failures >= until.failures)
        or (until.an_hour is not None and since.in_last_hour >= until.an_hour)
        or (until.people is not None and since.people >= until.people)
    )
    assert (reopened_by_count(until, since) is not None) == counted
    assert (reopened_by_time(until, now_ms) is not None) == (until.time_ms is not None and until.time_ms <= now_ms)
    assert until.is_open == (not until.conditions())


@pytest.mark.parametrize(
    ("release", "known", "newest", "back"),
    [
        ("3.0.1", False, "3.0.0", True),
        ("3.0.1", True, "3.0.0", False),  # it had been met there
        ("2.9.2", False, "3.0.0", False),  # an older branch that is still running says nothing new
        ("2.9.0", False, "3.0.0", False),
        ("3.1.0", False, "3.0.0", True),  # not come yet: by its number
        ("beef001", False, "3.0.0", True),  # no order between the two, and it came since
        ("0c0ffee", False, "3.0.0", False),  # nor here, and it was there before
        ("3.0.1", False, None, True),
        ("", False, "3.0.0", False),  # a failure that names no release
    ],
)
def test_another_release_is_a_later_one(release: str, known: bool, newest: str | None, back: bool) -> None:
    """A release counts that the issue was not met in and that is later than the newest when it was parked."""
    met = MetIn(release, "production", known, is_environment_known=True)
    found = reopened_by_place(Until(another=("release",)), met, newest, T, ORDER)
    assert (found is not None) == back
    if back:
        assert release in str(found)
    assert reopened_by_place(Until(another=("environment",)), met, newest, T, ORDER) is None


def test_another_environment() -> None:
    """Where it was met before, it stays parked."""
    met = MetIn("3.0.0", "staging", is_release_known=True, is_environment_known=False)
    assert reopened_by_place(Until(another=("environment",)), met, "3.0.0", T, ORDER) == (
        "seen in staging, where it had not been seen"
    )
    assert reopened_by_place(Until(another=("release", "app")), met, "3.0.0", T, ORDER) is None
