"""Values as text, bounded, without running a line of the app's code.

No ``repr`` or ``str`` of the app's classes is called: it could raise, hang, be huge or change state, just when
something has gone wrong. Objects are shown by their class and their fields.
"""

from __future__ import annotations

import datetime as dt
import decimal
import enum
import fractions
import pathlib
import types
import uuid
from collections.abc import Callable, Iterator
from itertools import islice
from typing import Any, Final

from obitus.client.exception_origin import is_the_apps
from obitus.core.redaction import Redactor, mark

MOST_CHARS: Final = 1000
MOST_STRING: Final = 400
MOST_ITEMS: Final = 12
MOST_DEPTH: Final = 3

_SAFE_REPR: Final[frozenset[type]] = frozenset(
    {
        bool,
        float,
        complex,
        type(None),
        range,
        dt.datetime,
        dt.date,
        dt.time,
        dt.timedelta,
        decimal.Decimal,
        fractions.Fraction,
        uuid.UUID,
        pathlib.PosixPath,
        pathlib.WindowsPath,
        pathlib.PurePosixPath,
        type(Ellipsis),
        type(NotImplemented),
    }
)
_FUNCTIONS: Final = (types.FunctionType, types.BuiltinFunctionType, types.MethodType)
_BRACKETS: Final[dict[type, tuple[str, str]]] = {
    list: ("[", "]"),
    tuple: ("(", ")"),
    set: ("{", "}"),
    frozenset: ("frozenset({", "})"),
}


def show(value: object, redactor: Redactor, *, depth: int = MOST_DEPTH, chars: int = MOST_CHARS) -> str:
    """Return a value as text of at most ``chars`` characters, values inside of it to a depth. Never raises."""
    try:
        if chars > MOST_CHARS and type(value) is str:
            text = repr(value[:chars])
        else:
            text = _show(value, redactor, MOST_DEPTH - depth)
    except Exception as error:
        if is_the_apps(error):
            raise
        # A container that changed meanwhile, or an object with hostile attributes.
        text = f"<{type(value).__name__}>"
    return text if len(text) <= chars else text[: chars - 1] + "…"


def plain(value: object, redactor: Redactor) -> Any:
    """Return a value that JSON can hold: scalars as they are, everything else as bounded text."""
    kind = type(value)
    if kind is str:
        return value if len(value) <= MOST_CHARS else value[: MOST_CHARS - 1] + "…"  # type: ignore[arg-type,index]
    if kind is bool or value is None:
        return value
    if kind is int:
        return value if -(2**53) < value < 2**53 else show(value, redactor)  # type: ignore[operator]
    if kind is float and value - value == 0:  # type: ignore[operator]
        return value
    return show(value, redactor)


def _show(value: Any, redactor: Redactor, depth: int) -> str:
    # Not isinstance: for a class that is another it asks the value for its __class__, which may be the app's code.
    kind = type(value)
    shown_by = _BY_TYPE.get(kind)
    return shown_by(value, redactor, depth) if shown_by is not None else _show_other(value, kind, redactor, depth)


def _show_other(value: Any, kind: type, redactor: Redactor, depth: int) -> str:
    # By the type's own name: a class of the app is never taken for one of these.
    made_by = type.__getattribute__(kind, "__module__")
    if type(made_by) is str and made_by.partition(".")[0] in ("numpy", "pandas"):
        shown = _table(value, kind)
        if shown:
            return shown
    if issubclass(kind, enum.Enum):
        return f"{kind.__name__}.{value._name_}"
    if issubclass(kind, type):
        return f"<class {type.__getattribute__(value, '__qualname__')}>"
    if issubclass(kind, _FUNCTIONS):
        return f"<function {getattr(value, '__qualname__', '?')}>"
    if issubclass(kind, types.ModuleType):
        return f"<module {types.ModuleType.__getattribute__(value, '__dict__').get('__name__', '?')}>"
    if depth >= MOST_DEPTH:
        return f"<{kind.__name__}>"
    if issubclass(kind, dict):
        return _mapping(value, redactor, depth)
    for base, (opening, closing) in _BRACKETS.items():
        if issubclass(kind, base):
            return _sequence(value, base, opening, closing, redactor, depth)
    return _instance(value, kind, redactor, depth)


def _string(value: str, _: Redactor, __: int) -> str:
    if len(value) <= MOST_STRING:
        return repr(value)
    return f"{value[:MOST_STRING]!r}… <{len(value)} characters>"


def _number(value: int, _: Redactor, __: int) -> str:
    return repr(value) if value.bit_length() < 4000 else f"<int of {value.bit_length()} bits>"


def _octets(value: bytes | bytearray, _: Redactor, __: int) -> str:
    return f"<{type(value).__name__} of {len(value)}> {bytes(value[:40])!r}"


def _safe(value: object, _: Redactor, __: int) -> str:
    return repr(value)


