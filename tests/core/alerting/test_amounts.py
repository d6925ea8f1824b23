"""Amounts: what adds up does, limits hold where they should, and what is usual is tested with as much doubt as it differs by."""

from __future__ import annotations

import random
from collections import Counter

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.alerting.amounts import Amount, earlier_windows, in_all, judge, value_of
from obitus.core.alerting.conditions import Measured, Silent, read_condition
from obitus.core.alerting.over_time import (
    AmountsByKey,
    firings_of,
    stayed_away,
    usual_windows,
    window_amount,
    window_slots,
    would_have_fired,
    would_have_missed,
)
from obitus.core.asking.summaries import bucket_of
from obitus.core.clock import DAY_MS, HOUR_MS, MINUTE_MS

WEEK_MS = 7 * DAY_MS
NOW_MS = 1_795_651_200_000


def measured(text: str) -> Measured:
    found = read_condition(text, 0)
    assert isinstance(found, Measured)
    return found


amounts = st.builds(
    Amount,
    st.integers(0, 50),
    st.integers(0, 50),
    st.floats(-100, 100),
    st.dictionaries(st.integers(-50, 50).map(float), st.integers(1, 9)).map(Counter),
    st.sets(st.sampled_from("abcdef")),
)


@given(st.lists(amounts, max_size=6), st.sampled_from(["median", "sum", None]), st.randoms())
def test_the_order_in_which_amounts_are_added_changes_nothing(
    some: list[Amount], stat: str | None, dice: random.Random
) -> None:
    """Slots come from different day files in any order."""
    one = in_all(some, stat)
    dice.shuffle(some)
    other = in_all(some, stat)
    assert (one.n, one.of, one.buckets, one.people) == (other.n, other.of, other.buckets, other.people)
    assert one.figure == pytest.approx(other.figure, abs=1e-9)


def test_each_measure_has_its_value() -> None:
    """A share of nothing is unknown, not zero."""
    people = Amount(3, people={"a", "b"})
    for text, amount, value in (
        ("count of logs > 1 in 5m", Amount(7), 7), ("count of people > 1 in 5m", people, 2), ("share of failed runs > 1% in 5m", Amount(2, 8), 0.25),
        ("share of failed runs > 1% in 5m", Amount(), None), ("failures per thousand runs > 1 in 5m", Amount(2, 8), 250),
        ("sum x of logs > 1 in 5m", Amount(2, figure=7.5), 7.5), ("largest x of logs > 1 in 5m", Amount(), None),
        ("p95 duration of runs > 1 in 5m", Amount(100, buckets=Counter({25.0: 95, 0.0: 5})), 25.0), ("p99 duration of runs > 1 in 5m", Amount(100, buckets=Counter({25.0: 95, 0.0: 5})), 120_000),
        ("median duration of runs > 1 in 5m", Amount(4, buckets=Counter({500.0: 1, 1000.0: 2, 2500.0: 1})), 750), ("median duration of runs > 1 in 5m", Amount(), None),
    ):  # fmt: skip
        assert value_of(measured(text), amount) == value
    median = value_of(
        measured("median x of logs > 1 in 5m"),
        Amount(3, buckets=Counter({float(bucket_of(number)): 1 for number in (1, 50, 900)})),
    )
    assert median == pytest.approx(50, rel=0.01)


def test_fixed_limits() -> None:
    """Over is over, at least is at least; one failed run of one is too few for a share."""
    for sign, holds in ((">", False), (">=", True), ("<", False), ("<=", True)):
        assert judge(measured(f"count of logs {sign} 5 in 5m"), Amount(5)).holds is holds
    share = measured("share of failed runs > 5% in 5m")
    few = judge(share, Amount(2, 2))
    assert not few.holds and "too few to be a share" in few.reason
    assert judge(share, Amount(3, 40)).reason == "7.5% (3 of 40 runs) is over 5%."
    assert judge(share, Amount()).reason == "Nothing is known of that window."


def earlier(*counts: tuple[int, int]) -> list[Amount]:
    return [Amount(n, of) for n, of in counts]


