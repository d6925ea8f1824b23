"""Amounts of a window, and whether a rule's limit holds for them: a fixed one, or what is usual at that hour of the week.

The usual is tested as releases are (``core.statistics``): exactly, and allowing for how much the windows of the last
weeks differ among themselves, those of that hour and all others.
"""

from __future__ import annotations

import math
from bisect import bisect_left
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from statistics import median, median_high, median_low
from typing import Final

from obitus.core.alerting.conditions import Measured, amount_said
from obitus.core.asking.summaries import percentile
from obitus.core.bounds import DURATIONS_MS
from obitus.core.clock import DAY_MS
from obitus.core.comparing import chance_said
from obitus.core.statistics import fewer, more, share_fewer, share_more
from obitus.core.wording import count_of

LEAST: Final = 5
"""Fewest records for more than usual."""
LEAST_FAILED: Final = 3
"""Fewest failed runs for a share over a limit: one of one is no share."""
LEAST_EARLIER: Final = 2
"""Fewest earlier windows for a usual amount."""
MOST_WEEKS: Final = 4
DAYS_BACK: Final = 14
FROM_MANY: Final = 4
"""From so many earlier windows on, the most extreme one is left out."""
DIFFERS: Final = 0.2
PRESUMED_FROM: Final = 4
"""Windows are presumed to differ by that share in addition to chance, with the weight of so many observed windows."""
FALSE_A_WEEK: Final = 1.0
"""Most windows a week of one rule that are more than usual by chance, in the long run."""
WEEK_MS: Final = 7 * DAY_MS
_SHARES: Final = {"median": 0.5, "p95": 0.95, "p99": 0.99}

Key = tuple[str, ...]
"""The values of a rule's groups, in the order of its fields; () where it has none."""


@dataclass(slots=True)
class Amount:
    """The counts of some records."""

    n: int = 0
    """Records; of a share, the runs that failed or were refused."""
    of: int = 0
    """Runs that they are among, where the measure is a share or a rate."""
    figure: float = 0.0
    """The sum, or the smallest or largest number."""
    buckets: Counter[float] = field(default_factory=Counter)
    """For a percentile: counts by bucket; for runs, by the end of their bucket in milliseconds, 0 beyond all."""
    people: set[str] = field(default_factory=set)

    def add(self, other: Amount, stat: str | None) -> None:
        """Add another amount to this one."""
        if other.n and stat in ("smallest", "largest"):
            pick = min if stat == "smallest" else max
            self.figure = pick(self.figure, other.figure) if self.n else other.figure
        else:
            self.figure += other.figure
        self.n += other.n
        self.of += other.of
        if other.buckets:
            self.buckets.update(other.buckets)
        if other.people:
            self.people |= other.people


@dataclass(frozen=True, slots=True)
class Judged:
    """Whether a limit holds for an amount, and why, in words with the numbers."""

    holds: bool
    value: float | None
    limit: float | None
    reason: str
    window: tuple[int, int] | None = None
    """The judged window, from and to in Unix milliseconds, where that is not the window that ends now."""


def in_all(amounts: Iterable[Amount], stat: str | None) -> Amount:
    """Return several amounts as one."""
    total = Amount()
    for amount in amounts:
        total.add(amount, stat)
    return total


def value_of(condition: Measured, amount: Amount) -> float | None:
    """Return the value of an amount, None where there is none: no runs have no share."""
    if condition.measure == "count":
        return amount.n
    if condition.measure == "people":
        return len(amount.people)
    if condition.measure in ("failed", "refused"):
        return amount.n / amount.of if amount.of else None
    if condition.measure == "per thousand":
        return amount.n / amount.of * 1000 if amount.of else None
    if not amount.n:
        return None
    if condition.stat not in _SHARES:
        return amount.figure
    share = _SHARES[condition.stat]
    if condition.source == "runs":
        return _duration(amount.buckets, share)
    return percentile({int(bucket): count for bucket, count in amount.buckets.items()}, share)


