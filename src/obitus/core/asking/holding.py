"""Whether a record matches a question."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from obitus.core.asking.tree import All, AnyOf, Compare, Exists, Leaf, Node, Not, Words
from obitus.core.asking.values import number_of
from obitus.core.severity import SEVERITIES
from obitus.core.terms import value_text, words_of


def holds(node: Node, record: Mapping[str, Any], texts: Sequence[str]) -> bool:
    """Whether a record (field to value) matches. ``texts`` are the fields in which words are searched."""
    if isinstance(node, All):
        return all(holds(part, record, texts) for part in node.parts)
    if isinstance(node, AnyOf):
        return any(holds(part, record, texts) for part in node.parts)
    if isinstance(node, Not):
        return not holds(node.inner, record, texts)
    if isinstance(node, Words):
        return any(leaf_holds(node, record[name]) for name in texts if record.get(name) is not None)
    return leaf_holds(node, record.get(node.field))


def leaf_holds(leaf: Leaf, value: Any) -> bool:
    """Whether one term holds for the value of its field, None where the record has none; of words, for one text."""
    if isinstance(leaf, Exists):
        return value is not None
    if isinstance(leaf, Words):
        return value is not None and words_stand_in(leaf, value_text(value))
    if leaf.op == "!=":
        return not _is_equal(leaf, value)
    if leaf.op == "=":
        return _is_equal(leaf, value)
    if value is None:
        return False
    if leaf.op == "~":
        return leaf.text.casefold() in value_text(value).casefold()
    if leaf.op == "^":
        return value_text(value).startswith(leaf.text)
    return _is_in_order(leaf, value)


def words_stand_in(leaf: Words, text: str) -> bool:
    """Whether a text has these words one after the other, ignoring case and the characters between them."""
    written = f" {' '.join(words_of(text))} "
    return f" {' '.join(leaf.words)}{'' if leaf.open_end else ' '}" in written


def _is_equal(leaf: Compare, value: Any) -> bool:
    if value is None:
        return leaf.text == ""
    if isinstance(value, int | float) and not isinstance(value, bool):
        return leaf.number is not None and float(value) == leaf.number
    if isinstance(value, bool) or leaf.field == "severity":
        return value_text(value).casefold() == leaf.text.casefold()
    return value_text(value) == leaf.text


def _is_in_order(leaf: Compare, value: Any) -> bool:
    held: Any
    limit: Any
    if leaf.field == "severity":
        if value not in SEVERITIES:
            return False
        held, limit = SEVERITIES.index(value), leaf.number
    elif leaf.number is not None:
        held, limit = number_of(value), leaf.number
        if held is None:
            return False
    else:
        held, limit = value_text(value), leaf.text
    if leaf.op == ">":
        return bool(held > limit)
    if leaf.op == ">=":
        return bool(held >= limit)
    return bool(held < limit) if leaf.op == "<" else bool(held <= limit)