def test_usual_is_said_with_its_numbers() -> None:
    """How much was usual, what it was before, by what factor, and how probable that is by chance."""
    count = measured("count of failures > usual in 1h")
    found = judge(count, Amount(310), earlier((80, 0), (120, 0), (90, 0)))
    assert found.holds and found.limit == pytest.approx(2 * 290 / 3)
    assert found.reason.startswith(
        "310 where 96.67 was usual at that hour (before: 80, 120, 90), 3.21 times that; by chance "
    )
    for amount, before in (
        (Amount(31), [(8, 0)]),
        (Amount(4), [(0, 0), (0, 0)]),
        (Amount(19), [(8, 0), (12, 0), (9, 0)]),
        (Amount(31), [(8, 0), (33, 0), (9, 0)]),
    ):
        assert not judge(count, amount, earlier(*before)).holds, (amount, before)
    share = measured("share of failed runs > usual in 1h")
    assert judge(share, Amount(60, 1000), earlier((20, 1000), (18, 900), (22, 1100))).holds
    assert not judge(share, Amount(60, 3000), earlier((20, 1000), (18, 900), (22, 1100))).holds, (
        "more runs, not a larger share"
    )
    few = measured("count of runs < usual in 1h")
    assert judge(few, Amount(100), earlier((900, 0), (1000, 0), (950, 0))).holds
    assert not judge(few, Amount(600), earlier((900, 0), (1000, 0), (950, 0))).holds
    people = measured("count of people > usual in 1h")
    some = [Amount(people=set("ab")), Amount(people=set("abc"))]
    assert (
        judge(people, Amount(people=set("abcdefg")), some).holds
        and not judge(people, Amount(people=set("abcd")), some).holds
    )


