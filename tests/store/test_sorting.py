"""Records in the order of a field: the same order that their values have, page after page."""

from __future__ import annotations

from typing import Any, Final

from hypothesis import given
from hypothesis import strategies as st

from obitus.core.asking import holds, read
from obitus.core.asking.records import TEXTS
from obitus.core.asking.values import number_of
from obitus.core.severity import SEVERITIES
from obitus.store.asking import going
from obitus.store.asking.finding import names_in
from obitus.store.asking.records import records_of
from obitus.store.asking.sorting import find_sorted
from tests.examples import many
from tests.store.test_asking import FIELDS, NOW_MS, Kept, kept, questions
from tests.store.test_counting import value_of

__all__ = ["kept"]

NUMBERS_OF_THEIR_OWN: Final = {"time", "received", "status", "duration"}
TEXTS_OF_THEIR_OWN: Final = {"message", "template", "logger", "type", "release", "environment", "request"}


def key_of(record: dict[str, Any], field: str) -> tuple[float | None, str | None]:
    """Return the number or the text that a record is put in order by."""
    value = value_of(record, field)
    if value is None or value == "":
        return None, None
    if field == "severity":
        return SEVERITIES.index(value), None
    number = None if field in TEXTS_OF_THEIR_OWN else number_of(value)
    if number is not None:
        return number, None
    return None, ("true" if value is True else "false" if value is False else str(value))


@many(100)
@given(
    st.none() | questions(),
    st.sampled_from([*FIELDS, "received"]),
    st.booleans(),
    st.sampled_from(["failure", "log", "run"]),
    st.sampled_from([7, 50, 400]),
)
def test_in_order(kept: Kept, question: str | None, field: str, greatest_first: bool, kind: Any, most: int) -> None:
    """All that a question means, once, in order; what has no such field at the end; of equals the newest first."""
    node = read(question, NOW_MS) if question else None
    wanted = [one for one in kept.records[kind].values() if node is None or holds(node, one, TEXTS[kind])]
    before = going.MOST_NARROWED
    going.MOST_NARROWED = 3 if most == 7 else before  # type: ignore[misc]
    found: list[Any] = []
    try:
        while True:
            page = find_sorted(
                kept.reader, kept.days, kind, node, (0, NOW_MS + 1),
                by=field, greatest_first=greatest_first, most=most, behind=len(found), limit_s=60,
            )  # fmt: skip
            found += records_of(kept.days, kind, names_in(kept.reader), page.rows)
            if not page.more:
                break
    finally:
        going.MOST_NARROWED = before  # type: ignore[misc]
    assert not page.cut and len({one.seq for one in found}) == len(wanted)
    keys = [(key_of(one.values, field), one.time_ms) for one in found]

    def place(key: Any) -> Any:
        (number, text), time_ms = key
        return number is None, number or 0, text is None, text or "", time_ms

    expected = [(key_of(one, field), one["time"]) for one in wanted]
    # Stable sorts, the last criterion first.
    expected.sort(key=lambda key: -key[1])
    expected.sort(key=lambda key: place(key)[3], reverse=greatest_first)
    expected.sort(key=lambda key: place(key)[2])
    expected.sort(key=lambda key: place(key)[1], reverse=greatest_first)
    expected.sort(key=lambda key: place(key)[0])
    assert keys == expected, (question, field)
