"""From a question's tree to a condition in SQL, for the logs or the runs of one day file.

Numbers are compared in plain SQL. Texts are compared by ``core.asking`` itself, by two functions that are registered
on the connection for one question: so the condition and the predicate cannot disagree. Before that the text index
may have narrowed the rows down (``narrowing``): it finds all rows that can match, and perhaps more.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final
from uuid import UUID

from obitus.core.asking.holding import leaf_holds
from obitus.core.asking.records import TEXTS, Kind
from obitus.core.asking.tree import All, AnyOf, Compare, Exists, Leaf, Node, Not, Words
from obitus.core.severity import SEVERITIES
from obitus.core.templates import SEPARATOR, pieces_of
from obitus.core.terms import LONGEST_WORD, MORE, is_letter, term, value_text
from obitus.store.asking.kinds import FIELDS, INDEXED, Kept
from obitus.store.days.logs import message_of
from obitus.store.days.pairs import in_bytes, is_among, numbers_in
from obitus.store.days.texts import NOTHING, hash_of

_OPERATORS: Final = {"=": "=", ">": ">", ">=": ">=", "<": "<", "<=": "<="}
_TEXT_IS: Final = "SELECT id FROM texts WHERE hash = ? AND text = ?"
_TEXTS: Final = "SELECT id, text FROM texts"
PAIRS: Final = "SELECT id, text FROM texts WHERE substr(text, 1, ?) = ?"
_TEXT: Final = "SELECT text FROM texts WHERE id = ?"


@dataclass(frozen=True, slots=True)
class Names:
    """Names of apps and releases in the main file, by their numbers."""

    apps: Mapping[int, str]
    releases: Mapping[int, str]


@dataclass(frozen=True, slots=True)
class Condition:
    """A condition over the rows of one table of one day file."""

    sql: str
    params: tuple[Any, ...]


def narrowing(node: Node, kind: Kind) -> str | None:
    """Return the query for the text index (FTS5), None where it cannot narrow anything down."""
    narrowed = _narrowed(node, kind)
    # Records that are not indexed whole may match anything.
    return None if narrowed is None else f'({narrowed}) OR "{MORE}"'


def exactly(node: Node) -> str | None:
    """Return the query for the text index where it alone decides which rows match, except those that are not indexed
    whole. For one word the index is exact; of several words it does not know the order.
    """
    if isinstance(node, Words) and len(node.words) == 1 and len(node.words[0]) < LONGEST_WORD:
        return f'"{node.words[0]}"*' if node.open_end else f'"{node.words[0]}"'
    return None


def _narrowed(node: Node, kind: Kind) -> str | None:
    if isinstance(node, All):
        parts = [part for part in (_narrowed(part, kind) for part in node.parts) if part is not None]
        return " AND ".join(f"({part})" for part in parts) or None
    if isinstance(node, AnyOf):
        parts = [_narrowed(part, kind) or "" for part in node.parts]
        return " OR ".join(f"({part})" for part in parts) if all(parts) else None
    if isinstance(node, Words):
        whole = [f'"{word}"' for word in dict.fromkeys(node.words)]
        if node.open_end:
            whole[-1:] = [f'"{node.words[-1]}"*']
        narrowed = " AND ".join(whole)
        # In rows that were indexed before each letter was a word of its own, a run of them is one word.
        return f'({narrowed}) OR "{"".join(node.words)}"*' if any(map(is_letter, node.words)) else narrowed
    if isinstance(node, Compare) and node.op == "=" and node.text:
        fields = FIELDS[kind]
        # From there on two integers may be equal as floating-point numbers.
        is_exact = node.number is None or abs(node.number) < 2**53
        if is_exact and (node.field not in fields or node.field in INDEXED):
            terms = {term(node.field, node.text)}
            if node.number is not None:
                terms.add(term(node.field, value_text(node.number)))
            terms |= {term(node.field, text) for text in ("true", "false") if node.text.casefold() == text}
            return " OR ".join(f'"{one}"' for one in sorted(terms))
    return None


def in_sql(node: Node, of_leaf: Callable[[Leaf], str]) -> str:
    """Return the condition of a tree, from those of its terms, from left to right."""
    if isinstance(node, All | AnyOf):
        joint = " AND " if isinstance(node, All) else " OR "
        return f"({joint.join(in_sql(part, of_leaf) for part in node.parts)})"
    return f"NOT {in_sql(node.inner, of_leaf)}" if isinstance(node, Not) else of_leaf(node)


class Compiler:
    """Makes the condition of one question for one day file, and registers the functions on its connection."""

    def __init__(self, connection: sqlite3.Connection, kind: Kind, names: Names) -> None:
        self._connection, self._kind, self._names = connection, kind, names
        self._fields: Mapping[str, Kept] = FIELDS[kind]
        self._params: list[Any] = []
        self._leaves: list[Leaf] = []
        self._starts: dict[int, str] = {}
        self._pairs: dict[int, tuple[frozenset[int], frozenset[int]]] = {}
        self._written: dict[int, tuple[bytes, ...]] = {}
        """The numbers of texts with exactly the wanted value, as in a column ``shared``."""
        self._seams: dict[tuple[int, int], tuple[tuple[str, ...], bool]] = {}
        self._texts: dict[int, str] = {NOTHING: ""}
        connection.create_function("leaf_holds", 2, self._leaf_holds, deterministic=True)
        connection.create_function("attribute_holds", 3, self._attribute_holds, deterministic=True)
        connection.create_function("message_of", 4, self._message_of, deterministic=True)
        connection.create_function("message_contains", 5, self._message_contains, deterministic=True)
        connection.create_function("uuid_text", 1, _uuid_text, deterministic=True)
        connection.create_function("hexadecimal", 1, _hexadecimal, deterministic=True)

    def condition(self, node: Node) -> Condition:
        """Return the condition."""
        # First: its terms add the parameters.
        sql = in_sql(node, self._of)
        return Condition(sql, tuple(self._params))

    def _of(self, leaf: Leaf) -> str:
        if isinstance(leaf, Words):
            texts = [self._fields[name] for name in TEXTS[self._kind]]
            return "(" + " OR ".join(self._field(leaf, field_text) for field_text in texts) + ")"
        field_text = self._fields.get(leaf.field)
        return self._attribute(leaf) if field_text is None else self._field(leaf, field_text)

    def _field(self, leaf: Leaf, kept: Kept) -> str:
        if kept.how == "severity":
            return self._one_of(kept.column, [rank for rank, name in enumerate(SEVERITIES) if leaf_holds(leaf, name)])
        if kept.how == "flag":
            return self._one_of(kept.column, [value_text(flag) for flag in (False, True) if leaf_holds(leaf, flag)])
        if kept.how == "app":
            return self._named_in_main(leaf, kept, self._names.apps)
        if kept.how == "release":
            return self._named_in_main(leaf, kept, self._names.releases)
        if kept.how == "named":
            return self._named(leaf, kept)
        if kept.how == "template":
            itself = self._asked(leaf, "message")
            return f"CASE WHEN message IS NOT NULL AND filled = '' THEN {itself} ELSE {self._named(leaf, kept)} END"
        if kept.how == "number" and isinstance(leaf, Compare) and leaf.number is not None and leaf.op in _OPERATORS:
            self._params.append(leaf.number)
            compared = f"{kept.column} {_OPERATORS[leaf.op]} ?"
            return f"({kept.column} IS NOT NULL AND {compared})" if kept.null else f"({compared})"
        if kept.how in ("id", "uuid"):
            return self._id(leaf, kept)
        if kept.how == "message" and isinstance(leaf, Compare) and leaf.op == "~" and leaf.text:
            self._params.append(self._number_of(leaf))
            return "message_contains(?, template_id, message_id, message, filled)"
        value = "message_of(template_id, message_id, message, filled)" if kept.how == "message" else kept.column
        if kept.how in ("text", "message"):
            # Empty ones are left out.
            value = f"NULLIF({value}, '')"
        return self._asked(leaf, value)

    def _id(self, leaf: Leaf, kept: Kept) -> str:
        text_of = _uuid_text if kept.how == "uuid" else _hexadecimal
        if isinstance(leaf, Compare) and leaf.op == "=":
            id_bytes = _bytes(leaf.text)
            if id_bytes is not None and (len(id_bytes) == 16 or kept.how == "id") and text_of(id_bytes) == leaf.text:
                self._params.append(id_bytes)
                return f"({kept.column} IS NOT NULL AND {kept.column} = ?)"
        return self._asked(leaf, f"{'uuid_text' if kept.how == 'uuid' else 'hexadecimal'}({kept.column})")

    def _asked(self, leaf: Leaf, value: str) -> str:
        self._params.append(self._number_of(leaf))
        return f"leaf_holds(?, {value})"

    def _number_of(self, leaf: Leaf) -> int:
        self._leaves.append(leaf)
        return len(self._leaves) - 1

    def _one_of(self, column: str, values: Sequence[int | str]) -> str:
        self._params.append(json.dumps(values))
        return f"{column} IN (SELECT value FROM json_each(?))"  # noqa: S608 - a name of a column, from kinds

    def _named_in_main(self, leaf: Leaf, kept: Kept, names: Mapping[int, str]) -> str:
        return self._one_of(kept.column, [number for number, name in names.items() if leaf_holds(leaf, name or None)])

    def _named(self, leaf: Leaf, kept: Kept) -> str:
        """Return the condition on a column of numbers of texts: few texts are checked instead of many rows."""
        if isinstance(leaf, Compare) and leaf.op == "=" and leaf.text:
            return self._one_of(kept.column, self._numbers_of(leaf.text))
        numbers = [row[0] for row in self._connection.execute(_TEXTS) if leaf_holds(leaf, row[1])]
        return self._one_of(kept.column, [*numbers, *([NOTHING] if leaf_holds(leaf, None) else [])])

    def _attribute(self, leaf: Compare | Exists) -> str:
        number = self._number_of(leaf)
        start = self._starts[number] = json.dumps(leaf.field, ensure_ascii=False) + ":"
        if isinstance(leaf, Compare) and leaf.op == "=" and leaf.text:
            # Of the many values of a name only the wanted one matters.
            numbers = frozenset(
                number_written for value in _values(leaf) for number_written in self._numbers_of(start + value)
            )
            self._pairs[number] = numbers, numbers
            self._written[number] = tuple(in_bytes(number_written) for number_written in numbers)
        else:
            pairs = self._connection.execute(PAIRS, (len(start), start)).fetchall()
            holding = frozenset(row[0] for row in pairs if leaf_holds(leaf, json.loads("{" + row[1] + "}")[leaf.field]))
            self._pairs[number] = frozenset(row[0] for row in pairs), holding
        self._params.append(number)
        return "attribute_holds(?, shared, attributes)"

    def _numbers_of(self, text: str) -> list[int]:
        """Return the number of a repeated text, if it has one."""
        return [row[0] for row in self._connection.execute(_TEXT_IS, (hash_of(text), text))]

    def _leaf_holds(self, number: int, value: Any) -> bool:
        return leaf_holds(self._leaves[number], value)

    def _attribute_holds(self, number: int, shared: bytes | None, attributes: str | None) -> bool:
        leaf = self._leaves[number]
        assert not isinstance(leaf, Words)
        pairs, holding = self._pairs[number]
        written = self._written.get(number)
        if written is not None:
            if shared is not None and any(is_among(number_held, shared) for number_held in written):
                return True
        elif pairs:
            for number_held in numbers_in(shared):
                if number_held in pairs:
                    return number_held in holding
        value = json.loads(attributes).get(leaf.field) if attributes and self._starts[number] in attributes else None
        return leaf_holds(leaf, value)

    def _message_of(self, template_id: int, message_id: int, message: str | None, filled: str | None) -> str:
        if message is not None:
            return message
        return message_of(self._text(template_id), self._text(message_id), message, filled)

    def _message_contains(
        self, number: int, template_id: int, message_id: int, message: str | None, filled: str | None
    ) -> bool:
        """Whether a message contains a text, ignoring case: most often the template decides, and no message has to be made."""
        leaf = self._leaves[number]
        assert isinstance(leaf, Compare)
        text = leaf.text.casefold()
        if message is not None or filled is None:
            return text in self._message_of(template_id, message_id, message, filled).casefold()
        at = (number, template_id)
        seams = self._seams.get(at)
        if seams is None:
            # Folding the case of the pieces is the same as folding the whole.
            pieces = tuple(piece.casefold() for piece in pieces_of(self._text(template_id)))
            seams = self._seams[at] = pieces, any(text in piece for piece in pieces)
        pieces, is_in_template = seams
        if is_in_template:
            return True
        values = filled.casefold().split(SEPARATOR)
        if len(values) != len(pieces) - 1:
            return text in self._message_of(template_id, message_id, message, filled).casefold()
        return text in "".join([part for pair in zip(pieces, values, strict=False) for part in pair]) + pieces[-1]

    def _text(self, number: int) -> str:
        text = self._texts.get(number)
        if text is None:
            row = self._connection.execute(_TEXT, (number,)).fetchone()
            text = self._texts[number] = row[0] if row else ""
        return text


def _values(leaf: Compare) -> set[str]:
    """Return the values, as JSON, that equal the wanted one: floating-point numbers are in no repeated text."""
    values = {json.dumps(leaf.text, ensure_ascii=False), leaf.text, leaf.text.casefold()}
    if leaf.number is not None and leaf.number.is_integer():
        values.add(str(int(leaf.number)))
    return values


def _uuid_text(value: bytes | None) -> str | None:
    return None if value is None else str(UUID(bytes=value))


def _hexadecimal(value: bytes | None) -> str | None:
    return None if value is None else value.hex()


def _bytes(text: str) -> bytes | None:
    """Return the bytes of an id's text, None where it is none."""
    try:
        return bytes.fromhex(text.replace("-", "")) if len(text) in (16, 32, 36) else None
    except ValueError:
        return None
