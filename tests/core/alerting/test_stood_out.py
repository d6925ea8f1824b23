"""What stood out before does not say what is usual, unless that is what happens more often than not."""

from __future__ import annotations

import random

from obitus.core.alerting.amounts import Amount
from obitus.core.alerting.conditions import Measured, read_condition
from obitus.core.alerting.over_time import beside_usual
from obitus.core.clock import DAY_MS, HOUR_MS

DAYS = 35
NOW = DAYS * DAY_MS + 13 * HOUR_MS - 1


def holds(stepped: set[int], *, factor: float = 3) -> bool:
    """Whether the hour that ends now is more than usual, after days on which the same hour had so many times as many, as it has now."""
    dice = random.Random(19)
    hours = {hour: Amount(round(40 * dice.gauss(1, 0.08))) for hour in range(DAYS * 24 + 13)}
    for day in stepped | {0}:
        hour = (DAYS - day) * 24 + 12
        hours[hour] = Amount(round(hours[hour].n * factor))
    condition = read_condition("count of runs > usual in 1h", 0)
    assert isinstance(condition, Measured)
    return beside_usual(condition, hours, NOW, 0, 1).holds


def test_a_third_step_at_the_same_hour_stands_out_as_the_first_did() -> None:
    """Whatever days the two before it came on."""
    assert holds(set())
    assert all(holds({one, other}) for one in (1, 3, 7, 8) for other in (2, 6, 9, 14))


def test_what_comes_on_most_days_is_usual() -> None:
    """A level that has changed for good is said until it is what happens on most days, and no longer."""
    assert holds({1, 2})
    assert not holds(set(range(1, 29)))


def test_what_is_not_three_times_as_many_stays_as_it_was() -> None:
    """Somewhat more is no reason, however often it was there."""
    assert not holds({1, 2}, factor=1.3)
