"""What rules over windows count is what their questions mean: of the same records, whatever is asked and grouped by."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from obitus.core.alerting.amounts import Key
from obitus.core.alerting.conditions import Measured
from obitus.core.asking import holds, read
from obitus.core.asking.records import TEXTS, Kind
from obitus.core.asking.summaries import bucket_of
from obitus.core.asking.tree import Node
from obitus.core.asking.values import number_of
from obitus.core.clock import HOUR_MS, MINUTE_MS
from obitus.core.terms import value_text
from obitus.store.alerts.coming import KINDS, MOST_GROUPS, Came, DaySource, split
from obitus.store.asking.finding import names_in
from tests.examples import many
from tests.store.test_asking import NOW_MS, Kept, kept, questions

__all__ = ["kept"]

GROUPS = ("app", "environment", "release", "entry_point", "severity", "passengers", "user.id", "crew", "odd name")
ALL = ("place > ?", (0,), 10.0)


def measured(where: str, node: Node | None, source: str, by: tuple[str, ...] = (), **more: Any) -> Measured:
    """Return a condition that counts."""
    return Measured(more.pop("measure", "count"), source, ">", 5, False, HOUR_MS, by, where=where, node=node, **more)  # type: ignore[arg-type]


def counted(kept: Kept, conditions: Iterable[Measured]) -> list[Counter[tuple[Key, int, str]]]:
    """Return what came of conditions that are counted together, on all days."""
    conditions = list(conditions)
    found: list[Counter[tuple[Key, int, str]]] = [Counter() for _ in conditions]
    kind = KINDS[conditions[0].source]
    for day in kept.days.known():
        came = Came(kept.reader, kept.days, names_in(kept.reader), kind, DaySource(day.day, *ALL), conditions)
        for condition, into in zip(conditions, found, strict=True):
            into.update({at: n for at, (n, _) in came.of(condition).items()})
    return found


def said(value: Any) -> str:
    """Return a value as a group is named by."""
    if value is None or value == "":
        return ""
    return json.dumps(value) if isinstance(value, bool) else value_text(value)


@given(asked=st.lists(questions(), min_size=1, max_size=4), by=st.lists(st.sampled_from(GROUPS), max_size=2, unique=True), source=st.sampled_from(("failures", "logs")))  # fmt: skip
@many(150)
def test_what_is_counted_is_what_the_predicate_means(kept: Kept, asked: list[str], by: list[str], source: str) -> None:
    """Several rules share one reading; none sees the others."""
    kind: Kind = KINDS[source]
    nodes = [read(text, NOW_MS) for text in asked]
    conditions = [measured(text, node, source, tuple(by)) for text, node in zip(asked, nodes, strict=True)]
    for node, found in zip(nodes, counted(kept, conditions), strict=True):
        wanted: Counter[Any] = Counter()
        for record in kept.records[kind].values():
            if node is None or holds(node, record, TEXTS[kind]):
                wanted[tuple(said(record.get(name)) for name in by), record["time"] // MINUTE_MS, ""] += 1
        assert found == wanted, asked


def test_numbers_are_counted_by_bucket_and_people_one_by_one(kept: Kept) -> None:
    """Of both the window's figure comes from parts that can be added up."""
    node = read("severity>=WARN", NOW_MS)
    numbers = measured("severity>=WARN", node, "logs", measure="stat", stat="p95", of="wait_s")
    wanted: Counter[str] = Counter()
    for record in kept.records["log"].values():
        if (value := number_of(record.get("wait_s"))) is not None and holds(node, record, TEXTS["log"]):  # type: ignore[arg-type]
            wanted[str(bucket_of(value))] += 1
    by_part: Counter[str] = Counter()
    for (_, _, part), n in counted(kept, [numbers])[0].items():
        by_part[part] += n
    assert by_part == wanted and len(wanted) == 3
    people = measured("", None, "failures", measure="people")
    met = {record["user.id"] for record in kept.records["failure"].values() if record.get("user.id")}
    assert {part for _, _, part in counted(kept, [people])[0]} == met and met


def test_groups_have_a_bound(kept: Kept, monkeypatch: Any) -> None:
    """What comes beyond is counted as one, and nothing is left out."""
    monkeypatch.setattr("obitus.store.alerts.coming.MOST_GROUPS", 2)
    for by in (("entry_point",), ("passengers",)):
        day = kept.days.known()[0]
        condition = measured("", None, "logs", by)
        came = Came(kept.reader, kept.days, names_in(kept.reader), "log", DaySource(day.day, *ALL), [condition])
        found = came.of(condition)
        assert {key for key, _, _ in found} >= {("…",)} and len({key for key, _, _ in found}) == 3
        assert sum(n for n, _ in found.values()) == kept.days.rows(day.day, "SELECT COUNT(*) FROM logs")[0][0]
    assert MOST_GROUPS == 500


def test_only_the_first_part_of_a_question_is_answered_without_the_records() -> None:
    """Words, attributes and numbers are looked for in the records; of a choice each part has to be of few values."""
    few = frozenset({"app", "entry_point"})

    def split_of(text: str) -> tuple[str, bool]:
        first, has_more = split(read(text, NOW_MS), few)
        return str(first), has_more

    assert split(None, few) == (None, False)
    assert split_of("app=sailings entry_point~gate") == (str(read("app=sailings entry_point~gate", NOW_MS)), False)
    assert split_of('app=sailings "no depth" user.id=p-102') == (str(read("app=sailings", NOW_MS)), True)
    assert split_of("app=sailings or user.id=p-102") == ("None", True)
