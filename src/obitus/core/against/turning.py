"""The turning point: the first step of a failing run that healthy runs of its entry point do not have, do
differently, or finish far sooner.

A difference counts by how few of the healthy runs show the same. Healthy runs differ from each other, too: so each
healthy run is compared with all others like the failing one, and a difference is named only if at most one in twenty
of them shows an equally strong one (a conformal test,
V. Vovk, A. Gammerman and G. Shafer, "Algorithmic Learning in a Random World", 2005): with nothing wrong something is named in 5% at most.
Its place among the steps follows from an alignment with the nearest healthy run (S. B. Needleman and C. D. Wunsch, J. Mol. Biol. 48, 1970).
"""

from __future__ import annotations

import math
import statistics
from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Final, Literal, NamedTuple

from obitus.core.against.steps import Step

DifferenceKind = Literal["missing", "added", "otherwise", "slower"]
MOST_HEALTHY: Final = 60
LEAST_HEALTHY: Final = 19
"""With fewer, a chance of one in twenty cannot be measured."""
FALSE_SHARE: Final = 0.05
SLOWER_BY: Final = 3.0
LEAST_SLOWER_MS: Final = 20.0
MOST_ALIGNED: Final = 400


class Difference(NamedTuple):
    """One difference from healthy runs."""

    kind: DifferenceKind
    place: int
    """The step that differs, or before which something is missing."""
    key: str
    alike: int
    """The number of healthy runs that show the same."""
    of: int
    weight: float
    said: str


@dataclass(frozen=True, slots=True)
class Turning:
    """What was found."""

    named: Difference | None
    differences: list[Difference]
    """All that are equally strong, in order; one of each kind."""
    healthy: int
    said: str


@dataclass(slots=True)
class _Habits:
    """Statistics of runs: how many have each step, with which outcome, and how long it takes."""

    runs: int = 0
    having: Counter[str] = field(default_factory=Counter)
    times_a_run: dict[str, Counter[int]] = field(default_factory=lambda: defaultdict(Counter))
    """By step: the number of runs by how often they have it."""
    outcomes: dict[str, Counter[str]] = field(default_factory=lambda: defaultdict(Counter))
    """By step: the number of runs by its outcome."""
    times: dict[str, list[float]] = field(default_factory=lambda: defaultdict(list))
    """By step: the longest of each run."""

    def add(self, run: Sequence[Step], sign: int = 1) -> None:
        """Add a run, or (-1) remove it."""
        self.runs += sign
        for key, times in Counter(step.key for step in run).items():
            self.having[key] += sign
            self.times_a_run[key][times] += sign
        for key, outcome in {(step.key, step.outcome) for step in run}:
            self.outcomes[key][outcome] += sign
        for key, ms in _longest(run).items():
            if sign > 0:
                self.times[key].append(ms)
            else:
                self.times[key].remove(ms)


def turning_point(failing: Sequence[Step], healthy: Sequence[Sequence[Step]]) -> Turning:
    """Return where a run differs from healthy runs. ``healthy`` has the newest first; the nearest of them are compared."""
    runs = [run for run in healthy if run][:MOST_HEALTHY]
    if len(runs) < LEAST_HEALTHY:
        return Turning(
            None,
            [],
            len(runs),
            f"Cannot tell: {len(runs):,} healthy runs of this entry point are kept whole, and {LEAST_HEALTHY} are needed.",
        )
    if not failing:
        return Turning(None, [], len(runs), "Cannot tell: no step of this run was reported.")
    habits = _Habits()
    for run in runs:
        habits.add(run)
    bags = [Counter(step.key for step in run) for run in runs]
    differences = _differences(failing, habits, runs[_nearest(Counter(step.key for step in failing), bags)])
    if not differences:
        return Turning(None, [], len(runs), f"This run did all that {len(runs):,} healthy runs do, and nothing else.")
    usual = []
    # Each is compared with as many others, the failing one among them: with nothing wrong it could be any of them.
    habits.add(failing)
    for place, run in enumerate(runs):
        habits.add(run, -1)
        nearest = runs[_nearest(bags[place], bags, without=place)]
        usual.append(max((difference.weight for difference in _differences(run, habits, nearest)), default=0.0))
        habits.add(run)
    strong = [
        difference
        for difference in differences
        if sum(weight >= difference.weight - 1e-9 for weight in usual) <= FALSE_SHARE * (len(runs) + 1)
    ]
    if not strong:
        return Turning(
            None,
            [],
            len(runs),
            f"Cannot tell: what this run does unlike {len(runs):,} healthy runs, these do unlike each other, too.",
        )
    return Turning(strong[0], strong, len(runs), strong[0].said)