def _duration(buckets: Mapping[float, int], share: float) -> float | None:
    """Return the duration in milliseconds below which a share of runs lies, as if those of a bucket were spread evenly in it.

    Buckets are named by their ends, 0 for the last one, of which only the beginning is known.
    """
    in_all_of_them, passed = sum(buckets.values()), 0
    for end in sorted(buckets, key=lambda end: end or math.inf):
        if passed + buckets[end] >= share * in_all_of_them:
            begin = DURATIONS_MS[at - 1] if (at := bisect_left(DURATIONS_MS, end or math.inf)) else 0
            return begin + (end - begin) * (share * in_all_of_them - passed) / buckets[end] if end else float(begin)
        passed += buckets[end]
    return None


def judge(
    condition: Measured,
    amount: Amount,
    earlier: Sequence[Amount] = (),
    groups: int = 1,
    differs: Callable[[], float] | None = None,
) -> Judged:
    """Judge an amount by the limit of a condition. ``earlier`` are the same windows of earlier days, for `usual`;
    ``groups`` is the number of groups. ``differs`` returns how much windows differ in addition to chance, as
    ``differ_by`` does; it is called only where that matters.
    """
    value = value_of(condition, amount)
    if condition.is_usual:
        return _beside_usual(condition, amount, value, earlier, groups, differs)
    if value is None:
        return Judged(False, None, condition.limit, "Nothing is known of that window.")
    holds = {
        ">": value > condition.limit,
        ">=": value >= condition.limit,
        "<": value < condition.limit,
        "<=": value <= condition.limit,
    }[condition.operator]
    sentence = amount_said(condition, value)
    if condition.measure in ("failed", "refused", "per thousand"):
        sentence += f" ({amount.n:,} of {count_of(amount.of, 'run')})"
        if holds and condition.is_over and amount.n < LEAST_FAILED:
            return Judged(False, value, condition.limit, f"{sentence}: too few to be a share.")
    word = {">": "over", ">=": "at least", "<": "under", "<=": "at most"}[condition.operator]
    limit = amount_said(condition, condition.limit)
    return Judged(holds, value, condition.limit, f"{sentence} is {'' if holds else 'not '}{word} {limit}.")


