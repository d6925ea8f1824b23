"""Intervals and tests against values worked out by hand, published, or by other means."""

from __future__ import annotations

import math
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core import fix_verdict, statistics
from obitus.core.comparing import FailureRate, Pair, RateHistory, compare, rate_regressions, usual
from obitus.core.fix_verdict import Traffic

COUNT = st.integers(0, 60)
RUNS = st.integers(1, 5000)


@pytest.mark.parametrize(("hits", "tries", "low", "high"), [(0, 10, 0.0, 0.2775), (1, 10, 0.0179, 0.4042), (81, 263, 0.2553, 0.3662), (10, 10, 0.7225, 1.0)])  # fmt: skip
def test_wilson(hits: int, tries: int, low: float, high: float) -> None:
    """The second and third are of R. G. Newcombe's table (Statist. Med. 17, 1998), the others worked out by the formula."""
    found = statistics.wilson(hits, tries)
    assert (found.low, found.high) == (pytest.approx(low, abs=2e-4), pytest.approx(high, abs=2e-4))


@given(COUNT, st.integers(1, 200), COUNT, st.integers(1, 200))
def test_more_is_a_binomial_tail(before: int, runs: int, now: int, runs_now: int) -> None:
    """The exact test of two rates is what counting it out with fractions gives; its two sides overlap in the value itself."""
    total, share = before + now, Fraction(runs_now, runs + runs_now)
    terms = [math.comb(total, k) * share**k * (1 - share) ** (total - k) for k in range(total + 1)]
    assert statistics.more(before, runs, now, runs_now) == pytest.approx(float(sum(terms[now:])), rel=1e-9, abs=1e-12)
    assert statistics.fewer(before, runs, now, runs_now) == pytest.approx(
        float(sum(terms[: now + 1])), rel=1e-9, abs=1e-12
    )


def test_fishers_tea() -> None:
    """Fisher's own example of two shares: 8 cups, 3 of 4 right, one side 0.243."""
    assert statistics.share_more(1, 4, 3, 4) == pytest.approx(0.24286, abs=1e-5)


@given(st.integers(0, 400), st.integers(0, 4000), st.integers(0, 400), st.integers(0, 4000))
def test_two_shares(before: int, well_before: int, now: int, well_now: int) -> None:
    """The exact test of two shares is what the library's distribution gives."""
    from scipy.stats import hypergeom

    runs, runs_now = before + well_before, now + well_now
    if runs and runs_now and now:
        expected = hypergeom.sf(now - 1, runs + runs_now, before + now, runs_now)
        assert statistics.share_more(before, runs, now, runs_now) == pytest.approx(expected, rel=1e-6, abs=1e-9)
    if runs and runs_now and before:
        expected = hypergeom.cdf(now, runs + runs_now, before + now, runs_now)
        assert statistics.share_fewer(before, runs, now, runs_now) == pytest.approx(expected, rel=1e-6, abs=1e-9)


def test_false_discoveries() -> None:
    """The example of Benjamini and Hochberg (1995), section 4.1: of fifteen, four stand."""
    values = [
        0.0001,
        0.0004,
        0.0019,
        0.0095,
        0.0201,
        0.0278,
        0.0298,
        0.0344,
        0.0459,
        0.3240,
        0.4262,
        0.5719,
        0.6528,
        0.7590,
        1.0,
    ]
    assert sum(statistics.significant(values)) == 4
    assert statistics.significant([]) == []


@given(COUNT, RUNS, COUNT, RUNS)
def test_intervals_hold_their_value(before: int, runs: int, now: int, runs_now: int) -> None:
    """Every interval contains what it is about."""
    for found in (statistics.per_thousand(before, runs), statistics.ratio(before, runs, now, runs_now)):
        if found is not None:
            assert found.low <= found.value * (1 + 1e-9) and found.value <= found.high * (1 + 1e-9)


