"""The most frequent values of the records found, by field: to narrow the question down."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, Final

from obitus.core.asking.records import Kind
from obitus.core.terms import value_text

MOST_FIELDS: Final = 40
MOST_VALUES: Final = 10
LONGEST_VALUE: Final = 200
_FIRST: Final[dict[Kind, tuple[str, ...]]] = {
    "failure": ("type", "entry_point", "app", "release", "environment", "severity", "handled", "message"),
    "log": ("severity", "logger", "template", "app", "release", "environment", "entry_point"),
    "run": ("entry_point", "outcome", "status", "app", "release", "environment", "kept"),
}
_ONE_EACH: Final = frozenset({"time", "received", "trace_id", "span_id", "run", "duration", "request"})


@dataclass(slots=True)
class Occurring:
    """One field: how many of the records have it, the number of different values, and the most frequent ones."""

    name: str
    having: int = 0
    values: Counter[str] = field(default_factory=Counter)

    def most(self) -> list[tuple[str, int]]:
        """Return the most frequent values as text, each with its number of records."""
        return sorted(self.values.items(), key=lambda one: (-one[1], one[0]))[:MOST_VALUES]


def occurring(kind: Kind, records: Iterable[Mapping[str, Any]]) -> list[Occurring]:
    """Return the fields of records, those of the kind first, then the most frequent attributes. Fields with a
    different value in each record, such as times, are left out.
    """
    occurring_by_name: dict[str, Occurring] = {}
    for record in records:
        for name, value in record.items():
            if name in _ONE_EACH or value is None:
                continue
            entry = occurring_by_name.get(name)
            if entry is None:
                entry = occurring_by_name[name] = Occurring(name)
            entry.having += 1
            text = value_text(value)
            if len(text) <= LONGEST_VALUE:
                entry.values[text] += 1
    own = [occurring_by_name.pop(name) for name in _FIRST[kind] if name in occurring_by_name]
    attributes = sorted(occurring_by_name.values(), key=lambda field: (-field.having, field.name))
    # With as many values as records each value would match only one of them.
    listed = [field for field in (*own, *attributes) if field.having < 3 or any(n > 1 for n in field.values.values())]
    return listed[:MOST_FIELDS]
