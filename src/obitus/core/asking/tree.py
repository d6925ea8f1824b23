"""The nodes of a question's tree."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

Op = Literal["=", "!=", ">", ">=", "<", "<=", "~", "^"]


@dataclass(frozen=True, slots=True)
class Compare:
    """A field compared with a value. ``^`` is for a value that begins so, written ``=pier*``."""

    field: str
    op: Op
    text: str
    """What was written, without quotes."""
    number: float | None = None
    """Its value as a number: a plain one, a Unix time in milliseconds, a duration or a size in the field's own unit."""


@dataclass(frozen=True, slots=True)
class Exists:
    """A field that exists, whatever its value."""

    field: str


@dataclass(frozen=True, slots=True)
class Words:
    """Words one after the other in the record's text; with ``open_end`` the last is the beginning of a word."""

    words: tuple[str, ...]
    open_end: bool = False


@dataclass(frozen=True, slots=True)
class Not:
    """A negated part."""

    inner: Node


@dataclass(frozen=True, slots=True)
class All:
    """Parts that must all hold."""

    parts: tuple[Node, ...]


@dataclass(frozen=True, slots=True)
class AnyOf:
    """Parts of which one must hold."""

    parts: tuple[Node, ...]


Leaf = Compare | Exists | Words
Node = Leaf | Not | All | AnyOf


def leaves_of(node: Node) -> Iterator[Leaf]:
    """Yield the terms of a question, from left to right."""
    if isinstance(node, Not):
        yield from leaves_of(node.inner)
    elif isinstance(node, All | AnyOf):
        for part in node.parts:
            yield from leaves_of(part)
    else:
        yield node


def fields_of(node: Node) -> frozenset[str]:
    """Return the fields that a question names."""
    return frozenset(leaf.field for leaf in leaves_of(node) if not isinstance(leaf, Words))
