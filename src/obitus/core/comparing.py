"""What a release did: issues and entry points of two releases compared by their rates, and rates that rose."""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from dataclasses import dataclass
from typing import Final, Literal

from obitus.core import statistics
from obitus.core.statistics import FACTOR, Interval
from obitus.core.wording import count_of

Kind = Literal["new", "regressed", "gone", "worse", "better", "unchanged", "cannot tell"]
KINDS: Final[tuple[Kind, ...]] = ("new", "regressed", "worse", "gone", "better", "unchanged", "cannot tell")
ALIKE: Final = 0.01
"""Earlier releases are taken together while the difference of their rates has at least this probability by chance."""
LEVEL: Final = 0.025
"""Of rates that did not change, at most this share is marked as higher since a release."""


@dataclass(frozen=True, slots=True)
class FailureRate:
    """Failures, and runs (0 where none are counted)."""

    failures: int
    runs: int

    def __add__(self, other: FailureRate) -> FailureRate:
        return FailureRate(self.failures + other.failures, self.runs + other.runs)


@dataclass(frozen=True, slots=True)
class Pair:
    """One issue or entry point in two releases. ``new``: never seen before the later one; ``regressed``: settled, and failing again in it."""

    key: Hashable
    before: FailureRate
    now: FailureRate
    new: bool = False
    regressed: bool = False


@dataclass(frozen=True, slots=True)
class Compared:
    """The result, its reason, the factor of the rate, and its probability by chance."""

    key: Hashable
    kind: Kind
    reason: str
    factor: Interval | None = None
    chance: float | None = None


def compare(pairs: Sequence[Pair], before: str, now: str, *, shares: bool = False) -> list[Compared]:
    """Compare issues (counts of failures), or with ``shares`` entry points (failed runs among runs), of two releases.

    Of all that is called worse or better, at most a share of `statistics.FALSE_SHARE` is so by chance, in the long run: each
    is tested exactly, on both sides, and the false discovery rate is held over all that could be tested. *Unchanged* is
    said only where the numbers rule out a change by a factor of two; else they cannot tell.
    """
    comparisons = [_known(pair, before, now) for pair in pairs]
    open_pairs = [pair for pair, comparison in zip(pairs, comparisons, strict=True) if comparison is None]
    more = statistics.share_more if shares else statistics.more
    fewer = statistics.share_fewer if shares else statistics.fewer
    tested = [pair for pair in open_pairs if _could_tell(pair)]
    ups = [more(p.before.failures, p.before.runs, p.now.failures, p.now.runs) for p in tested]
    downs = [fewer(p.before.failures, p.before.runs, p.now.failures, p.now.runs) for p in tested]
    chances = [min(1.0, 2 * min(up, down)) for up, down in zip(ups, downs, strict=True)]
    significant = statistics.significant(chances)
    judged = {
        pair.key: _judged(pair, before, now, chance=chance, up=up < down, significant=sure)
        for pair, chance, up, down, sure in zip(tested, chances, ups, downs, significant, strict=True)
    }
    return [
        comparison or judged.get(pair.key) or _too_few(pair, before, now)
        for pair, comparison in zip(pairs, comparisons, strict=True)
    ]


@dataclass(frozen=True, slots=True)
class RateRegression:
    """A rate that is higher since a release: against which releases, by what factor, and how probable by chance."""

    key: Hashable
    before: FailureRate
    now: FailureRate
    against: tuple[str, ...]
    factor: Interval
    chance: float
    sure: bool
    """Whether it holds with the false discovery rate over all comparisons; else it is only *perhaps*."""

    @property
    def reason(self) -> str:
        """In words, with its numbers."""
        was, is_ = _rate(self.before), _rate(self.now)
        expected = self.before.failures / self.before.runs * self.now.runs
        return (
            f"{is_} per thousand runs ({count_of(self.now.failures, 'failure')} in {count_of(self.now.runs, 'run')}) where "
            f"{was} was usual in {between(self.against)}: "
            f"{expected:,.1f} expected, {times(self.factor)}, by chance {chance_said(self.chance)}."
        )


@dataclass(frozen=True, slots=True)
class RateHistory:
    """Counts by release: in the judged one, and in those before it, the nearest first."""

    key: Hashable
    now: FailureRate
    earlier: tuple[tuple[str, FailureRate], ...]


def rate_regressions(histories: Sequence[RateHistory], *, shares: bool = False) -> list[RateRegression]:
    """Return what fails at a higher rate in a release than before it, each tested exactly.

    Of rates that did not change at most a share of `LEVEL` is returned; of those returned as ``sure`` at most
    `statistics.FALSE_SHARE` did not change, in the long run. Both are needed: the first finds a doubling at twenty expected
    failures, the second keeps a thousand quiet issues from filling the page.

    The earlier rate is that of the releases just before, taken together while they are alike, so that an old one is
    not found again with every release. Something that never failed before is new, and no rate regression.
    """
    more = statistics.share_more if shares else statistics.more
    tested: list[tuple[RateHistory, FailureRate, tuple[str, ...], float]] = []
    for history in histories:
        before, against = usual(history.earlier)
        if not before.failures or not history.now.failures or not history.now.runs:
            continue
        if not statistics.could_tell(before.failures + history.now.failures, before.runs, history.now.runs):
            continue
        chance = more(before.failures, before.runs, history.now.failures, history.now.runs)
        tested.append((history, before, against, chance))
    significant = statistics.significant([chance for *_, chance in tested])
    regressions = []
    for (history, before, against, chance), sure in zip(tested, significant, strict=True):
        factor = statistics.ratio(before.failures, before.runs, history.now.failures, history.now.runs)
        if chance <= LEVEL and factor is not None:
            regressions.append(RateRegression(history.key, before, history.now, against, factor, chance, sure=sure))
    return regressions