def test_windows_that_say_what_is_usual() -> None:
    """The same weekday of up to four weeks; while there are few of them, the days before too; none before anything was counted."""
    end = NOW_MS  # a Thursday, at midnight: the hour before it is Wednesday's

    def days_back(window_ms: int, since_days: int) -> list[int]:
        return [(end - to) // DAY_MS for _, to in earlier_windows(end, window_ms, end - since_days * DAY_MS)]

    assert days_back(HOUR_MS, 40) == [7, 14, 21, 28]
    assert days_back(HOUR_MS, 15) == [1, 2, 5, 6, 7, 8, 9, 12, 13, 14], "workdays alone"
    assert days_back(2 * DAY_MS, 15)[0] == 2, "no window that this one has a part in"
    assert days_back(HOUR_MS, 0) == []


@pytest.mark.parametrize(("an_hour", "differs"), [(200, 0.0), (200, 0.2), (40, 0.1)])
def test_what_is_usual_fires_for_steps_and_at_most_once_a_week_without_one(an_hour: int, differs: float) -> None:
    """Fortnights with days, nights, weekends and noise: steps by a factor of three are found, and next to nothing else.

    Every one where hundreds an hour are counted; of some tens, which differ by chance, nine in ten.
    """
    condition = measured("count of failures > usual in 1h")
    dice, weeks = random.Random(5), 8
    false, found, planted = 0, 0, 0
    for _ in range(weeks):
        first = NOW_MS // HOUR_MS // 168 * 168
        begins = [first + 24 * (8 + 2 * number) + dice.randrange(20) for number in range(3)]
        hours = _fortnight(first, {hour + more for hour in begins for more in range(3)}, an_hour, differs, dice)
        fired = would_have_fired(
            condition,
            {(): hours},
            {(): hours},
            (first + 7 * 24) * HOUR_MS,
            (first + 14 * 24) * HOUR_MS,
            first * HOUR_MS,
        )
        told = [one.begun_ms // HOUR_MS for one in fired]
        hit = {hour for hour in begins if any(hour <= at <= hour + 3 for at in told)}
        planted, found = planted + len(begins), found + len(hit)
        false += sum(not any(hour <= at <= hour + 3 for hour in begins) for at in told)
    print(f"{an_hour} an hour, differing by {differs:.0%}: {found} of {planted} steps, {false} others in {weeks} weeks")
    assert false <= weeks and found >= planted * (1 if an_hour >= 200 else 0.85)


def _fortnight(first: int, steps: set[int], an_hour: int, differs: float, dice: random.Random) -> dict[int, Amount]:
    """Return counts by hour: twice as many by day, fewer on weekends, three times as many in steps."""
    hours = {}
    for hour in range(first, first + 14 * 24):
        level = (
            an_hour
            * (0.4 + (8 <= hour % 24 < 20))
            * (0.6 if (hour // 24 + 3) % 7 >= 5 else 1)
            * (3 if hour in steps else 1)
        )
        level *= dice.gammavariate(1 / differs**2, differs**2) if differs else 1
        if n := _poisson(level, dice):
            hours[hour] = Amount(n)
    return hours


def _poisson(rate: float, dice: random.Random) -> int:
    count, left = 0, dice.expovariate(1)
    while left < rate:
        count += 1
        left += dice.expovariate(1)
    return count


def test_windows_of_slots_cover_no_more_and_no_less() -> None:
    """Where too much is waited for never more than the window, where too little never less."""
    for text, least, most in (
        ("count of runs > 5 in 15m", 10, 15),
        ("count of runs < 5 in 15m", 15, 20),
        ("count of logs > 5 in 5m", 4, 5),
        ("count of logs > 5 in 1d", 23 * 60, 24 * 60),
    ):
        condition = measured(text)
        slot_ms = HOUR_MS if "1d" in text else 5 * MINUTE_MS if "runs" in text else MINUTE_MS
        for now_ms in range(NOW_MS, NOW_MS + 6 * MINUTE_MS, 20_000):
            within = window_slots(condition, now_ms, slot_ms)
            covers = (now_ms - within[0] * slot_ms) / MINUTE_MS
            assert least - slot_ms / MINUTE_MS <= covers <= most + (0 if condition.is_over else slot_ms / MINUTE_MS), (
                text
            )


@given(st.lists(st.tuples(st.integers(0, 200), st.integers(1, 9)), max_size=30), st.integers(1, 30))
def test_a_preview_fires_as_looking_at_each_minute_would(some: list[tuple[int, int]], limit: int) -> None:
    """What is passed over has nothing in its window."""
    condition = measured(f"count of logs > {limit} in 10m")
    series, first = AmountsByKey(), NOW_MS // MINUTE_MS
    for minute, n in some:
        series.add((), first + minute, Amount(n), None)
    slots = series.by_key.get((), {})
    found = would_have_fired(condition, {(): slots}, {}, NOW_MS, NOW_MS + 240 * MINUTE_MS, 0)
    looks = ((first + minute) * MINUTE_MS + MINUTE_MS - 1 for minute in range(240))
    every = firings_of(
        condition, (), ((now, judge(condition, window_amount(condition, slots, now, MINUTE_MS))) for now in looks)
    )
    assert [(one.begun_ms, one.value, one.worst) for one in found] == [
        (one.begun_ms, one.value, one.worst) for one in every
    ]


def test_what_is_usual_is_compared_by_whole_hours() -> None:
    """The last complete window, and the one that has begun where too much is waited for."""
    now_ms = NOW_MS + 25 * MINUTE_MS
    assert usual_windows(measured("count of logs > usual in 2h"), now_ms) == [
        (NOW_MS - HOUR_MS, NOW_MS + HOUR_MS), (NOW_MS - 2 * HOUR_MS, NOW_MS),
    ]  # fmt: skip
    assert usual_windows(measured("count of logs < usual in 2h"), now_ms) == [(NOW_MS - 2 * HOUR_MS, NOW_MS)]


def test_what_stays_away() -> None:
    """Each group that came before is missed after the window, once; it is over when it comes back."""
    condition = read_condition("no runs for 2h by entry_point", 0)
    assert isinstance(condition, Silent)
    found = stayed_away(condition, {("a",): NOW_MS - HOUR_MS, ("b",): NOW_MS - 3 * HOUR_MS}, NOW_MS)
    assert {key[0]: one.holds for key, one in found.items()} == {"a": False, "b": True}
    assert found["b",].reason == "The last run began 3 h ago."
    slot = NOW_MS // HOUR_MS
    missed = would_have_missed(
        condition, {("a",): [slot - 20, slot - 19, slot - 9, slot - 8]}, HOUR_MS, NOW_MS - DAY_MS, NOW_MS
    )
    assert [(one.begun_ms, one.over_ms) for one in missed] == [
        ((slot - 18) * HOUR_MS + 2 * HOUR_MS, (slot - 9) * HOUR_MS), ((slot - 7) * HOUR_MS + 2 * HOUR_MS, None),
    ]  # fmt: skip
