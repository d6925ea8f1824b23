"""Fields of a kind as expressions in SQL, over the rows of one day file: to group by, to count with, to put in order."""

from __future__ import annotations

import json
import math
import sqlite3
from collections.abc import Callable
from typing import Any, Final
from uuid import UUID

from obitus.core.asking.records import Kind
from obitus.core.asking.values import number_of
from obitus.core.severity import SEVERITIES
from obitus.store.asking.compiling import PAIRS, Names
from obitus.store.asking.kinds import FIELDS
from obitus.store.days.pairs import numbers_in

Value = str | int | float | bool | None

_TEXT: Final = "SELECT text FROM texts WHERE id = ?"
_MESSAGE: Final = "message_of(template_id, message_id, message, filled)"
"""The function that is registered when a question is compiled."""


class Expressions:
    """Makes expressions of the fields of one kind for one day file, and registers the functions on its connection."""

    def __init__(self, connection: sqlite3.Connection, kind: Kind, names: Names) -> None:
        self._connection, self._kind, self._names = connection, kind, names
        self._attributes: list[_Attribute] = []
        self._texts: dict[int, str | None] = {}
        connection.create_function(
            "attribute_of", 3, lambda at, shared, others: self._attributes[at].of(shared, others), deterministic=True
        )
        connection.create_function("number_of", 1, _number_in, deterministic=True)
        connection.create_function("text_in", 1, _text_in, deterministic=True)
        connection.create_function("app_name", 1, names.apps.get, deterministic=True)
        connection.create_function(
            "release_name", 1, lambda number: names.releases.get(number) or None, deterministic=True
        )
        if not _has_logarithm(connection):
            connection.create_function("ln", 1, math.log, deterministic=True)

    def key(self, name: str) -> tuple[str, Callable[[Any], Value]]:
        """Return the SQL expression by which a field is grouped, and the function that makes its value of that."""
        field = FIELDS[self._kind].get(name)
        if field is None:
            return f"attribute_of({self._attribute(name)}, shared, attributes)", _loaded
        if field.how == "named":
            return field.column, self._text
        if field.how == "template":
            return "CASE WHEN filled = '' AND message IS NOT NULL THEN message ELSE template_id END", self._text
        if field.how == "message":
            # One row may have a value by the number of a text, another the value itself.
            return _MESSAGE, _whole
        if field.how == "severity":
            return field.column, lambda rank: SEVERITIES[rank]
        if field.how == "flag":
            return field.column, lambda text: text == "true"
        if field.how == "app":
            return field.column, self._names.apps.get
        if field.how == "release":
            return field.column, lambda number: self._names.releases.get(number) or None
        if field.how == "id":
            return field.column, lambda value: None if value is None else value.hex()
        if field.how == "uuid":
            return field.column, lambda value: None if value is None else str(UUID(bytes=value))
        return field.column, _whole

    def number(self, name: str) -> str:
        """Return a field as a number in SQL, NULL where it is none."""
        field = FIELDS[self._kind].get(name)
        if field is None:
            return f"number_of(attribute_of({self._attribute(name)}, shared, attributes))"
        # Of a kind's own fields only some are numbers.
        return field.column if field.how == "number" else "NULL"

    def order(self, name: str) -> tuple[str, str]:
        """Return the sort keys of a field, first a number and then a text; NULL where it is not that."""
        field = FIELDS[self._kind].get(name)
        if field is None:
            value = f"attribute_of({self._attribute(name)}, shared, attributes)"
            return f"number_of({value})", f"text_in({value})"
        if field.how in ("number", "severity"):
            return field.column, "NULL"
        if field.how in ("named", "template"):
            text = f"NULLIF((SELECT text FROM texts WHERE id = {field.column}), '')"  # noqa: S608 - a column of kinds
            if field.how == "template":
                text = f"CASE WHEN filled = '' AND message IS NOT NULL THEN message ELSE {text} END"
            return "NULL", text
        if field.how == "message":
            return "NULL", _MESSAGE
        if field.how in ("app", "release"):
            return "NULL", f"{field.how}_name({field.column})"
        return "NULL", field.column if field.how in ("id", "uuid") else f"NULLIF({field.column}, '')"

    def _attribute(self, name: str) -> int:
        self._attributes.append(_Attribute(self._connection, name))
        return len(self._attributes) - 1

    def _text(self, number: int | str) -> Value:
        if isinstance(number, str):
            return number or None
        if number not in self._texts:
            row = self._connection.execute(_TEXT, (number,)).fetchone()
            self._texts[number] = row[0] or None if row else None
        return self._texts[number]


class _Attribute:
    """Finds the value of one attribute in rows of one day file."""

    def __init__(self, connection: sqlite3.Connection, name: str) -> None:
        self._name, self._start = name, json.dumps(name, ensure_ascii=False) + ":"
        pairs = connection.execute(PAIRS, (len(self._start), self._start)).fetchall()
        self._by_number: dict[int, str] = {row[0]: row[1][len(self._start) :] for row in pairs}
        self._by_shared: dict[bytes, str | None] = {}

    def of(self, shared: bytes | None, attributes: str | None) -> str | None:
        """Return the value as JSON, None where the row has none."""
        if shared is not None and self._by_number:
            try:
                number = self._by_shared[shared]
            except KeyError:
                number = next((self._by_number[one] for one in numbers_in(shared) if one in self._by_number), None)
                if len(self._by_shared) > 50_000:
                    self._by_shared.clear()
                self._by_shared[shared] = number
            if number is not None:
                return number
        if attributes is None or self._start not in attributes:
            return None
        value = json.loads(attributes).get(self._name)
        return None if value is None else json.dumps(value, ensure_ascii=False, separators=(",", ":"))


def _has_logarithm(connection: sqlite3.Connection) -> bool:
    """Whether this SQLite was built with its mathematical functions."""
    try:
        connection.execute("SELECT ln(2.0)")
    except sqlite3.OperationalError:
        return False
    return True


def _number_in(text: str | None) -> float | None:
    return None if text is None else number_of(json.loads(text))


def _text_in(text: str | None) -> str | None:
    """Return a text that is no number; of lists and objects, their JSON."""
    if text is None or (value := json.loads(text)) is None or number_of(value) is not None:
        return None
    return value or None if isinstance(value, str) else text


def _loaded(text: str | None) -> Value:
    """Return the value of JSON; lists and objects stay as they are written."""
    if text is None or text[0] in "[{":
        return text
    value: Value = json.loads(text)
    return value


def _whole(value: Any) -> Value:
    whole_value: Value = value
    return None if whole_value == "" else whole_value
