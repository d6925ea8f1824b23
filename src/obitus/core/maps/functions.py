"""The function around a place in JavaScript or TypeScript, and its name. The text is parsed by tree-sitter, which
continues after syntax errors. Names are those that the language gives a function:
its own, else that of what it is assigned to; a method has its class before it.
"""

from __future__ import annotations

from bisect import bisect_right
from functools import lru_cache
from typing import Final, NamedTuple

import tree_sitter_javascript
import tree_sitter_typescript
from tree_sitter import Language, Node, Parser

from obitus.core.maps.source_map import OUTSIDE

MOST_BYTES: Final = 4 * 1024 * 1024
"""A longer text (bytes) is not parsed: it was not written by hand."""
ANONYMOUS: Final = "<anonymous>"
_FUNCTIONS: Final = frozenset(
    {
        "function_declaration", "generator_function_declaration", "function_expression", "generator_function", "arrow_function",
        "method_definition", "class_static_block",
    }
)  # fmt: skip
_CLASSES: Final = frozenset({"class_declaration", "class", "abstract_class_declaration"})
_FIELDS: Final = frozenset({"field_definition", "public_field_definition"})
_LONGEST_NAME: Final = 200


class _Span(NamedTuple):
    start: int
    end: int
    name: str


class Functions:
    """The functions of one text."""

    def __init__(self, text: str, ending: str) -> None:
        """Parse a text; ``ending`` is the file's suffix, such as ``.ts``."""
        self._lines = text.split("\n")
        data = text.encode("utf-8", "replace")
        self._starts = _starts(data)
        self._spans: list[_Span] = []
        language = _language(ending)
        if language is not None and len(data) <= MOST_BYTES:
            self._spans = _spans(Parser(language).parse(data).root_node)
        self._begins = [span.start for span in self._spans]

    @property
    def is_known(self) -> bool:
        """Whether the text is in a supported language."""
        return bool(self._spans)

    def at(self, line: int, column: int) -> str:
        """Return the name of the innermost function around a place: lines count from 1, columns from 0 in UTF-16 code units."""
        if not 1 <= line <= len(self._lines):
            return OUTSIDE
        before = self._lines[line - 1].encode("utf-16-le")[: 2 * column].decode("utf-16-le", "ignore")
        offset = self._starts[line - 1] + len(before.encode("utf-8", "replace"))
        # Spans are nested: the last that begins before a place and ends after it is the innermost.
        for number in range(bisect_right(self._begins, offset) - 1, -1, -1):
            if self._spans[number].end > offset:
                return self._spans[number].name
        return OUTSIDE


def _starts(data: bytes) -> list[int]:
    starts, at = [0], data.find(b"\n")
    while at >= 0:
        starts.append(at + 1)
        at = data.find(b"\n", at + 1)
    return starts


@lru_cache(maxsize=8)
def _language(ending: str) -> Language | None:
    if ending in (".js", ".mjs", ".cjs", ".jsx"):
        return Language(tree_sitter_javascript.language())
    if ending in (".ts", ".mts", ".cts"):
        return Language(tree_sitter_typescript.language_typescript())
    return Language(tree_sitter_typescript.language_tsx()) if ending == ".tsx" else None


def _spans(root: Node) -> list[_Span]:
    """Return the functions of a tree in the order in which they begin. Without recursion: texts may be nested to any depth."""
    spans = []
    cursor = root.walk()
    while True:
        node = cursor.node
        assert node is not None
        if node.type in _FUNCTIONS:
            spans.append(_Span(node.start_byte, node.end_byte, _name(node)))
        if cursor.goto_first_child():
            continue
        while not cursor.goto_next_sibling():
            if not cursor.goto_parent():
                return spans


def _name(node: Node) -> str:
    own = node.child_by_field_name("name")
    if own is not None:
        name = _text(own)
        return f"{_class_around(node)}{name}" if node.type == "method_definition" else name
    parent = node.parent
    if node.type == "class_static_block":
        return f"{_class_around(node)}<static>"
    while parent is not None and parent.type in ("parenthesized_expression", "as_expression", "satisfies_expression", "await_expression"):  # fmt: skip
        parent = parent.parent
    if parent is None:
        return ANONYMOUS
    if parent.type == "variable_declarator":
        return _named(parent.child_by_field_name("name"))
    if parent.type == "pair":
        return _named(parent.child_by_field_name("key"))
    if parent.type in _FIELDS:
        field = parent.child_by_field_name("name") or parent.child_by_field_name("property")
        return f"{_class_around(parent)}{_named(field)}"
    if parent.type == "assignment_expression":
        target = parent.child_by_field_name("left")
        if target is not None and target.type == "member_expression":
            target = target.child_by_field_name("property")
        return _named(target)
    return ANONYMOUS


def _named(node: Node | None) -> str:
    if node is None or node.type in ("object_pattern", "array_pattern"):
        return ANONYMOUS
    return _text(node).strip("'\"[]`") or ANONYMOUS


def _class_around(node: Node) -> str:
    parent = node.parent
    if parent is None or parent.type != "class_body" or parent.parent is None or parent.parent.type not in _CLASSES:
        return ""
    owner = parent.parent
    named = owner.child_by_field_name("name")
    if named is not None:
        return f"{_text(named)}."
    outer = owner.parent
    if outer is not None and outer.type == "variable_declarator":
        return f"{_named(outer.child_by_field_name('name'))}."
    return ""


def _text(node: Node) -> str:
    return (node.text or b"").decode("utf-8", "replace")[:_LONGEST_NAME]
