"""Rates, their intervals, and exact tests. SciPy is imported at its first use."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from statistics import NormalDist
from typing import Final

CONFIDENCE: Final = 0.95
FALSE_SHARE: Final = 0.05
"""Of everything called worse (or better), at most this share is so by chance alone, in the long run."""
FACTOR: Final = 2.0
"""A change by less than this factor in either direction counts as none, where the numbers are large enough."""


@dataclass(frozen=True, slots=True)
class Interval:
    """A value and the bounds of its interval of 95% confidence."""

    value: float
    low: float
    high: float


def wilson(hits: int, tries: int, confidence: float = CONFIDENCE) -> Interval:
    """Return the share of ``hits`` in ``tries`` with its score interval (E. B. Wilson, J. Amer. Statist. Assoc. 22, 1927)."""
    if tries <= 0:
        return Interval(0.0, 0.0, 1.0)
    z = NormalDist().inv_cdf((1 + confidence) / 2)
    share = min(1.0, hits / tries)
    middle = (share + z * z / (2 * tries)) / (1 + z * z / tries)
    half = z * math.sqrt(share * (1 - share) / tries + z * z / (4 * tries * tries)) / (1 + z * z / tries)
    return Interval(
        share, 0.0 if hits == 0 else max(0.0, middle - half), 1.0 if hits >= tries else min(1.0, middle + half)
    )


def per_thousand(failures: int, runs: int) -> Interval | None:
    """Return failures per thousand runs, with its interval; None without runs.

    Wilson's, while there is at most one failure a run; beyond that the exact one of a Poisson count (F. Garwood, Biometrika 28,
    1936).
    """
    if runs <= 0:
        return None
    if failures <= runs:
        interval = wilson(failures, runs)
        return Interval(interval.value * 1000, interval.low * 1000, interval.high * 1000)
    from scipy.special import gammaincinv

    tail = (1 - CONFIDENCE) / 2
    return Interval(
        failures / runs * 1000,
        float(gammaincinv(failures, tail)) / runs * 1000,
        float(gammaincinv(failures + 1, 1 - tail)) / runs * 1000,
    )


def more(before: int, exposed_before: float, now: int, exposed_now: float, differs: float = 0.0) -> float:
    """Return the probability of at least ``now`` events in ``exposed_now``, if the rate is that of ``before`` in ``exposed_before``.

    The exact conditional test of two Poisson rates (J. Przyborowski and H. Wilenski, Biometrika 31, 1940): given the sum, the
    later count is binomial. It allows for the uncertainty of the earlier rate. With ``differs`` rates vary by
    themselves: it is their variance as a share of the rate's square, and counts are negative binomial (M. Greenwood and G. U. Yule, J. R. Stat. Soc. 83, 1920).
    """
    if now <= 0 or exposed_now <= 0 or exposed_before <= 0:
        return 1.0
    from scipy.special import betainc

    events, share = _known_events(before, exposed_before, exposed_now, differs)
    return float(betainc(now, events + 1, share))


def fewer(before: int, exposed_before: float, now: int, exposed_now: float, differs: float = 0.0) -> float:
    """Return the probability of at most ``now`` events, if the rate is the earlier one. The other side of `more`."""
    if exposed_now <= 0 or exposed_before <= 0 or before <= 0:
        return 1.0
    from scipy.special import betainc

    events, share = _known_events(before, exposed_before, exposed_now, differs)
    return float(betainc(events, now + 1, 1 - share))


def _known_events(before: int, exposed_before: float, exposed_now: float, differs: float) -> tuple[float, float]:
    """Return the effective number of events by which a rate is known, and the expected share of all now."""
    if not differs or not before:
        return before, exposed_now / (exposed_before + exposed_now)
    effective = 1 / (differs * (1 + exposed_now / exposed_before) + 1 / before)
    expected = before / exposed_before * exposed_now
    return effective, expected / (expected + effective)


def share_more(before: int, runs_before: int, now: int, runs_now: int) -> float:
    """Return the probability of at least ``now`` failed runs in ``runs_now``, if the share is that of before.

    The exact test of R. A. Fisher for two shares (Statistical Methods for Research Workers, 5th ed. 1934, section 21.02), one side.
    """
    if now <= 0 or runs_now <= 0 or runs_before <= 0:
        return 1.0
    return _hypergeometric_from(now, runs_before + runs_now, before + now, runs_now)


def share_fewer(before: int, runs_before: int, now: int, runs_now: int) -> float:
    """Return the probability of at most ``now`` failed runs, if the share is that of before. The other side of `share_more`."""
    if before <= 0 or runs_now <= 0 or runs_before <= 0:
        return 1.0
    return _hypergeometric_from(before, runs_before + runs_now, before + now, runs_before)


def _hypergeometric_from(least: int, whole: int, marked: int, drawn: int) -> float:
    """Return the probability of at least ``least`` of ``marked`` among ``drawn`` of ``whole``. Summed term by term
    away from the mode, where each is smaller than the one before: importing SciPy for it would take seconds.
    """
    lowest, highest = max(0, marked + drawn - whole), min(marked, drawn)
    if least <= lowest:
        return 1.0
    if least > highest:
        return 0.0
    upward = least * whole >= marked * drawn
    k = least if upward else least - 1
    term = math.exp(_choose(marked, k) + _choose(whole - marked, drawn - k) - _choose(whole, drawn))
    total = 0.0
    while term > total * 1e-17 and lowest <= k <= highest:
        total += term
        if upward:
            term *= (marked - k) * (drawn - k) / ((k + 1) * (whole - marked - drawn + k + 1))
            k += 1
        else:
            term *= k * (whole - marked - drawn + k) / ((marked - k + 1) * (drawn - k + 1))
            k -= 1
    return min(1.0, total if upward else 1 - total)


def _choose(n: int, k: int) -> float:
    return math.lgamma(n + 1) - math.lgamma(k + 1) - math.lgamma(n - k + 1)


def ratio(before: int, exposed_before: float, now: int, exposed_now: float) -> Interval | None:
    """Return the factor by which the rate changed, with its interval; ``high`` may be infinite. None without exposure.

    From Wilson's interval of the later count's share in the sum (as in `more`).
    """
    if exposed_before <= 0 or exposed_now <= 0 or before + now == 0:
        return None
    share = wilson(now, before + now)
    scale = exposed_before / exposed_now

    def odds(p: float) -> float:
        return math.inf if p >= 1 else p / (1 - p) * scale

    return Interval(odds(share.value), odds(share.low), odds(share.high))


def significant(values: Sequence[float], false_share: float = FALSE_SHARE) -> list[bool]:
    """Return which findings hold with the false discovery rate at ``false_share``, given their probabilities by chance.

    The step-up procedure of Y. Benjamini and Y. Hochberg, J. R. Statist. Soc. B 57, 1995.
    """
    ranked = sorted(range(len(values)), key=lambda i: values[i])
    last = 0
    for rank, i in enumerate(ranked, 1):
        if values[i] <= false_share * rank / len(values):
            last = rank
    verdicts = [False] * len(values)
    for i in ranked[:last]:
        verdicts[i] = True
    return verdicts


def could_tell(total: int, exposed_before: float, exposed_now: float, false_share: float = FALSE_SHARE) -> bool:
    """Return whether this many events in all could show a change at all: whether the most extreme division would be improbable.

    What can never be significant is not compared, so that the other tests are not made stricter (R. E. Tarone, Biometrics 46, 1990).
    """
    if exposed_before <= 0 or exposed_now <= 0 or total <= 0:
        return False
    return (exposed_now / (exposed_before + exposed_now)) ** total <= false_share


def below_share(counts: Mapping[float, float], share: float) -> float | None:
    """Return the end of the bucket below which a share of all values is; None without values, or where that is
    beyond all buckets. ``counts`` has the number in each bucket, by its end; 0 is beyond all of them.
    """
    in_all, passed = sum(counts.values()), 0.0
    for end in sorted(counts, key=lambda end: end or math.inf):
        passed += counts[end]
        if passed >= share * in_all:
            return end or None
    return None
