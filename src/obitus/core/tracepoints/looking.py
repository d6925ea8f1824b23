"""Reading attributes and items of live objects without running a line of the app.

No property, no ``__getattr__`` and no ``__getitem__`` of the app's classes is called: it could be slow, raise, or
change something. Only stored data is read: an object's own attributes, its slots, constants of its class, and the
items of Python's own containers, also where a class of the app inherits from one.
"""

from __future__ import annotations

import collections
import datetime as dt
import decimal
import enum
import types
import uuid
import zoneinfo
from collections.abc import Callable
from itertools import islice
from typing import Any, Final

MOST_LOOKED_THROUGH: Final = 10_000
"""Most items that ``in`` searches."""
MOST_TEXT: Final = 100_000
"""Most characters of a text that are read."""

_PLAIN: Final = frozenset(
    {
        bool,
        int,
        float,
        str,
        bytes,
        type(None),
        decimal.Decimal,
        uuid.UUID,
        dt.date,
        dt.timedelta,
    }
)
_TIMES: Final = frozenset({dt.datetime, dt.time})
_FIELD: Final = type(collections.namedtuple("_Pair", ("one",)).one)  # type: ignore[attr-defined]
_BASES: Final[tuple[tuple[type, Callable[[Any], Any]], ...]] = (
    # The plain value of an enumeration member or of an instance of an app's subclass.
    (str, lambda value: str.__getitem__(value, slice(None))),
    (int, int.__int__),
    (float, float.__float__),
    (bytes, lambda value: bytes.__getitem__(value, slice(None))),
)
_mro: Final = type.__dict__["__mro__"].__get__
_own: Final = type.__dict__["__dict__"].__get__
SIZED: Final[tuple[Any, ...]] = (str, bytes, bytearray, list, tuple, dict, set, frozenset, range)
_NUMBERED: Final[tuple[Any, ...]] = (list, tuple, str, bytes, bytearray, range)
_LOOKED_THROUGH: Final[tuple[Any, ...]] = (dict, list, tuple, set, frozenset, range)
_READ: Final = (types.MemberDescriptorType, types.GetSetDescriptorType)
_RUNS: Final = (property, types.FunctionType, types.MethodType, types.BuiltinFunctionType, classmethod, staticmethod)


class NoValue(Exception):
    """There is no value, and why, in words."""


def bases_of(value: object) -> tuple[type, ...]:
    """Return the classes of a value, without calling the app's code."""
    found: tuple[type, ...] = _mro(type(value))
    return found


def plain(value: object) -> Any:
    """Return a number, a text, a time or another value that can be compared safely; raises NoValue for anything else."""
    kind = type(value)
    if kind in _PLAIN:
        return value
    if kind in _TIMES:
        zone = value.tzinfo  # type: ignore[attr-defined]
        if zone is None or type(zone) is dt.timezone or type(zone) is zoneinfo.ZoneInfo:
            return value
        raise NoValue("a time whose zone is of a class of the app is not looked at")
    bases = bases_of(value)
    for base, taken in _BASES:
        if base in bases:
            return taken(value)
    raise NoValue(f"a {name_of(kind)} is not compared: only numbers, texts, times and the like are")


def name_of(kind: type) -> str:
    """Return the name of a class."""
    return str(type.__dict__["__name__"].__get__(kind))


def length(value: object) -> int:
    """Return the length of one of Python's own containers or texts; raises NoValue for anything else."""
    bases = bases_of(value)
    for base in SIZED:
        if base in bases:
            return int(base.__len__(value))
    raise NoValue(f"a {name_of(type(value))} has no length that can be read without running it")


def attribute(value: object, name: str) -> Any:
    """Return an attribute of an object; raises NoValue."""
    bases = bases_of(value)
    is_class = type in bases
    if enum.Enum in bases and name in ("name", "value"):
        return _held(value, bases).get(f"_{name}_")
    for base in _mro(value) if is_class else bases:
        value_held = _own(base).get(name, _MISSING)
        if value_held is _MISSING:
            continue
        if not is_class and isinstance_of(value_held, _READ):
            try:
                return value_held.__get__(value)
            except AttributeError:
                raise NoValue(f"{name} is not set") from None
        attribute_held = _held(value, bases).get(name, _MISSING) if not is_class else _MISSING
        if isinstance_of(value_held, (property,)):
            raise NoValue(f"{name} is a property, and properties are not run")
        if attribute_held is not _MISSING:
            return attribute_held
        if isinstance_of(value_held, _RUNS):
            raise NoValue(f"{name} is a function, and nothing is called")
        if hasattr_of(value_held, "__get__"):
            # A field of a named tuple is a descriptor of Python's own, and reads its item.
            if type(value_held) is _FIELD and not is_class:
                return value_held.__get__(value, type(value))
            raise NoValue(f"{name} is worked out by the app's own code, which is not run")
        return value_held
    attribute_held = _held(value, bases).get(name, _MISSING)
    if attribute_held is not _MISSING:
        return attribute_held
    raise NoValue(f"a {name_of(type(value))} has no {name} that can be read without running its code")


