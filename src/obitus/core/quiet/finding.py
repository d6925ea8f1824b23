"""Quiet failures: entry points that refuse more than usual, warnings that are new or more than usual, jobs that did not run.

The same tests as for releases (``core.comparing``): exact, and with the false discovery rate held at 5% over all
comparisons. A change by less than a factor of two is none.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Final, Literal

from obitus.core import statistics
from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.core.comparing import LEVEL, FailureRate, RateHistory, between, chance_said, times, usual
from obitus.core.statistics import FACTOR
from obitus.core.wording import count_of

Kind = Literal["refused", "warning", "silent"]
KINDS: Final[tuple[Kind, ...]] = ("refused", "warning", "silent")
LEAST: Final = 5
"""Fewest occurrences: fewer are not listed."""
LEAST_GAPS: Final = 6
"""How often a job has to have run before it can be late."""
LATE_BY: Final = 1.5
"""Factor of a job's longest pause after which it is late."""
LEAST_LATE_H: Final = 2


@dataclass(frozen=True, slots=True)
class Quiet:
    """Something new or more frequent than usual, in words with its numbers."""

    subject: str
    reason: str
    now: FailureRate
    before: FailureRate
    chance: float
    last_hour: int | None = None
    """Of a job: the hour (since 1970) in which it last ran."""


def more_than_usual(histories: Sequence[RateHistory], kind: Literal["refused", "warning"], now: str) -> list[Quiet]:
    """Return what is new or more frequent than usual, the least probable by chance first. ``histories`` have refused
    runs per runs, or warnings per runs (without runs, per hours, times 1,000). ``now`` names the judged time: ``in release 3.1.0``, ``in the last 6 hours``.
    """
    more = statistics.share_more if kind == "refused" else statistics.more
    tested: list[tuple[RateHistory, FailureRate, tuple[str, ...], float]] = []
    for history in histories:
        before, against = usual(history.earlier)
        if history.now.failures < LEAST or not history.now.runs or not before.runs:
            continue
        if statistics.could_tell(before.failures + history.now.failures, before.runs, history.now.runs):
            chance = more(before.failures, before.runs, history.now.failures, history.now.runs)
            tested.append((history, before, against, chance))
    significant = statistics.significant([chance for *_, chance in tested])
    unusual = []
    for (history, before, against, chance), sure in zip(tested, significant, strict=True):
        factor = statistics.ratio(before.failures, before.runs, history.now.failures, history.now.runs)
        if not sure or chance > LEVEL or factor is None or factor.value < FACTOR:
            continue
        how_much = "new" if not before.failures else times(factor)
        reason = f"{_said(history.now, kind)} {now}; {_said(before, kind)} in {between(against)}: {how_much}, by chance {chance_said(chance)}."
        unusual.append(Quiet(str(history.key), reason[0].upper() + reason[1:], history.now, before, chance))
    return sorted(unusual, key=lambda one: (one.chance, one.subject))


def _said(seen: FailureRate, kind: Literal["refused", "warning"]) -> str:
    if kind == "refused":
        share = seen.failures / seen.runs
        return f"{seen.failures:,} of {count_of(seen.runs, 'run')} {'was' if seen.failures == 1 else 'were'} refused ({share:.1%})"
    return f"{count_of(seen.failures, 'record')} in {count_of(seen.runs, 'run')}"


def did_not_run(hours: Mapping[str, Sequence[int]], now_ms: int) -> list[Quiet]:
    """Return the jobs whose pause is far longer than any before.

    ``hours`` has, by job, the hours (since 1970) in which it ran, oldest first. After n gaps, the next one is longer
    than all of them by chance once in n + 1 times, whatever their distribution; half as long again is rarer still.
    """
    missed = []
    this_hour = now_ms // HOUR_MS
    for job, ran in hours.items():
        gaps = [later - earlier for earlier, later in pairwise(ran)]
        if len(gaps) < LEAST_GAPS:
            continue
        longest, away = max(gaps), this_hour - ran[-1]
        if away < max(longest * LATE_BY, longest + LEAST_LATE_H):
            continue
        chance = 1 / (len(gaps) + 1)
        reason = (
            f"It last ran {_hours(away)} ago. It ran {count_of(len(ran), 'time')} in the {_hours(ran[-1] - ran[0])} before that, "
            f"and never stayed away for more than {_hours(longest)}."
        )
        missed.append(Quiet(job, reason, FailureRate(0, 0), FailureRate(len(ran), 0), chance, ran[-1]))
    return sorted(missed, key=lambda one: one.subject)


def _hours(hours: int) -> str:
    days = DAY_MS // HOUR_MS
    return count_of(hours, "hour") if hours < 2 * days else f"{hours // days} days"
