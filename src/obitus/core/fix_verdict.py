"""Did the fix hold? A verdict on a settled issue from its traffic: the failures expected at the old rate, and those that came."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Final, Literal

from obitus.core import statistics
from obitus.core.clock import DAY_MS, HOUR_MS, to_text
from obitus.core.wording import count_of, minute_of

Verdict = Literal["held", "too early to say", "still there but rarer", "regressed", "cannot tell"]
SURE: Final = 0.95


@dataclass(frozen=True, slots=True)
class Traffic:
    """Failures of an issue, and its exposure: runs of its entry points, or hours where no runs are counted."""

    failures: int
    exposed: float


@dataclass(frozen=True, slots=True)
class Held:
    """The verdict, its reason in words, and the numbers behind it."""

    verdict: Verdict
    reason: str
    confidence: float | None = None
    expected: float | None = None
    failures: int = 0
    exposed: float = 0
    ready_ms: int | None = None
    """About when it can be decided, at the recent traffic; Unix milliseconds."""


def verdict(
    before: Traffic,
    since: Traffic,
    *,
    unit: Literal["runs", "hours"],
    fix: str,
    per_hour: float,
    now_ms: int,
    came: bool,
) -> Held:
    """Judge whether a fix held. ``before``: failures and exposure without the fix; ``since``: with it. ``fix``: in
    words, such as ``3.0.0``. ``per_hour``: the recent exposure an hour, to estimate when it can be decided.
    ``came``: whether the fix has arrived anywhere.

    With no failure since, the confidence is one minus the probability of seeing none at the old rate, which itself is known
    from a count only (the conditional test of `statistics.fewer`). With failures since, the fix did not hold: *rarer* where so few would
    be improbable at the old rate, else *back*.
    """
    seen = f"{count_of(round(since.exposed), unit[:-1])}"
    if not came:
        return Held(
            "too early to say", f"{fix[:1].upper()}{fix[1:]} has not come yet, so nothing could be seen of the fix."
        )
    if before.failures == 0 or before.exposed <= 0:
        if since.failures:
            return Held(
                "regressed",
                f"{count_of(since.failures, 'failure')} since {fix}.",
                failures=since.failures,
                exposed=since.exposed,
            )
        sentence = f"How often it failed before {fix} is not known: no {unit} are counted from then."
        return Held("cannot tell", sentence, exposed=since.exposed)
    expected = before.failures / before.exposed * since.exposed
    met = (
        f"{count_of(since.failures, 'failure') if since.failures else 'No failure'} in {seen} since {fix}, "
        f"where {_number(expected)} would be expected at the old rate"
    )
    chance = statistics.fewer(before.failures, before.exposed, since.failures, since.exposed)
    sure = Held("held", "", 1 - chance, expected, since.failures, since.exposed)
    if since.failures:
        if chance > 1 - SURE:
            return replace(sure, verdict="regressed", reason=f"{met}.", confidence=None)
        sentence = f"{met}: fewer than chance explains ({_percent(1 - chance)} sure), but it is there."
        return replace(sure, verdict="still there but rarer", reason=sentence)
    if chance <= 1 - SURE:
        return replace(sure, reason=f"{met}: held, {_percent(1 - chance)} sure.")
    missing = max(0.0, enough(before) - since.exposed)
    ready_ms = now_ms + math.ceil(missing / per_hour * HOUR_MS) if per_hour > 0 else None
    if ready_ms is None:
        when = f"There is no traffic of late; it takes {_number(missing)} more {unit} without a failure."
    else:
        when = f"At the traffic of late it can be said about {_when(ready_ms, now_ms)}, after {_number(missing)} more {unit} without a failure."
    return replace(sure, verdict="too early to say", reason=f"{met}. {when}", ready_ms=ready_ms)


def enough(before: Traffic) -> float:
    """Return the exposure without a failure after which a fix counts as held: where (b / (b + x)) ** failures is 1 - SURE."""
    return before.exposed * (float((1 - SURE) ** (-1 / before.failures)) - 1)


def _when(time_ms: int, now_ms: int) -> str:
    if time_ms - now_ms > 90 * DAY_MS:
        return "in more than three months"
    return f"{minute_of(to_text(time_ms))} UTC"


def _number(value: float) -> str:
    return f"{value:,.0f}" if value >= 10 else f"{value:.1f}" if value >= 0.1 else f"{value:.2f}"


def _percent(share: float) -> str:
    return "more than 99.9%" if share > 0.999 else f"{math.floor(share * 1000) / 10:g}%"