def _table(value: Any, kind: type) -> str:
    """Return a number of NumPy as it is, an array or a table by its shape and the types in it; empty for anything else.

    Only the libraries' own descriptors are called, which read nothing but the object's header.
    """
    names = {base.__name__ for base in kind.__mro__}
    if "generic" in names and "ndarray" not in names:
        return repr(value.item())
    if kind.__name__ in ("ndarray", "memmap"):
        inner = f" {value.tolist()!r}" if value.size <= MOST_ITEMS and value.dtype.kind in "biufU" else ""
        return f"<{kind.__name__} shape={value.shape} dtype={value.dtype}{inner}>"
    if kind.__name__ == "Series":
        return f"<Series shape={value.shape} dtype={value.dtype}>"
    if kind.__name__ == "DataFrame":
        columns = ", ".join(f"{name}: {dtype}" for name, dtype in list(value.dtypes.items())[:MOST_ITEMS])
        return f"<DataFrame shape={value.shape} {columns}>"
    return ""


def _mapping(value: dict[Any, Any], redactor: Redactor, depth: int) -> str:
    kind = type(value)
    if depth >= MOST_DEPTH:
        return f"<{kind.__name__}>"
    pairs = []
    for key, inner in islice(dict.items(value), MOST_ITEMS):
        name = key.decode("latin-1") if type(key) is bytes else key
        rule = redactor.rule_for(name) if type(name) is str else None
        text = repr(mark(rule)) if rule is not None else _show(inner, redactor, depth + 1)
        pairs.append(f"{_show(key, redactor, depth + 1)}: {text}")
    more = dict.__len__(value) - len(pairs)
    if more > 0:
        pairs.append(f"… {more} more")
    text = "{" + ", ".join(pairs) + "}"
    return text if kind is dict else f"{kind.__name__}({text})"


def _plain_sequence(value: Any, redactor: Redactor, depth: int) -> str:
    kind = type(value)
    if depth >= MOST_DEPTH:
        return f"<{kind.__name__}>"
    opening, closing = _BRACKETS[kind]
    return _sequence(value, kind, opening, closing, redactor, depth)


def _sequence(value: Any, base: Any, opening: str, closing: str, redactor: Redactor, depth: int) -> str:
    items: list[Any] = list(islice(base.__iter__(value), MOST_ITEMS))
    texts = [_show(inner, redactor, depth + 1) for inner in items]
    if len(items) == 2 and base in (list, tuple) and base.__len__(value) == 2:
        # A pair, as headers and the items of a query are.
        name = items[0].decode("latin-1") if type(items[0]) is bytes else items[0]
        second = items[1].decode("latin-1") if type(items[1]) is bytes else items[1]
        if type(name) is str and type(second) is str and (rule := redactor.rule_of_pair(name, second)) is not None:
            texts[1] = repr(mark(rule))
    more = base.__len__(value) - len(texts)
    if more > 0:
        texts.append(f"… {more} more")
    elif base is tuple and len(texts) == 1:
        texts[0] += ","
    elif base is set and not texts:
        return "set()"
    text = opening + ", ".join(texts) + closing
    return text if type(value) is base else f"{type(value).__name__}({text})"


def _instance(value: object, kind: type, redactor: Redactor, depth: int) -> str:
    if issubclass(kind, BaseException):
        return f"<{kind.__name__} {_show(BaseException.__getattribute__(value, 'args'), redactor, depth + 1)}>"
    fields = []
    for name, inner in islice(_fields(value, kind), MOST_ITEMS):
        rule = redactor.rule_for(name)
        fields.append(f"{name}={mark(rule) if rule is not None else _show(inner, redactor, depth + 1)}")
    return f"<{kind.__name__}{' ' if fields else ''}{' '.join(fields)}>"


def _fields(value: object, kind: type) -> Iterator[tuple[str, object]]:
    try:
        attributes = object.__getattribute__(value, "__dict__")
    except AttributeError as interrupted:
        if is_the_apps(interrupted):
            raise
        attributes = None
    if type(attributes) is dict:
        for name, inner in list(attributes.items()):
            if type(name) is str and not name.startswith("_"):
                yield name, inner
    for base in kind.__mro__:
        slots = base.__dict__.get("__slots__", ())
        for name in (slots,) if isinstance(slots, str) else slots:
            # Only a slot's own descriptor is called: anything else of that name could be the app's code.
            slot = base.__dict__.get(name)
            if isinstance(slot, types.MemberDescriptorType) and not name.startswith("_"):
                try:
                    yield name, slot.__get__(value)
                except AttributeError as interrupted:
                    if is_the_apps(interrupted):
                        raise
                    continue


_BY_TYPE: Final[dict[type, Callable[[Any, Redactor, int], str]]] = {
    str: _string,
    int: _number,
    bytes: _octets,
    bytearray: _octets,
    dict: _mapping,
    **dict.fromkeys(_BRACKETS, _plain_sequence),
    **dict.fromkeys(_SAFE_REPR, _safe),
}