def usual(earlier: Sequence[tuple[str, FailureRate]]) -> tuple[FailureRate, tuple[str, ...]]:
    """Return the usual rate before: the nearest earlier releases taken together while they are alike, and which these are."""
    total = FailureRate(0, 0)
    names: list[str] = []
    for name, seen in earlier:
        if not seen.runs:
            continue
        if total.runs and not _near(total, seen):
            chance = 2 * min(
                statistics.more(seen.failures, seen.runs, total.failures, total.runs),
                statistics.fewer(seen.failures, seen.runs, total.failures, total.runs),
            )
            if chance < ALIKE:
                break
        total += seen
        names.append(name)
    return total, tuple(names)


def _near(rate: FailureRate, other: FailureRate) -> bool:
    """Whether two counts are so near to one common rate that no test distinguishes them."""
    both = rate + other
    expected = both.failures * other.runs / both.runs
    return (other.failures - expected) ** 2 <= 2 * expected * rate.runs / both.runs


def between(newest_first: Sequence[str]) -> str:
    """Write a list of releases in words: ``2.9.0 to 3.0.1``."""
    newest, oldest = newest_first[0], newest_first[-1]
    if len(newest_first) == 1:
        return newest
    return f"{oldest} and {newest}" if len(newest_first) == 2 else f"{oldest} to {newest}"


def times(factor: Interval) -> str:
    """Write a factor with its interval: ``2.1 times as often (1.4 to 3.2)``."""
    high = f"{factor.high:.1f}" if factor.high < 1000 else "more than 1,000"
    value = f"{factor.value:.1f}" if factor.value < 1000 else "more than 1,000"
    return f"{value} times as often ({factor.low:.1f} to {high})"


def chance_said(chance: float) -> str:
    """Write a probability: ``1 in 240``."""
    if chance >= 0.5:
        return "likely"
    return "less than 1 in a million" if chance < 1e-6 else f"1 in {round(1 / chance):,}"


def _known(pair: Pair, before: str, now: str) -> Compared | None:
    """Return results that need no test: new and regressed issues are known, and without runs nothing can be compared."""
    if pair.regressed and pair.now.failures:
        return Compared(pair.key, "regressed", f"It was settled, and has failed again in {now}: {_seen(pair.now)}.")
    if pair.new and pair.now.failures:
        none = f"; none in {before} over {count_of(pair.before.runs, 'run')}" if pair.before.runs else ""
        return Compared(pair.key, "new", f"First seen in {now}: {_seen(pair.now)}{none}.")
    if not pair.before.runs or not pair.now.runs:
        bare = before if not pair.before.runs else now
        return Compared(
            pair.key, "cannot tell", f"No runs are counted for it in {bare}, so there is no rate to compare."
        )
    return None


def _could_tell(pair: Pair) -> bool:
    total = pair.before.failures + pair.now.failures
    half = statistics.FALSE_SHARE / 2
    return statistics.could_tell(total, pair.before.runs, pair.now.runs, half) or statistics.could_tell(
        total, pair.now.runs, pair.before.runs, half
    )


def _judged(pair: Pair, before: str, now: str, *, chance: float, up: bool, significant: bool) -> Compared:
    factor = statistics.ratio(pair.before.failures, pair.before.runs, pair.now.failures, pair.now.runs)
    if factor is None:
        return _too_few(pair, before, now)
    if significant:
        rates = f"{_seen(pair.now)} in {now}, {_seen(pair.before)} in {before}"
        if not pair.now.failures:
            return Compared(pair.key, "gone", f"None in {now} over {count_of(pair.now.runs, 'run')}; {_seen(pair.before)} in {before}; by chance {chance_said(chance)}.", factor, chance)  # fmt: skip
        return Compared(
            pair.key,
            "worse" if up else "better",
            f"{rates}: {times(factor)}, by chance {chance_said(chance)}.",
            factor,
            chance,
        )
    if factor.low >= 1 / FACTOR and factor.high <= FACTOR:
        return Compared(pair.key, "unchanged", f"{times(factor)}: no change by a factor of two.", factor, chance)
    return _too_few(pair, before, now, factor, chance)


def _too_few(
    pair: Pair, before: str, now: str, factor: Interval | None = None, chance: float | None = None
) -> Compared:
    numbers = f"{_counted(pair.before)} in {before}, {_counted(pair.now)} in {now}"
    return Compared(pair.key, "cannot tell", f"The numbers are too small: {numbers}.", factor, chance)


def _counted(seen: FailureRate) -> str:
    return f"{count_of(seen.failures, 'failure')} in {count_of(seen.runs, 'run')}"


def _seen(seen: FailureRate) -> str:
    if not seen.runs:
        return count_of(seen.failures, "failure")
    return f"{_rate(seen)} per thousand runs ({_counted(seen)})"


def _rate(seen: FailureRate) -> str:
    rate = seen.failures / seen.runs * 1000 if seen.runs else 0.0
    return f"{rate:,.0f}" if rate >= 100 else f"{rate:.1f}" if rate >= 1 else f"{rate:.2g}"
