"""Conditions: each form is understood as it is meant, what is none says where and what was expected."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.alerting.conditions import (
    EXAMPLES,
    Happens,
    Measured,
    Silent,
    amount_said,
    interval_ms,
    read_condition,
    sentence,
)
from obitus.core.asking.reading import QuestionTrouble
from obitus.core.clock import DAY_MS, HOUR_MS, MINUTE_MS

GOOD = {
    "new issue": Happens(("new issue",)),
    "new  issue, issue regressed": Happens(("new issue", "issue regressed")),
    "job late": Happens(("job late",)),
    "count of failures > 20 in 10m by issue": Measured("count", "failures", ">", 20, False, 10 * MINUTE_MS, ("issue",)),
    "count of people >= 5 in 1h": Measured("people", "failures", ">=", 5, False, HOUR_MS),
    "share of failed runs > 5% in 15m by entry_point, app": Measured(
        "failed", "runs", ">", 0.05, False, 15 * MINUTE_MS, ("entry_point", "app")
    ),
    "share of refused runs<=0.5 % in 1d": Measured("refused", "runs", "<=", 0.005, False, DAY_MS),
    "failures per thousand runs > 3 in 1h": Measured("per thousand", "failures", ">", 3, False, HOUR_MS),
    "p95 duration of runs > 1.5s in 5m": Measured(
        "stat", "runs", ">", 1500, False, 5 * MINUTE_MS, (), "p95", "duration"
    ),
    "sum http.request.body.size of logs > 2MB in 5m": Measured(
        "stat", "logs", ">", 2e6, False, 5 * MINUTE_MS, (), "sum", "http.request.body.size"
    ),
    "largest årskort of logs > 2 in 5m by пирс": Measured(
        "stat", "logs", ">", 2, False, 5 * MINUTE_MS, ("пирс",), "largest", "årskort"
    ),
    'largest "odd name" of failures > 2 in 5m by "other name"': Measured(
        "stat", "failures", ">", 2, False, 5 * MINUTE_MS, ("other name",), "largest", "odd name"
    ),
    "count of logs > usual in 1h": Measured("count", "logs", ">", 2, True, HOUR_MS),
    "count of runs < 3 times usual in 6h": Measured("count", "runs", "<", 3, True, 6 * HOUR_MS),
    "no runs for 2h by entry_point": Silent("runs", 2 * HOUR_MS, ("entry_point",)),
    "no reports for 30m by app": Silent("reports", 30 * MINUTE_MS, ("app",)),
}
WRONG = {
    "": (1, "what to wait for"),
    "new": (1, "what to wait for"),
    "new issue by app": (11, "a comma, `where`"),
    "count of": (9, "failures, logs or runs"),
    "count of reports > 1 in 5m": (10, "failures, logs, runs or people"),
    "count of failures 5": (19, "a comparison"),
    "count of failures > 5": (22, "`in` and a window"),
    "count of failures > 5 in 10s": (26, "a span of time"),
    "count of failures > 5 in 10s5": (26, "a span of time"),
    "count of failures > 5 in 8d": (26, "between 1 min and 7 days"),
    "count of failures > 5% in 10m": (21, "no unit '%'"),
    "count of failures > usual in 10m": (30, "a window of whole hours"),
    "count of failures > 1 times usual in 1h": (21, "a factor between 1.5 and 100"),
    "share of failed runs > 5 in 10m": (24, "a share is expected"),
    "count of runs > 5 in 1m": (22, "between 5 min"),
    "count of runs > 5 in 10m by user.id": (29, "groups of these are by"),
    "count of logs > 5 in 10m by issue": (29, "only failures belong to issues"),
    "count of logs > 5 in 10m by a, b, c": (35, "by one field, or by two"),
    "count of runs > 5 in 10m where user.id=4": (32, "alone: of nothing else all runs are counted"),
    "count of runs > 5 in 10m where fares": (32, "alone: of nothing else all runs are counted"),
    "p95 wait_s of runs > 5 in 10m": (1, "of all runs the median, p95 and p99 of `duration`"),
    "new issue where": (16, "a term is expected"),
    "new issue where (a": (19, "a closing bracket"),
    "new issue where severity>=LOUD": (27, "a severity is expected"),
    "no logs for 5m": (4, "say runs or reports"),
    "x" * 1001: (1001, "up to 1,000 characters"),
}


@pytest.mark.parametrize("text", GOOD)
def test_what_is_a_condition_is_understood(text: str) -> None:
    """Each form, with its window, limit and groups."""
    assert read_condition(text, 0) == GOOD[text]


@pytest.mark.parametrize("text", WRONG)
def test_what_is_none_says_where_and_what_is_expected(text: str) -> None:
    """The position is that of the first character that does not belong, from 1."""
    with pytest.raises(QuestionTrouble) as found:
        read_condition(text, 0)
    position, said = WRONG[text]
    assert said in str(found.value) and found.value.position == position, str(found.value)


def test_a_question_goes_with_any_condition() -> None:
    """It is read as questions are everywhere; the word may stand in a text too."""
    found = read_condition('count of logs > 2 in 5m where message~"no where" severity>=WARN', 0)
    assert isinstance(found, Measured) and found.where == 'message~"no where" severity>=WARN' and found.node is not None


def test_conditions_are_said_in_words() -> None:
    """What a rule waits for can be read by whoever did not write it."""
    said = {text: sentence(read_condition(text, 0)) for text in EXAMPLES}
    assert said[EXAMPLES[0]] == "a new issue, of app=sailings environment=production"
    assert said[EXAMPLES[2]] == "count of failures over 20 in 10 min, for each issue"
    assert said[EXAMPLES[3]] == "share of failed runs over 5% in 15 min, for each entry_point"
    assert said[EXAMPLES[5]] == "count of logs over 2 times what is usual at that hour in 1 h, of severity>=WARN"
    assert said[EXAMPLES[6]] == "no runs for 2 h, for each entry_point, of app=gatekeeper"
    few = sentence(read_condition("count of runs < 3 times usual in 6h", 0))
    assert few == "count of runs under 1/3 of what is usual at that hour in 6 h"


def test_amounts_have_their_unit() -> None:
    """Shares, durations, counts, and numbers of any attribute."""
    for text, value, said in (
        ("share of failed runs > 5% in 15m", 0.1234, "12.3%"), ("p95 duration of runs > 1s in 5m", 812.4, "812 ms"),
        ("p95 duration of runs > 1s in 5m", 61_000, "61.0 s"), ("count of logs > 1 in 5m", 12_345, "12,345"), ("median wait_s of logs > 1 in 5m", 2.345, "2.345"),
    ):  # fmt: skip
        condition = read_condition(text, 0)
        assert isinstance(condition, Measured) and amount_said(condition, value) == said


def test_short_windows_are_looked_at_twice_a_minute_and_long_ones_seldom() -> None:
    """What needs not be looked at costs nothing."""
    every = {text: interval_ms(read_condition(text, 0)) for text in GOOD if not isinstance(GOOD[text], Happens)}  # type: ignore[arg-type]
    assert min(every.values()) == 30_000 and max(every.values()) == 720_000


@given(
    st.text(max_size=60)
    | st.lists(
        st.sampled_from(
            [
                "count",
                "of",
                "failures",
                ">",
                "5",
                "in",
                "10m",
                "by",
                "issue",
                "where",
                "no",
                "runs",
                "for",
                "usual",
                "times",
                "(",
                ")",
                ",",
                "%",
                "\x00",
                "",
            ]
        ),
        max_size=14,
    ).map(" ".join)
)
def test_no_text_breaks_the_reader(text: str) -> None:
    """It is a condition, or it is said where it is none; a condition is read the same again."""
    try:
        found = read_condition(text, 0)
    except QuestionTrouble as trouble:
        assert 1 <= trouble.position <= len(text) + 1
    else:
        assert read_condition(text, 0) == found and sentence(found)
