"""Evaluating an expression at a line of a program: bounded by its size, and by that of the values."""

from __future__ import annotations

import datetime as dt
import decimal
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Final

from obitus.core.tracepoints.expressions import (
    Attribute,
    Both,
    Call,
    Comparison,
    Expression,
    Item,
    Literal,
    Minus,
    Name,
    Not,
    Several,
    Sum,
)
from obitus.core.tracepoints.looking import (
    MOST_TEXT,
    SIZED,
    NoValue,
    attribute,
    bases_of,
    done_apart,
    is_in,
    item,
    length,
    name_of,
    plain,
)

MOST_BITS: Final = 10_000
"""Bits of an integer result."""
MOST_MADE: Final = 10_000
"""Characters of a text result."""

Locals = Mapping[str, Any]
Work = Callable[[Locals, Locals], Any]
"""Evaluates an expression with the locals of a function and the globals of its module; raises NoValue."""
_NUMBERS: Final = frozenset({int, float, bool, decimal.Decimal})
_TEXTS: Final = frozenset({str, bytes})
_SIMPLE: Final = frozenset({int, float, bool})
_MISSING: Final = object()


@dataclass(frozen=True, slots=True)
class Evaluated:
    """The result of an expression: a value, or the reason why there is none."""

    value: Any = None
    why_not: str = ""

    @classmethod
    def out(cls, work: Work, seen: Locals, around: Locals) -> Evaluated:
        """Evaluate an expression; never raises errors of the language."""
        try:
            return cls(work(seen, around))
        except NoValue as why:
            return cls(None, str(why))
        except RuntimeError:
            return cls(None, "it changed while it was looked at")


def compiled(expression: Expression) -> Work:
    """Compile an expression to a function."""
    match expression:
        case Literal(value):
            return lambda seen, around: value
        case Name(name):
            return _named(name)
        case Attribute(of, name):
            inner = compiled(of)
            return lambda seen, around: attribute(inner(seen, around), name)
        case Item(of, key):
            inner, asked = compiled(of), compiled(key)
            return lambda seen, around: item(inner(seen, around), asked(seen, around))
        case Several(parts):
            each = [compiled(part) for part in parts]
            return lambda seen, around: [one(seen, around) for one in each]
        case Call(function, arguments):
            given, act = [compiled(argument) for argument in arguments], _FUNCTIONS[function]
            return lambda seen, around: act(*(one(seen, around) for one in given))
        case Minus(of):
            inner = compiled(of)
            return lambda seen, around: _guarded(lambda value: -value, _number(inner(seen, around)))
        case Sum(operator, left, right):
            return _summed(operator, compiled(left), compiled(right))
        case Comparison(first, others):
            return _compared(compiled(first), [(_COMPARING[operator], compiled(other)) for operator, other in others])
        case Not(of):
            inner = compiled(of)
            return lambda seen, around: not holds(inner(seen, around))
        case Both(operator, parts):
            return _joined([compiled(part) for part in parts], until=operator == "or")


def holds(value: object) -> bool:
    """Whether a value counts as true, as in Python, without running the app's code; raises NoValue where that would be needed."""
    kind = type(value)
    if kind is bool:
        return value is True
    if value is None:
        return False
    bases = bases_of(value)
    if any(base in bases for base in SIZED):
        return length(value) > 0
    return bool(plain(value))


def _named(name: str) -> Work:
    def work(seen: Locals, around: Locals) -> Any:
        value = seen.get(name, _MISSING)
        if value is _MISSING:
            value = around.get(name, _MISSING)
            if value is _MISSING:
                raise NoValue(f"there is no {name} at this line")
        return value

    return work


def _joined(parts: list[Work], *, until: bool) -> Work:
    def work(seen: Locals, around: Locals) -> Any:
        value = None
        for part in parts:
            value = part(seen, around)
            if holds(value) is until:
                return value
        return value

    return work


def _compared(first: Work, others: list[tuple[Callable[[Any, Any], bool], Work]]) -> Work:
    if len(others) == 1:
        ((compare, other),) = others
        return lambda seen, around: compare(first(seen, around), other(seen, around))

    def work(seen: Locals, around: Locals) -> bool:
        left_value = first(seen, around)
        for compare, other in others:
            right = other(seen, around)
            if not compare(left_value, right):
                return False
            left_value = right
        return True

    return work


def _same(left: Any, right: Any) -> bool:
    if left is None or right is None or left is right:
        # By identity, whatever the object's ``__eq__`` says: an object equals itself, and only None is None.
        return left is right
    if type(left) in _SIMPLE and type(right) in _SIMPLE:
        return bool(left == right)
    return bool(_guarded(lambda one, other: one == other, plain(left), plain(right)))


def _ordered(compare: Callable[[Any, Any], bool]) -> Callable[[Any, Any], bool]:
    def ordered(left: Any, right: Any) -> bool:
        # Most conditions are of these, and run in the middle of an app's loops.
        if type(left) in _SIMPLE and type(right) in _SIMPLE:
            return compare(left, right)
        return bool(_guarded(compare, plain(left), plain(right)))

    return ordered