_MISSING: Final = object()


def isinstance_of(value: object, kinds: tuple[type, ...]) -> bool:
    """Whether a value is an instance of one of some classes, without reading its ``__class__``."""
    bases = bases_of(value)
    return any(kind in bases for kind in kinds)


def hasattr_of(value: object, name: str) -> bool:
    """Whether a class of a value has a method."""
    return any(name in _own(base) for base in bases_of(value))


def _held(value: object, bases: tuple[type, ...]) -> dict[str, Any]:
    """Return the instance attributes of an object."""
    if types.ModuleType in bases:
        attributes = vars(types.ModuleType)["__dict__"].__get__(value)
    else:
        attributes = None
        for base in bases:
            descriptor = _own(base).get("__dict__")
            if type(descriptor) is types.GetSetDescriptorType:
                attributes = descriptor.__get__(value)
                break
    return attributes if type(attributes) is dict else {}


def item(value: object, key: object) -> Any:
    """Return an item of one of Python's own containers; raises NoValue."""
    bases = bases_of(value)
    plain_key = plain(key)
    if dict in bases:
        # Only plain keys are compared one by one: a key of the app could have its own ``__eq__``.
        element = _of_dict(value, plain_key)
        if element is _MISSING:
            raise NoValue(f"there is no {_short(plain_key)} in it")
        return element
    for base in _NUMBERED:
        if base in bases:
            if type(plain_key) not in (int, bool):
                raise NoValue(f"a {name_of(type(value))} has numbered items, not {_short(plain_key)}")
            size = int(base.__len__(value))
            if not -size <= plain_key < size:
                raise NoValue(f"it has {size} items, none at {_short(plain_key)}")
            return base.__getitem__(value, int(plain_key))
    raise NoValue(f"items of a {name_of(type(value))} cannot be read without running its code")


def _of_dict(value: Any, asked: object) -> Any:
    for key, inner in islice(dict.items(value), MOST_LOOKED_THROUGH):
        if equals(key, asked):
            return inner
    return _MISSING


def done_apart(act: Callable[..., Any], *values: Any) -> Any:
    """Call a function with plain values; the app's context for decimals stays as it is, flags included."""
    if any(type(value) is decimal.Decimal for value in values):
        with decimal.localcontext(decimal.Context()):
            return act(*values)
    return act(*values)


def equals(value: object, asked: object) -> bool:
    """Whether any value equals a plain one."""
    try:
        return bool(done_apart(lambda one, other: one == other, plain(value), asked))
    except (NoValue, TypeError, ArithmeticError):
        return False


def is_in(asked: object, value: object) -> bool:
    """Whether a text is in a text, or a plain value among the items of a container; raises NoValue."""
    bases = bases_of(value)
    if str in bases or bytes in bases:
        text, part = plain(value), plain(asked)
        if type(part) is not type(text):
            raise NoValue(f"only a text can be in a text, not {_short(part)}")
        if len(text) > MOST_TEXT:
            raise NoValue(f"a text of more than {MOST_TEXT:,} characters is not looked through")
        return part in text
    wanted = plain(asked)
    base = next((element for element in _LOOKED_THROUGH if element in bases), None)
    if base is None:
        raise NoValue(f"a {name_of(type(value))} cannot be looked through without running its code")
    if any(equals(element, wanted) for element in islice(base.__iter__(value), MOST_LOOKED_THROUGH)):
        return True
    if length(value) > MOST_LOOKED_THROUGH:
        raise NoValue(f"it is not among the first {MOST_LOOKED_THROUGH:,}, and no more are looked through")
    return False


def _short(value: object) -> str:
    text = repr(value) if type(value) is not int or value.bit_length() < 200 else "a large number"
    return text if len(text) <= 40 else f"{text[:40]}…"
