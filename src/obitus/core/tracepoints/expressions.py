"""The nodes of an expression, and writing it as text."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Final

Plain = int | float | str | bool | None

STRENGTH: Final = {
    "or": 1,
    "and": 2,
    "not": 3,
    "compare": 4,
    "+": 5,
    "-": 5,
    "*": 6,
    "/": 6,
    "//": 6,
    "%": 6,
    "minus": 7,
}
"""Precedence, as in Python."""
WHOLE: Final = 8
COMPARING: Final = ("<", "<=", ">", ">=", "==", "!=", "in", "not in", "is", "is not")


@dataclass(frozen=True, slots=True)
class Literal:
    """A number, a text, ``True``, ``False`` or ``None``."""

    value: Plain


@dataclass(frozen=True, slots=True)
class Name:
    """A local or free variable of the function; else a global of its module."""

    name: str


@dataclass(frozen=True, slots=True)
class Attribute:
    """An attribute, read without running anything."""

    of: Expression
    name: str


@dataclass(frozen=True, slots=True)
class Item:
    """An item of a list, a tuple, a text or a dictionary."""

    of: Expression
    key: Expression


@dataclass(frozen=True, slots=True)
class Call:
    """One of the language's own functions."""

    function: str
    arguments: tuple[Expression, ...]


@dataclass(frozen=True, slots=True)
class Several:
    """Values in brackets, for ``in``."""

    parts: tuple[Expression, ...]


@dataclass(frozen=True, slots=True)
class Minus:
    """A negative."""

    of: Expression


@dataclass(frozen=True, slots=True)
class Sum:
    """A binary operation: ``+ - * / // %``."""

    operator: str
    left: Expression
    right: Expression


@dataclass(frozen=True, slots=True)
class Comparison:
    """Values compared one after the other: ``1 < passengers <= 6``."""

    first: Expression
    others: tuple[tuple[str, Expression], ...]


@dataclass(frozen=True, slots=True)
class Not:
    """A negation."""

    of: Expression


@dataclass(frozen=True, slots=True)
class Both:
    """``and`` or ``or`` of several: the first value that decides the result, as in Python."""

    operator: str
    parts: tuple[Expression, ...]


Expression = Literal | Name | Attribute | Item | Call | Several | Minus | Sum | Comparison | Not | Both


def parts_of(expression: Expression) -> tuple[Expression, ...]:
    """Return the direct children of an expression."""
    match expression:
        case Attribute(of) | Minus(of) | Not(of):
            return (of,)
        case Item(left, right) | Sum(_, left, right):
            return (left, right)
        case Call(_, parts) | Several(parts) | Both(_, parts):
            return parts
        case Comparison(first, others):
            return (first, *(other for _, other in others))
    return ()


def names_of(expression: Expression) -> Iterator[str]:
    """Yield the names that an expression looks up, in order."""
    if isinstance(expression, Name):
        yield expression.name
    for part in parts_of(expression):
        yield from names_of(part)


def texts_of(expression: Expression) -> Iterator[str]:
    """Yield the attributes and the texts in square brackets of an expression: ``pin`` of ``booking["pin"]``."""
    match expression:
        case Attribute(_, name):
            yield name
        case Item(_, Literal(str() as name)):
            yield name
    for part in parts_of(expression):
        yield from texts_of(part)


def written(expression: Expression) -> str:
    """Return an expression as a text that parses to the same expression."""
    return _written(expression, 0)


def _written(expression: Expression, least: int) -> str:
    """Return it, in brackets where its precedence is lower than ``least``."""
    strength, text = _bare(expression)
    return f"({text})" if strength < least else text


def _bare(expression: Expression) -> tuple[int, str]:
    match expression:
        case Literal(value):
            return WHOLE, quoted(value) if isinstance(value, str) else repr(value)
        case Name(name):
            return WHOLE, name
        case Attribute(of, name):
            # `1.real` would be a number with a fraction.
            return WHOLE, f"{_written(of, WHOLE) if not _is_number(of) else f'({_written(of, 0)})'}.{name}"
        case Item(of, key):
            return WHOLE, f"{_written(of, WHOLE)}[{_written(key, 0)}]"
        case Call(function, arguments):
            return WHOLE, f"{function}({', '.join(_written(written_part, 0) for written_part in arguments)})"
        case Several(parts):
            return WHOLE, f"[{', '.join(_written(written_part, 0) for written_part in parts)}]"
        case Minus(of):
            return STRENGTH["minus"], f"-{_written(of, STRENGTH['minus'])}"
        case Sum(operator, left, right):
            own = STRENGTH[operator]
            return own, f"{_written(left, own)} {operator} {_written(right, own + 1)}"
        case Comparison(first, others):
            own = STRENGTH["compare"]
            text = _written(first, own + 1) + "".join(
                f" {operator} {_written(other, own + 1)}" for operator, other in others
            )
            return own, text
        case Not(of):
            return STRENGTH["not"], f"not {_written(of, STRENGTH['not'])}"
        case Both(operator, parts):
            own = STRENGTH[operator]
            return own, f" {operator} ".join(_written(written_part, own + 1) for written_part in parts)


def _is_number(expression: Expression) -> bool:
    return isinstance(expression, Literal) and type(expression.value) in (int, float)


def quoted(text: str) -> str:
    """Return a text as a literal of an expression."""
    for character, way in (("\\", "\\\\"), ('"', '\\"'), ("\n", "\\n"), ("\t", "\\t"), ("\r", "\\r")):
        text = text.replace(character, way)
    return f'"{text}"'