def earlier_windows(end_ms: int, window_ms: int, since_ms: int) -> list[tuple[int, int]]:
    """Return the windows that are usual at that hour: of the same weekday, and while these are few, of similar days.
    Similar days are workdays, or Saturdays and Sundays (UTC). ``since_ms`` is when counting began.
    """
    back = [7 * week for week in range(1, MOST_WEEKS + 1)]
    if end_ms - window_ms - back[LEAST_EARLIER] * DAY_MS < since_ms:
        # Windows that overlap with this one do not count as usual.
        nearest = -(-window_ms // DAY_MS)
        back += [days for days in range(nearest, DAYS_BACK) if is_weekend(end_ms - days * DAY_MS) == is_weekend(end_ms)]
    found = {end_ms - days * DAY_MS for days in back}
    return [(end - window_ms, end) for end in sorted(found, reverse=True) if end - window_ms >= since_ms]


def is_weekend(end_ms: int) -> bool:
    """Whether a window that ends then lies on a Saturday or Sunday (UTC)."""
    # 1970-01-01 was a Thursday. The day that a window ends in is that of its last moment.
    return ((end_ms - 1) // DAY_MS + 3) % 7 >= 5


def _beside_usual(
    condition: Measured,
    amount: Amount,
    value: float | None,
    earlier: Sequence[Amount],
    groups: int,
    differs: Callable[[], float] | None,
) -> Judged:
    if len(earlier) < LEAST_EARLIER:
        return Judged(False, value, None, "Too early to say: fewer than two such windows were seen before.")
    seen = [
        (value_then, amount_then)
        for amount_then in earlier
        if (value_then := value_of(condition, amount_then)) is not None
    ]
    if value is None or not seen:
        return Judged(False, value, None, "Nothing is known of that window, or of those before.")
    values = [value_then for value_then, _ in seen]
    # An earlier outlier must not hide a present one.
    ranked = sorted(seen, key=lambda one: one[0], reverse=not condition.is_over)
    alike = ranked[:-1] if len(ranked) >= FROM_MANY else ranked
    if condition.measure in ("stat", "people"):
        return _beside_values(condition, value, values, [value_then for value_then, _ in alike])
    is_rate = condition.measure != "count"
    before = in_all((amount_then for _, amount_then in alike), None)
    # A count is per window, a share or a rate per run.
    exposed_before, exposed = (before.of, amount.of) if is_rate else (len(alike), 1)
    usual, now = before.n / exposed_before, amount.n / exposed
    if condition.is_over:
        holds = amount.n >= LEAST and now >= condition.limit * usual and value > alike[-1][0]
    else:
        holds = before.n / len(alike) >= LEAST and now * condition.limit <= usual and value < alike[-1][0]
    unlike = 0.0
    if holds:
        presumed = DIFFERS**2 if differs is None else differs()
        here = differ_by(
            [[(amount_then.n, amount_then.of if is_rate else 1) for _, amount_then in alike]], presumed=presumed
        )
        unlike = max(presumed, here)
    chance = _chance(condition, before.n, exposed_before, amount.n, exposed, unlike)
    level = FALSE_A_WEEK * condition.window_ms / WEEK_MS / max(1, groups)
    usual_shown = usual * 1000 if condition.measure == "per thousand" else usual
    factor = f", {now / usual:.3g} times that" if usual else ""
    return Judged(
        holds and chance <= level,
        value,
        usual_shown * condition.limit if condition.is_over else usual_shown / condition.limit,
        f"{_was_usual(condition, value, usual_shown, values)}{factor}; by chance {chance_said(chance)}.",
    )


def stands_out(condition: Measured, amount: Amount, earlier: Sequence[Amount]) -> bool:
    """Whether an amount is beyond the median of earlier ones by a condition's factor: only then can it be more, or
    less, than usual."""
    value = value_of(condition, amount)
    values = [found for one in earlier if (found := value_of(condition, one)) is not None]
    if value is None or not values:
        return False
    # Where half of them were outliers, the median is that of the others.
    return value >= condition.limit * median_low(values) if condition.is_over else value * condition.limit <= median_high(values)  # fmt: skip


def _chance(condition: Measured, before: int, exposed_before: int, now: int, exposed: int, unlike: float) -> float:
    """Return the probability of that much (or that little), if it were as before, with windows that differ by ``unlike``."""
    chance = (more if condition.is_over else fewer)(before, exposed_before, now, exposed, unlike)
    if condition.measure in ("failed", "refused"):
        chance = max(chance, (share_more if condition.is_over else share_fewer)(before, exposed_before, now, exposed))
    return chance


def differ_by(like: Iterable[Sequence[tuple[float, float]]], *, presumed: float = DIFFERS**2) -> float:
    """Return how much windows differ in addition to chance: the variance of their rates, as a share of the rate's
    square. ``like`` are windows that should be alike, group by group: the number of records, and of runs or windows.
    It is what remains of Pearson's statistic after the variance of counts is subtracted (P. McCullagh and J. A. Nelder, Generalized Linear Models, 2nd ed. 1989,
    section 6.2); moderated by a prior (``presumed``).
    """
    weight, squares, free = 0.0, 0.0, 0
    for windows in like:
        exposed = sum(of for _, of in windows)
        count = sum(n for n, _ in windows)
        if len(windows) < 2 or not exposed or not count:
            continue
        for n, of in windows:
            expected, share = count * of / exposed, 1 - of / exposed
            squares += (n - expected) ** 2 - expected * share
            weight += expected**2 * share
        free += len(windows) - 1
    found = max(0.0, squares / weight) if weight else 0.0
    return (PRESUMED_FROM * presumed + free * found) / (PRESUMED_FROM + free)


def _was_usual(condition: Measured, value: float, usual: float, values: Sequence[float]) -> str:
    seen = ", ".join(amount_said(condition, one) for one in values[:MOST_WEEKS])
    return (
        f"{amount_said(condition, value)} where {amount_said(condition, usual)} was usual at that hour (before: {seen})"
    )


def _beside_values(condition: Measured, value: float, values: Sequence[float], alike: Sequence[float]) -> Judged:
    """Compare numbers that are no counts: beyond all earlier ones, by the factor."""
    usual = median(alike)
    if condition.is_over:
        holds = value > max(alike) and value >= condition.limit * usual and value > 0
    else:
        holds = value < min(alike) and value * condition.limit <= usual
    if condition.measure == "people":
        holds = holds and (value if condition.is_over else usual) >= LEAST
    limit = usual * condition.limit if condition.is_over else usual / condition.limit
    return Judged(holds, value, limit, f"{_was_usual(condition, value, usual, values)}.")
