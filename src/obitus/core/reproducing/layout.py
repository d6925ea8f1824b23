"""Long expressions over several lines, as a formatter would lay them out."""

from __future__ import annotations

import ast
from typing import Final

WIDTH: Final = 100
_STEP: Final = 4
_BRACKETS: Final[dict[type, tuple[str, str]]] = {ast.List: ("[", "]"), ast.Tuple: ("(", ")"), ast.Set: ("{", "}")}


def laid_out(text: str, indent: int) -> str:
    """Return an expression at ``indent`` columns, broken where it is wider than a line."""
    if len(text) + indent <= WIDTH:
        return text
    try:
        node = ast.parse(text, mode="eval").body
        return _written(node, indent)
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return text


def _written(node: ast.expr, indent: int) -> str:
    text = ast.unparse(node)
    if len(text) + indent <= WIDTH:
        return text
    inner = indent + _STEP
    if isinstance(node, ast.Call):
        given = [_written(child, inner) for child in node.args]
        given += [
            f"{child.arg}={_written(child.value, inner)}" if child.arg else f"**{_written(child.value, inner)}"
            for child in node.keywords
        ]
        return _bracketed(f"{ast.unparse(node.func)}(", given, ")", indent)
    if isinstance(node, ast.Dict):
        pairs = [
            f"{ast.unparse(key)}: {_written(value, inner)}" if key is not None else f"**{_written(value, inner)}"
            for key, value in zip(node.keys, node.values, strict=True)
        ]
        return _bracketed("{", pairs, "}", indent)
    if isinstance(node, ast.List | ast.Tuple | ast.Set):
        opening, closing = _BRACKETS[type(node)]
        return _bracketed(opening, [_written(child, inner) for child in node.elts], closing, indent)
    return text


def _bracketed(opening: str, given: list[str], closing: str, indent: int) -> str:
    if not given:
        return opening + closing
    lines = "".join(f"\n{' ' * (indent + _STEP)}{one}," for one in given)
    return f"{opening}{lines}\n{' ' * indent}{closing}"