def test_more_failures_than_runs() -> None:
    """Several failures in one run have a rate above a thousand, with the exact bounds of a Poisson count."""
    found = statistics.per_thousand(20, 10)
    assert found is not None and (found.low, found.high) == (
        pytest.approx(1221.6, abs=0.5),
        pytest.approx(3088.8, abs=0.5),
    )
    assert statistics.per_thousand(3, 0) is None


@given(st.lists(st.tuples(COUNT, RUNS, COUNT, RUNS, st.booleans(), st.booleans()), max_size=12))
def test_everything_gets_one_kind(rows: list[tuple[int, int, int, int, bool, bool]]) -> None:
    """Each issue is one of the kinds, with a reason; what fails nowhere now is never worse, and turned round, worse is better."""
    pairs = [
        Pair(i, FailureRate(b, rb), FailureRate(n, rn), new=new, regressed=back)
        for i, (b, rb, n, rn, new, back) in enumerate(rows)
    ]
    found = compare(pairs, "3.0.0", "3.1.0")
    assert [one.key for one in found] == [pair.key for pair in pairs] and all(one.reason for one in found)
    plain = [Pair(pair.key, pair.before, pair.now) for pair in pairs]
    turned = [Pair(pair.key, pair.now, pair.before) for pair in pairs]
    opposite = {
        "worse": ("better", "gone"),
        "better": ("worse",),
        "gone": ("worse",),
        "unchanged": ("unchanged",),
        "cannot tell": ("cannot tell",),
    }
    for one, other in zip(compare(plain, "a", "b"), compare(turned, "b", "a"), strict=True):
        assert other.kind in opposite[one.kind]


def test_small_numbers_cannot_tell() -> None:
    """One failure before and two now is no percentage."""
    (one,) = compare([Pair(1, FailureRate(1, 100), FailureRate(2, 100))], "3.0.0", "3.1.0")
    assert (
        one.kind == "cannot tell"
        and "too small: 1 failure in 100 runs in 3.0.0, 2 failures in 100 runs in 3.1.0" in one.reason
    )
    (bare,) = compare([Pair(1, FailureRate(9, 0), FailureRate(50, 100))], "3.0.0", "3.1.0")
    assert bare.kind == "cannot tell" and "No runs are counted for it in 3.0.0" in bare.reason


def test_what_was_usual() -> None:
    """Earlier releases are taken together while they are alike, so that an old step is not found again with each release."""
    earlier = [
        ("3.0.0", FailureRate(61, 10_000)),
        ("2.9.0", FailureRate(58, 10_000)),
        ("2.8.0", FailureRate(20, 10_000)),
    ]
    assert usual(earlier) == (FailureRate(119, 20_000), ("3.0.0", "2.9.0"))
    assert usual([("3.0.0", FailureRate(0, 0)), ("2.9.0", FailureRate(1, 50))]) == (FailureRate(1, 50), ("2.9.0",))
    (step,) = rate_regressions(
        [
            RateHistory(7, FailureRate(130, 10_000), tuple(earlier)),
            RateHistory(8, FailureRate(60, 10_000), tuple(earlier)),
            RateHistory(9, FailureRate(50, 900), ()),
        ]
    )
    assert step.key == 7 and "usual in 2.9.0 and 3.0.0: 59.5 expected" in step.reason


@given(st.integers(1, 200), st.integers(100, 100_000))
def test_enough_is_enough(failures: int, runs: int) -> None:
    """After exactly as many runs as it asks for, a fix counts as held; somewhat before, not yet."""
    before = Traffic(failures, runs)
    for factor, expected in ((1.001, "held"), (0.97, "too early to say")):
        since = Traffic(0, fix_verdict.enough(before) * factor)
        held = fix_verdict.verdict(before, since, unit="runs", fix="3.1.0", per_hour=10, now_ms=0, came=True)
        assert held.verdict == expected and (held.ready_ms is None) == (expected == "held")