def nearest_of(failing: Sequence[Step], healthy: Sequence[Sequence[Step]]) -> int | None:
    """Return the index of the healthy run that has most steps in common with a failing one; None where there is none."""
    some = [Counter(step.key for step in run) for run in healthy[:MOST_HEALTHY]]
    return _nearest(Counter(step.key for step in failing), some) if some else None


def side_by_side(failing: Sequence[Step], healthy: Sequence[Step]) -> list[tuple[int | None, int | None]]:
    """Align two runs; return pairs of indexes, None where the other has a step of its own. Only the ends of long runs are aligned."""
    first, second = max(0, len(failing) - MOST_ALIGNED), max(0, len(healthy) - MOST_ALIGNED)
    a, b = failing[first:], healthy[second:]
    rows, columns = len(a), len(b)
    score = [[0.0] * (columns + 1) for _ in range(rows + 1)]
    for i in range(rows - 1, -1, -1):
        for j in range(columns - 1, -1, -1):
            match = (
                score[i + 1][j + 1] + (2.0 if a[i].outcome == b[j].outcome else 1.5) if a[i].key == b[j].key else -1.0
            )
            score[i][j] = max(match, score[i + 1][j], score[i][j + 1])
    pairs: list[tuple[int | None, int | None]] = []
    i = j = 0
    while i < rows or j < columns:
        if i < rows and j < columns and a[i].key == b[j].key and score[i][j] > max(score[i + 1][j], score[i][j + 1]):
            pairs.append((first + i, second + j))
            i, j = i + 1, j + 1
        elif j >= columns or (i < rows and score[i + 1][j] >= score[i][j + 1]):
            pairs.append((first + i, None))
            i += 1
        else:
            pairs.append((None, second + j))
            j += 1
    return pairs


def _differences(run: Sequence[Step], habits: _Habits, nearest: Sequence[Step]) -> list[Difference]:
    """Return the differences of a run from others, in the order of its steps. A missing step is placed where the
    nearest run has it."""
    n = habits.runs
    differences: list[Difference] = []
    seen: set[str] = set()
    longest = _longest(run)
    for place, step in enumerate(run):
        if step.key in seen:
            continue
        seen.add(step.key)
        having = habits.having[step.key]
        if _weight(having, n) > 0 and having <= n / 4:
            sentence = f"{_named(step.key)} is in {_of(having, n)} healthy runs; here it is."
            differences.append(Difference("added", place, step.key, having, n, _weight(having, n), sentence))
            continue
        otherwise = [(other, habits.outcomes[step.key][other.outcome]) for other in run if other.key == step.key]
        other, same = min(otherwise, key=lambda pair: pair[1])
        if having and same <= having / 4:
            usual, times = habits.outcomes[step.key].most_common(1)[0]
            sentence = f"In {_of(times, n)} healthy runs {_named(step.key)} gave {usual or 'nothing'}; here it gave {other.outcome or 'nothing'}."
            alike = same + (n - having)
            differences.append(
                Difference(
                    "otherwise",
                    place,
                    step.key,
                    same,
                    n,
                    _weight(min(alike, n), n) if same else _weight(same, having),
                    sentence,
                )
            )
        times_of = habits.times.get(step.key, [])
        ms = longest.get(step.key)
        if ms is not None and len(times_of) >= n / 2:
            middle = statistics.median(times_of)
            slower = sum(count_in_run >= ms for count_in_run in times_of)
            if ms >= SLOWER_BY * max(middle, 0.1) and ms - middle >= LEAST_SLOWER_MS and slower <= len(times_of) / 4:
                sentence = f"{_named(step.key)} took {ms:,.0f} ms; in healthy runs half took less than {middle:,.0f} ms, and {_of(slower, len(times_of))} took as long."
                differences.append(
                    Difference("slower", place, step.key, slower, n, _weight(slower, len(times_of)), sentence)
                )
    differences += _fewer_or_more(run, habits, nearest)
    differences += _missing(run, habits, nearest, seen)
    differences.sort(
        key=lambda difference: (difference.place, difference.kind != "missing", -difference.weight, difference.key)
    )
    return differences


