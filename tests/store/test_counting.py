"""Summaries have one answer, whether SQL counts or the predicate does, on the same records."""

from __future__ import annotations

from collections import Counter, defaultdict
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.asking import QuestionTrouble, holds, read
from obitus.core.asking.records import TEXTS
from obitus.core.asking.summaries import STATS, Summary, bucket_of, percentile, read_summary, width_ms, written
from obitus.core.asking.values import number_of
from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.core.terms import value_text
from obitus.store.asking import counting, going
from obitus.store.asking.counting import count
from tests.examples import many
from tests.store.test_asking import FIELDS, NOW_MS, Kept, kept, questions

__all__ = ["kept"]

NUMBERS = [
    "duration",
    "status",
    "passengers",
    "wait_s",
    "code",
    "http.response.body.size",
    "user.id",
    "message",
    "gone",
]
OWN = [*FIELDS, "received"]


def value_of(record: dict[str, Any], field: str) -> Any:
    value = record.get(field)
    if field == "duration" and value is not None:
        # Its column holds numbers with a fraction, whatever was sent.
        return float(value)
    return value_text(value) if isinstance(value, list) else value


def wanted(records: list[dict[str, Any]], summary: Summary) -> dict[Any, Any]:
    """Count with the predicate's records what the summary asks for, by values and slice."""
    width = width_ms(0, NOW_MS + 1)
    numbers: dict[Any, list[float | None]] = defaultdict(list)
    for record in records:
        number = number_of(value_of(record, summary.of)) if summary.stat else None
        if summary.stat and number is None:
            continue
        keys = tuple(value_of(record, field) for field in summary.by)
        slices = [None, record["time"] // width] if summary.over_time else [None]
        for at in slices:
            numbers[tuple((type(key), key) for key in keys), at].append(number)
    return {key: figure(found, summary) for key, found in numbers.items()}


def figure(numbers: list[Any], summary: Summary) -> Any:
    if summary.stat is None:
        return len(numbers)
    if summary.stat in ("smallest", "largest"):
        return min(numbers) if summary.stat == "smallest" else max(numbers)
    if summary.stat == "sum":
        return pytest.approx(sum(numbers))
    share = {"median": 0.5, "p95": 0.95, "p99": 0.99}[summary.stat]
    return pytest.approx(percentile(Counter(map(bucket_of, numbers)), share))


summaries = st.builds(
    Summary,
    st.lists(st.sampled_from(OWN), max_size=2, unique=True).map(tuple),
    st.none() | st.sampled_from(STATS),
    st.sampled_from(NUMBERS),
    st.booleans(),
)


@many(200)
@given(st.none() | questions(), summaries, st.sampled_from(["failure", "log", "run"]), st.booleans())
def test_both_count_the_same(kept: Kept, question: str | None, summary: Summary, kind: Any, narrow: bool) -> None:
    """Whatever is asked and whatever is counted, in all and in each slice of time."""
    own = {"duration", "status"} if kind == "run" else set()
    own_texts = {"message"} if kind != "run" else set()
    if summary.stat and summary.of in own_texts - own:
        # Of what is a text in its own column no number is made.
        summary = Summary(summary.by, summary.stat, "gone", summary.over_time)
    node = read(question, NOW_MS) if question else None
    records = [one for one in kept.records[kind].values() if node is None or holds(node, one, TEXTS[kind])]
    before = going.MOST_NARROWED
    going.MOST_NARROWED = before if narrow else 3  # type: ignore[misc]
    try:
        *_, counted = count(kept.reader, kept.days, kind, node, summary, 0, NOW_MS + 1, limit_s=60)
    finally:
        going.MOST_NARROWED = before  # type: ignore[misc]
    assert counted.going.done and not counted.going.cut and counted.going.back_to_ms == 0

    def typed(keys: Any) -> Any:
        return tuple((type(key), key) for key in keys)

    found: dict[Any, Any] = {(typed(keys), None): cell.value(summary.stat) for keys, cell in counted.groups.items()}
    found |= {(typed(keys), at): cell.value(summary.stat) for (keys, at), cell in counted.groups_over_time.items()}
    if not summary.by:
        found = {((), None): counted.in_all.value(summary.stat)} if counted.in_all.n else {}
        found |= {((), at): cell.value(summary.stat) for at, cell in counted.over_time.items()}
    assert found == wanted(records, summary), (question, written(summary))


def test_newest_first_and_more_each_time(kept: Kept) -> None:
    """What is yielded before the end says back to when it holds, and holds until there."""
    records = list(kept.records["log"].values())
    summary, seen, last = read_summary("count by app"), 0, NOW_MS + 1
    for counted in count(kept.reader, kept.days, "log", None, summary, 0, NOW_MS + 1):
        assert counted.going.back_to_ms <= last and counted.in_all.n >= seen
        last, seen = counted.going.back_to_ms, counted.in_all.n
        assert seen >= sum(1 for record in records if record["time"] >= last)
    assert seen == len(records)


def test_too_many_values_are_counted_together(kept: Kept, monkeypatch: pytest.MonkeyPatch) -> None:
    """Of so many different values those that came first are kept apart, and the others are not lost."""
    monkeypatch.setattr(counting, "MOST_CELLS", 7)
    *_, counted = count(kept.reader, kept.days, "log", None, read_summary("count by time"), 0, NOW_MS + 1)
    assert len(counted.groups) == 7
    assert counted.beyond + sum(cell.n for cell in counted.groups.values()) == counted.in_all.n


def test_what_takes_too_long_says_so(kept: Kept) -> None:
    *_, counted = count(kept.reader, kept.days, "log", None, Summary(), 0, NOW_MS + 1, limit_s=0)
    assert counted.going.done and "longer than 0 s" in counted.going.cut and counted.going.back_to_ms > 0


def test_slices_are_round_and_few() -> None:
    for length_ms in (1000, HOUR_MS, 5 * HOUR_MS, DAY_MS, 14 * DAY_MS, 400 * DAY_MS, 40_000 * DAY_MS):
        width = width_ms(0, length_ms)
        assert length_ms <= width * 60 and (width == 1000 or length_ms > width * 6)


@given(summaries)
def test_written_is_read(summary: Summary) -> None:
    summary = summary if summary.stat else Summary(summary.by, None, "", summary.over_time)
    assert read_summary(written(summary)) == summary


@pytest.mark.parametrize(
    "text,position,expected",
    [
        ("", 1, "`count` or one of median"),
        ("cont by app", 1, "`count` or one of median"),
        ("count by", 7, "nothing|`by` with"),
        ("count by app,", 14, "the name of a field"),
        ("count by app logger", 14, "a comma with a second field"),
        ("count by app, logger, type", 21, "up to two fields"),
        ("count by app, app", 13, "the same"),
        ("p95 by app", 5, "the name of a field"),
        ("count over time by app", 17, "nothing more"),
        ("count " * 100, 501, "up to 500 characters"),
    ],
)
def test_what_is_no_summary_says_where(text: str, position: int, expected: str) -> None:
    with pytest.raises(QuestionTrouble, match=expected) as raised:
        read_summary(text)
    assert raised.value.position == position


@given(st.text(max_size=40))
def test_any_text_is_a_summary_or_says_why_not(text: str) -> None:
    try:
        assert isinstance(read_summary(text), Summary)
    except QuestionTrouble as trouble:
        assert 1 <= trouble.position <= len(text) + 2


@given(st.lists(st.floats(-1e12, 1e12).filter(lambda value: value == 0 or abs(value) > 1e-6), min_size=1))
def test_percentiles_are_off_by_one_in_a_hundred_at_most(values: list[float]) -> None:
    buckets = Counter(map(bucket_of, values))
    ordered = sorted(values)
    for share in (0.5, 0.95, 0.99):
        exact = ordered[max(0, -(-int(share * 1000) * len(values) // 1000) - 1)]
        assert percentile(buckets, share) == pytest.approx(exact, rel=0.0101)
