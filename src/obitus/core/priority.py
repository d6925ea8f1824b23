"""How much an issue matters now: worked out from what is known of it, said in one line, and corrected by people.

Each reason adds its weight; the level follows from the sum. The weights are a choice, not a measurement: a regression or a rate
that doubled weighs as much as some tens of people, and what the app caught weighs less than what it did not.
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
"""So long an issue is new."""
RISES: Final = 2.0
"""How many times the failures of an hour before the last one's have to be."""
LEAST_TO_RISE: Final = 5
"""Failures in an hour: fewer rise and fall by chance."""
_MOST_OF_REACH: Final = 25


@dataclass(frozen=True, slots=True)
class Facts:
    """Notes and checks of an issue when it is weighed."""

    state: State
    first_ms: int
    last_ms: int
    users: int
    """Whom it met, in all of its life."""
    severity: str
    handled: bool
    in_last_hour: int
    in_day_before: int
    """Failures in the 24 hours before the last one."""
    spread: tuple[str, ...] = ()
    """Where it was met for the first time within a day, and had been met elsewhere before: `production`, `3.1.0`, `POST /boardings`."""
    said: Level | None = None
    """What somebody said that it is."""
    said_by: str = ""
    reopened: bool = False
    """Whether it was parked and has come back."""


@dataclass(frozen=True, slots=True)
class Priority:
    """How much an issue matters, why, and how it stands to others of the same level."""

    level: Level
    reason: str
    score: int
    said: bool = False
    """Whether somebody said so."""


def weigh(facts: Facts, now_ms: int) -> Priority:
    """Return how much an issue matters now."""
    reasons = _reasons(facts, now_ms)
    score = max(0, sum(weight for weight, _ in reasons))
    level: Level = "high" if score >= HIGH_FROM else "middle" if score >= MIDDLE_FROM else "low"
    # The heaviest first: that is what somebody who is tired reads.
    said = [words for weight, words in sorted(reasons, key=lambda reason: -abs(reason[0])) if words]
    why = ", ".join(said) or "nothing about it is urgent"
    if facts.said is not None:
        return Priority(
            facts.said, f"{facts.said_by or 'somebody'} said so; of itself {level}: {why}", score, said=True
        )
    return Priority(level, why, score)


def _reasons(facts: Facts, now_ms: int) -> list[tuple[int, str]]:
    """Return what speaks for and against, each with its weight and in words."""
    found: list[tuple[int, str]] = []
    if facts.state == "regressed":
        found.append((35, "regressed"))
    elif facts.reopened:
        found.append((30, "reopened"))
    elif facts.state == "untriaged" and now_ms - facts.first_ms < NEW_MS:
        found.append((20, "new"))
    elif facts.state == "untriaged":
        found.append((10, "nobody has decided on it"))
    elif facts.state in ("parked", "settled"):
        found.append((-30, facts.state))
    usual = facts.in_day_before / 24
    if facts.in_last_hour >= LEAST_TO_RISE and facts.in_last_hour > RISES * usual:
        times = f"{facts.in_last_hour / usual:.0f} times as many in the last hour" if usual >= 1 else f"{facts.in_last_hour:,} in the last hour"  # fmt: skip
        found.append((20, times))
    if facts.users:
        weight = min(_MOST_OF_REACH, round(10 * math.log10(facts.users + 1)))
        found.append((weight, count_of(facts.users, "user")))
    if facts.severity == "FATAL":
        found.append((15, "it ended the program"))
    if not facts.handled:
        found.append((10, "not caught"))
    if facts.spread:
        where = ", ".join(facts.spread[:3]) + (" and more" if len(facts.spread) > 3 else "")
        found.append((10, f"now also in {where}"))
    if now_ms - facts.last_ms > DAY_MS:
        found.append((-25, "quiet for a day"))
    elif now_ms - facts.last_ms > 6 * HOUR_MS:
        found.append((-10, "quiet for hours"))
    return found
