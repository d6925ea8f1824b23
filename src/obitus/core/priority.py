"""The priority of an issue: computed from its facts, explained in one line, and corrected by people. Each reason
adds its weight; the level follows from the sum. The weights are a choice, not a measurement: a regression or a
doubled rate weighs as much as some tens of people, and a caught failure weighs less than an uncaught one.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Final, Literal

from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.core.lifecycle import State
from obitus.core.wording import count_of

Level = Literal["high", "middle", "low"]
LEVELS: Final[tuple[Level, ...]] = ("high", "middle", "low")
HIGH_FROM, MIDDLE_FROM = 50, 25
NEW_MS: Final = DAY_MS
"""How long an issue is new."""
RISES: Final = 2.0
"""The factor by which the failures of the last hour have to exceed those of an hour before."""
LEAST_TO_RISE: Final = 5
"""Failures in an hour from which a change counts: fewer rise and fall by chance."""
_MOST_OF_REACH: Final = 25


@dataclass(frozen=True, slots=True)
class Facts:
    """The facts of an issue from which its priority follows."""

    state: State
    first_ms: int
    last_ms: int
    users: int
    """Users that it hit, since it began."""
    severity: str
    handled: bool
    in_last_hour: int
    in_day_before: int
    """Failures in the 24 hours before the last one."""
    spread: tuple[str, ...] = ()
    """Where it was seen for the first time within a day, after it had been seen elsewhere: `production`, `3.1.0`, `POST /boardings`."""
    said: Level | None = None
    """The level set by a person."""
    said_by: str = ""
    reopened: bool = False
    """Whether it was parked and has reopened."""


@dataclass(frozen=True, slots=True)
class Priority:
    """The priority of an issue, its reasons, and its order among others of the same level."""

    level: Level
    reason: str
    score: int
    said: bool = False
    """Whether a person set it."""


def weigh(facts: Facts, now_ms: int) -> Priority:
    """Return the priority of an issue now."""
    reasons = _reasons(facts, now_ms)
    score = max(0, sum(weight for weight, _ in reasons))
    level: Level = "high" if score >= HIGH_FROM else "middle" if score >= MIDDLE_FROM else "low"
    # The heaviest first: a tired reader reads only that.
    texts = [words for weight, words in sorted(reasons, key=lambda reason: -abs(reason[0])) if words]
    why = ", ".join(texts) or "nothing about it is urgent"
    if facts.said is not None:
        return Priority(
            facts.said, f"{facts.said_by or 'somebody'} said so; of itself {level}: {why}", score, said=True
        )
    return Priority(level, why, score)


def _reasons(facts: Facts, now_ms: int) -> list[tuple[int, str]]:
    """Return the reasons for and against, each with its weight and in words."""
    reasons: list[tuple[int, str]] = []
    if facts.state == "regressed":
        reasons.append((35, "regressed"))
    elif facts.reopened:
        reasons.append((30, "reopened"))
    elif facts.state == "untriaged" and now_ms - facts.first_ms < NEW_MS:
        reasons.append((20, "new"))
    elif facts.state == "untriaged":
        reasons.append((10, "nobody has decided on it"))
    elif facts.state in ("parked", "settled"):
        reasons.append((-30, facts.state))
    usual = facts.in_day_before / 24
    if facts.in_last_hour >= LEAST_TO_RISE and facts.in_last_hour > RISES * usual:
        times = f"{facts.in_last_hour / usual:.0f} times as many in the last hour" if usual >= 1 else f"{facts.in_last_hour:,} in the last hour"  # fmt: skip
        reasons.append((20, times))
    if facts.users:
        weight = min(_MOST_OF_REACH, round(10 * math.log10(facts.users + 1)))
        reasons.append((weight, count_of(facts.users, "user")))
    if facts.severity == "FATAL":
        reasons.append((15, "it ended the program"))
    if not facts.handled:
        reasons.append((10, "not caught"))
    if facts.spread:
        where = ", ".join(facts.spread[:3]) + (" and more" if len(facts.spread) > 3 else "")
        reasons.append((10, f"now also in {where}"))
    if now_ms - facts.last_ms > DAY_MS:
        reasons.append((-25, "quiet for a day"))
    elif now_ms - facts.last_ms > 6 * HOUR_MS:
        reasons.append((-10, "quiet for hours"))
    return reasons