def _fewer_or_more(run: Sequence[Step], habits: _Habits, nearest: Sequence[Step]) -> list[Difference]:
    """Return the steps that a run has more or less often than nearly all others; each where it differs from the nearest."""
    n = habits.runs
    odd: dict[str, tuple[bool, int, int]] = {}
    for key, here in Counter(step.key for step in run).items():
        usual = habits.times_a_run.get(key)
        if not usual or habits.having[key] < 3 * n / 4:
            continue
        fewer = n - habits.having[key] + sum(runs for times, runs in usual.items() if times <= here)
        more = sum(runs for times, runs in usual.items() if times >= here)
        if fewer <= n / 4 or more <= n / 4:
            odd[key] = (fewer <= n / 4, min(fewer, more), here)
    if not odd:
        return []
    differences: list[Difference] = []
    place = 0
    for mine, theirs in side_by_side(run, nearest):
        place = mine if mine is not None else place
        key = run[mine].key if mine is not None else nearest[theirs].key if theirs is not None else ""
        if (mine is None) == (theirs is None) or key not in odd or odd[key][0] != (mine is None):
            continue
        lacks, alike, here = odd.pop(key)
        usually = habits.times_a_run[key].most_common(1)[0][0]
        sentence = f"{_named(key)} comes {_times(here)} here; in {_of(n - alike, n)} healthy runs it comes {'more' if lacks else 'less'} often, mostly {_times(usually)}."
        differences.append(
            Difference(
                "missing" if lacks else "added",
                place + 1 if lacks else place,
                key,
                alike,
                n,
                _weight(alike, n),
                sentence,
            )
        )
    return differences


def _times(count: int) -> str:
    return "once" if count == 1 else f"{count:,} times"


def _missing(run: Sequence[Step], habits: _Habits, nearest: Sequence[Step], seen: set[str]) -> list[Difference]:
    """Return the steps that nearly all others have and this run lacks: inside of it, or right after its end."""
    n = habits.runs
    lacking = {key for key, having in habits.having.items() if key not in seen and having >= 3 * n / 4}
    if not lacking:
        return []
    differences: list[Difference] = []
    place, stopped = 0, False
    for mine, theirs in side_by_side(run, nearest):
        if mine is not None:
            place = mine + 1
            continue
        key = nearest[theirs].key if theirs is not None else ""
        if key not in lacking or stopped:
            continue
        lacking.discard(key)
        behind = place >= len(run)
        # After its end only the first missing step counts: the rest is missing because the run was over.
        stopped = behind
        having = habits.having[key]
        sentence = (
            f"{_of(having, n)} healthy runs go on with {_named(key)}; this one ended before it."
            if behind
            else f"{_named(key)} is in {_of(having, n)} healthy runs; here it is missing."
        )
        differences.append(Difference("missing", place, key, n - having, n, _weight(n - having, n), sentence))
    return differences


def _weight(alike: int, of: int) -> float:
    """Return the weight of so few runs alike: the logarithm of the odds against it, with Laplace's correction of one of each kind."""
    return math.log((of + 2) / (alike + 1)) if of else 0.0


def _nearest(bag: Counter[str], bags: Sequence[Counter[str]], without: int = -1) -> int:
    """Return the run that has most steps in common with one (P. Jaccard's coefficient, of steps with their counts)."""

    def alike(place: int) -> float:
        return sum((bag & bags[place]).values()) / max(1, sum((bag | bags[place]).values()))

    return max((place for place in range(len(bags)) if place != without), key=lambda place: (alike(place), -place))


def _longest(run: Sequence[Step]) -> dict[str, float]:
    longest_ms: dict[str, float] = {}
    for step in run:
        if step.ms is not None:
            longest_ms[step.key] = max(longest_ms.get(step.key, 0.0), step.ms)
    return longest_ms


def _of(count: int, of: int) -> str:
    return f"{count:,} of {of:,}" if count else f"none of {of:,}"


def _named(key: str) -> str:
    return f"`{key}`"
