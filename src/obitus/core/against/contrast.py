"""What failing runs have in common: every value, step and outcome of a step, compared with healthy runs.

Each is tested by Fisher's exact test (R. A. Fisher, "Statistical Methods for Research Workers", 1934), and the
results are held to a false discovery rate of 5% (``core.statistics.significant``). Healthy runs are sampled by entry point: each
represents the runs that were not sent, and the counts are reduced to the effective sample size (L. Kish, "Survey Sampling", 1965).
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from operator import ge, le
from typing import Any, Final, NamedTuple

from obitus.core.statistics import share_more, significant

MOST_FEATURES: Final = 4_000
MOST_VALUE: Final = 200
LEAST_FAILING = 5
LEAST_HEALTHY = 20
LEAST_RUNS: Final = 4
LEAST_DISTINCT: Final = 8
"""A number with fewer different values is treated as a name."""
CUTS: Final = 9
ALIKE: Final = 0.9
LEAST_LIFT: Final = 1.5
MOST_FOUND: Final = 12
_NEVER: Final = frozenset({"run", "trace_id", "time", "received", "duration", "request", "kept", "outcome", "status", "process.pid", "service.instance.id", "span_id"})  # fmt: skip
"""Fields that differ in every run, or that only say that it failed."""


class Run(NamedTuple):
    """One run: its values by name, its steps, and how many runs it represents."""

    values: Mapping[str, Any]
    steps: Iterable[str] = ()
    stands_for: float = 1.0


@dataclass(slots=True)
class Common:
    """Something that failing runs have more often than healthy ones."""

    name: str
    value: str
    """'' for a step that is there; for a number, the comparison: ``> 40``."""
    failing: int
    failing_of: int
    healthy_share: float
    chance: float
    """The probability of such a difference by chance."""
    folded: list[tuple[str, str]] = field(default_factory=list)
    """Names and values that nearly the same runs have."""

    @property
    def failing_share(self) -> float:
        """Share of failing runs, 0 to 1."""
        return self.failing / self.failing_of


@dataclass(frozen=True, slots=True)
class Contrast:
    """What was found."""

    found: list[Common]
    failing: int
    healthy: int
    said: str


_Places = dict[tuple[str, str], set[int]]


def contrast(failing: Sequence[Run], healthy: Sequence[Run]) -> Contrast:
    """Return what failing runs have in common, the strongest first; what nearly the same runs have is listed with it."""
    if len(failing) < LEAST_FAILING or len(healthy) < LEAST_HEALTHY:
        return Contrast(
            [], len(failing), len(healthy),
            f"Cannot tell: {len(failing):,} failing and {len(healthy):,} healthy runs are kept whole; {LEAST_FAILING} and {LEAST_HEALTHY} are needed.",
        )  # fmt: skip
    bad, good = _features(failing), _features(healthy)
    _add_cuts(failing, healthy, bad, good)
    weights = [max(0.0, run.stands_for) for run in healthy]
    whole = sum(weights) or 1.0
    effective = max(1, round(whole**2 / (sum(weight * weight for weight in weights) or 1.0)))
    tested: list[Common] = []
    for (name, value), places in bad.items():
        beside = good.get((name, value), ())
        # What hardly any run has could never be significant; its frequency in failing runs must not decide what is tested.
        if len(places) + len(beside) < LEAST_RUNS:
            continue
        share = sum(weights[place] for place in beside) / whole
        chance = share_more(round(share * effective), effective, len(places), len(failing))
        tested.append(Common(name, value, len(places), len(failing), share, chance))
    judged = zip(tested, significant([feature.chance for feature in tested]), strict=True)
    features = [
        feature for feature, holds in judged if holds and feature.failing_share >= LEAST_LIFT * feature.healthy_share
    ]
    features.sort(key=lambda one: (one.chance, -(one.failing_share - one.healthy_share), one.name, one.value))
    common = _folded(features, bad, good)
    return Contrast(common, len(failing), len(healthy), _said(common, len(failing), len(healthy)))


def _features(runs: Sequence[Run]) -> _Places:
    """Return by name and value which runs have it."""
    places: _Places = defaultdict(set)
    for place, run in enumerate(runs):
        for name, value in run.values.items():
            if name in _NEVER or value is None or isinstance(value, float):
                continue
            text = ("true" if value is True else "false" if value is False else str(value))[:MOST_VALUE]
            if len(places) < MOST_FEATURES or (name, text) in places:
                places[name, text].add(place)
        for step in run.steps:
            if len(places) < MOST_FEATURES or ("step", step) in places:
                places["step", step].add(place)
    return places


def _add_cuts(failing: Sequence[Run], healthy: Sequence[Run], bad: _Places, good: _Places) -> None:
    """Add numbers by the best of a few cut points each; the probability is corrected for the number of cut points."""
    numbers: dict[str, list[tuple[float, int, bool]]] = defaultdict(list)
    for runs, is_bad in ((failing, True), (healthy, False)):
        for place, run in enumerate(runs):
            for name, value in run.values.items():
                if name not in _NEVER and isinstance(value, int | float) and not isinstance(value, bool):
                    numbers[name].append((float(value), place, is_bad))
    for name, values in numbers.items():
        if len({value for value, _, _ in values}) < LEAST_DISTINCT:
            continue
        # Single values of such a number mean nothing.
        for places in (bad, good):
            for key in [key for key in places if key[0] == name]:
                del places[key]
        ordered = sorted(value for value, _, is_bad in values if is_bad)
        if not ordered:
            continue
        cuts = sorted({ordered[len(ordered) * i // (CUTS + 1)] for i in range(1, CUTS + 1)})
        for cut in cuts:
            for sign, holds in ((">=", ge), ("<=", le)):
                key = (name, f"{sign} {_number(cut)}")
                bad[key] = {place for value, place, is_bad in values if is_bad and holds(value, cut)}
                good[key] = {place for value, place, is_bad in values if not is_bad and holds(value, cut)}


def _folded(kept: list[Common], bad: _Places, good: _Places) -> list[Common]:
    """Return what is listed separately; values of nearly the same runs, and other cuts of the same number, are
    listed with the stronger one."""
    features: list[Common] = []
    for feature in kept:
        here = _runs_of((feature.name, feature.value), bad, good)
        for other in features:
            runs = _runs_of((other.name, other.value), bad, good)
            same_number = feature.name == other.name and feature.value[:1] in "<>" and other.value[:1] in "<>"
            if same_number or len(here & runs) >= ALIKE * len(here | runs):
                if not same_number:
                    other.folded.append((feature.name, feature.value))
                break
        else:
            if len(features) < MOST_FOUND:
                features.append(feature)
    return features


def _runs_of(key: tuple[str, str], bad: _Places, good: _Places) -> set[tuple[bool, int]]:
    return {(True, place) for place in bad.get(key, ())} | {(False, place) for place in good.get(key, ())}


def _said(features: Sequence[Common], failing: int, healthy: int) -> str:
    if not features:
        return f"Nothing tells {failing:,} failing runs from {healthy:,} healthy ones."
    first = features[0]
    what = f"have {_named(first)}"
    who = f"All {failing:,}" if first.failing == failing else f"{first.failing:,} of {failing:,}"
    few = (
        "none of the healthy ones do"
        if first.healthy_share == 0
        else f"{_percent(first.healthy_share)} of the healthy ones do"
    )
    return f"{who} failing runs {what}, and {few}."


def _named(feature: Common) -> str:
    if feature.name == "step":
        return f"the step `{feature.value}`"
    return f"{feature.name} {feature.value}"


def _percent(share: float) -> str:
    return f"{share:.0%}" if share >= 0.01 else f"{share:.1%}"


def _number(value: float) -> str:
    return f"{value:,.0f}" if value == int(value) else f"{value:,.3g}"