_COMPARING: Final[dict[str, Callable[[Any, Any], bool]]] = {
    "==": _same,
    "!=": lambda left, right: not _same(left, right),
    "<": _ordered(lambda left, right: left < right),
    "<=": _ordered(lambda left, right: left <= right),
    ">": _ordered(lambda left, right: left > right),
    ">=": _ordered(lambda left, right: left >= right),
    "in": is_in,
    "not in": lambda left, right: not is_in(left, right),
    "is": lambda left, right: left is right,
    "is not": lambda left, right: left is not right,
}


def _guarded(act: Callable[..., Any], *values: Any) -> Any:
    """Call a function with plain values; its exception becomes the reason why there is no value."""
    try:
        return done_apart(act, *values)
    except ZeroDivisionError:
        raise NoValue("it divides by zero") from None
    except (TypeError, ValueError, ArithmeticError) as error:
        kinds = " and ".join(f"a {name_of(type(value))}" for value in values)
        raise NoValue(f"that cannot be done with {kinds} ({name_of(type(error))})") from None


def _number(value: Any) -> Any:
    number = plain(value)
    if type(number) not in _NUMBERS and type(number) is not dt.timedelta:
        raise NoValue(f"a {name_of(type(value))} is no number")
    return number


def _summed(operator: str, left: Work, right: Work) -> Work:
    act, takes = _SUMS[operator], _TAKES[operator]

    def work(seen: Locals, around: Locals) -> Any:
        left_value, right_value = plain(left(seen, around)), plain(right(seen, around))
        takes(left_value, right_value)
        return _guarded(act, left_value, right_value)

    return work


def _bounded(one: Any, other: Any) -> None:
    """Refuse an operation whose result would be too large a number."""
    if type(one) is int and type(other) is int and one.bit_length() + other.bit_length() > MOST_BITS:
        raise NoValue(f"whole numbers of more than {MOST_BITS:,} bits are not worked out")


def _added(one: Any, other: Any) -> None:
    if type(one) in _TEXTS:
        if type(other) is type(one) and len(one) + len(other) > MOST_MADE:
            raise NoValue(f"a text of more than {MOST_MADE:,} characters is not put together")
        return
    _bounded(one, other)


def _worked(one: Any, other: Any) -> None:
    for value in (one, other):
        if type(value) in _TEXTS:
            raise NoValue("texts are only added to one another")
    _bounded(one, other)


_SUMS: Final[dict[str, Callable[[Any, Any], Any]]] = {
    "+": lambda one, other: one + other,
    "-": lambda one, other: one - other,
    "*": lambda one, other: one * other,
    "/": lambda one, other: one / other,
    "//": lambda one, other: one // other,
    "%": lambda one, other: one % other,
}
_TAKES: Final[dict[str, Callable[[Any, Any], None]]] = {
    "+": _added,
    **dict.fromkeys(("-", "*", "/", "//", "%"), _worked),
}


def _text_of(value: Any) -> str:
    text = plain(value)
    if type(text) is not str:
        raise NoValue(f"a {name_of(type(value))} is no text")
    if len(text) > MOST_TEXT:
        raise NoValue(f"a text of more than {MOST_TEXT:,} characters is not looked at")
    return text


def _as_text(value: Any) -> str:
    plain_value = plain(value)
    if type(plain_value) is int and plain_value.bit_length() > MOST_BITS:
        raise NoValue(f"a whole number of more than {MOST_BITS:,} bits is not written")
    if type(plain_value) in _TEXTS and len(plain_value) > MOST_MADE:
        raise NoValue(f"a text of more than {MOST_MADE:,} characters is not put together")
    return str(plain_value)


def _most(choose: Callable[..., Any]) -> Callable[..., Any]:
    return lambda *values: _guarded(lambda *found: choose(found), *map(plain, values))


def _rounded(value: Any, digits: Any = 0) -> Any:
    number, places = _number(value), plain(digits)
    if type(places) is not int or not -20 <= places <= 20:
        raise NoValue("a number is rounded to -20 to 20 digits")
    return _guarded(lambda one: round(one, places) if places else round(one), number)


_FUNCTIONS: Final[dict[str, Callable[..., Any]]] = {
    "len": length,
    "abs": lambda value: _guarded(abs, _number(value)),
    "round": _rounded,
    "min": _most(min),
    "max": _most(max),
    "lower": lambda value: _text_of(value).lower(),
    "upper": lambda value: _text_of(value).upper(),
    "strip": lambda value: _text_of(value).strip(),
    "begins": lambda value, part: _text_of(value).startswith(_text_of(part)),
    "ends": lambda value, part: _text_of(value).endswith(_text_of(part)),
    "text": _as_text,
    "type": lambda value: name_of(type(value)),
}
