"""Values in a form from which code can be written, without running a line of the app's code. ``values`` makes text
for people. This form is for the test that makes the failing call again: it keeps types, fields and shared objects,
within bounds; the rest is a placeholder that says what is known of it. The forms are described in
``core/reproducing/values.py``, which writes Python from them.
"""

from __future__ import annotations

import base64
import collections
import datetime as dt
import decimal
import enum
import fractions
import functools
import io
import logging
import pathlib
import re
import sys
import threading
import time
import types
import uuid
from collections import deque
from collections.abc import Callable
from itertools import islice
from typing import Any, Final, cast

from obitus.client.exception_origin import is_the_apps
from obitus.client.values import show
from obitus.core.redaction import Redactor

MOST_NODES: Final = 2000
MOST_CHARACTERS: Final = 40_000
MOST_LEVELS: Final = 12
MOST_ITEMS: Final = 200
MOST_TEXT: Final = 4000
MOST_SEEN: Final = 200
LONGEST_S: Final = 0.006
"""Most time on the app's thread."""
_LOOK_AT_CLOCK: Final = 64

_HEAP_TYPE, _IMMUTABLE_TYPE = 1 << 9, 1 << 8
"""Py_TPFLAGS_HEAPTYPE and Py_TPFLAGS_IMMUTABLETYPE: what a class statement makes is of the first kind and not of the second."""
_BASES: Final[tuple[type, ...]] = (
    collections.OrderedDict, collections.defaultdict, deque, dict, list, tuple, set, frozenset, str, int, float, bytes,
)  # fmt: skip
"""Built-in types from which an app's class may inherit: their content is kept in addition to the fields."""
_SEQUENCES: Final[dict[type, str]] = {
    list: "list", tuple: "tuple", set: "set", frozenset: "frozenset", deque: "deque",
}  # fmt: skip
_MAPPINGS: Final[dict[type, str]] = {
    dict: "dict", collections.OrderedDict: "OrderedDict", collections.defaultdict: "defaultdict",
    collections.Counter: "Counter", types.MappingProxyType: "mappingproxy",
}  # fmt: skip
_LOCKS: Final = {type(threading.Lock()): "Lock", type(threading.RLock()): "RLock", threading.local: "local"}
_PATHS: Final = (pathlib.PosixPath, pathlib.WindowsPath, pathlib.PurePosixPath, pathlib.PureWindowsPath)
_WRAPPED: Final = ("__wrapped__", "func", "fget", "callback", "run", "fn", "_func")
"""Attributes under which wrappers usually keep the wrapped function."""


class Keeper:
    """Keeps the values of one call: objects that occur twice are kept once, and all share one bound."""

    def __init__(self, redactor: Redactor) -> None:
        self._redactor = redactor
        self._nodes, self._characters = MOST_NODES, MOST_CHARACTERS
        self._ends_s = time.perf_counter() + LONGEST_S
        self._numbers: dict[int, int] = {}
        # Those that were numbered stay alive, or another object could get the same id.
        self._held: list[object] = []
        self._waiting: deque[tuple[Any, Callable[[Any], None], int]] = deque()

    def keep(self, value: object, put: Callable[[Any], None], name: str | None = None) -> None:
        """Queue a value; ``put`` is called with its form. A value under a secret's name is hidden."""
        self._child(value, put, 0, name)

    def finish(self) -> None:
        """Work through the queue level by level, so that outer values are kept before inner ones."""
        while self._waiting:
            value, put, level = self._waiting.popleft()
            self._nodes -= 1
            if self._nodes % _LOOK_AT_CLOCK == 0 and time.perf_counter() > self._ends_s:
                self._nodes = 0
            if self._nodes <= 0 or self._characters <= 0 or level > MOST_LEVELS:
                put({"is": "cut", "seen": f"<{type(value).__name__}>"})
                continue
            try:
                put(self._form(value, level))
            except Exception as error:
                if is_the_apps(error):
                    raise
                # It changed meanwhile, or is hostile.
                put({"is": "unknown", "seen": f"<{type(value).__name__}>"})

    def _child(self, value: object, put: Callable[[Any], None], level: int, name: object = None) -> None:
        kind = type(value)
        if value is None or kind is bool:
            put(value)
            return
        rule = self._redactor.rule_for(name) if type(name) is str else None
        if rule is not None:
            put({"is": "hidden", "rule": rule})
        elif kind is int and -(2**53) < value < 2**53:  # type: ignore[operator]
            put(value)
            self._characters -= 4
        elif kind is str and len(value) <= MOST_TEXT:  # type: ignore[arg-type]
            put(value)
            self._characters -= len(value) + 2  # type: ignore[arg-type]
        elif kind is float and value - value == 0:  # type: ignore[operator]
            put(value)
            self._characters -= 8
        else:
            self._waiting.append((value, put, level))
            self._characters -= 20

    def _form(self, value: Any, level: int) -> Any:
        kind = type(value)
        form: dict[str, Any]
        simple = _SIMPLE.get(kind)
        if simple is not None:
            return simple(value)
        number = self._numbers.get(id(value))
        if number is not None:
            return {"is": "again", "number": number}
        if kind in _SEQUENCES:
            return self._sequence(value, _SEQUENCES[kind], level)
        if kind in _MAPPINGS:
            return self._mapping(value, kind, level)
        if kind in _LOCKS:
            return {"is": "lock", "of": _LOCKS[kind]}
        if kind is re.Match:
            form = {"is": "match", "at": value.start()}
            self._child(value.re, into(form, "of"), level + 1)
            self._child(value.string, into(form, "text"), level + 1)
            return form
        if kind is logging.Logger:
            return {"is": "logger", "of": value.name}
        if type.__getattribute__(kind, "__module__") == "zoneinfo" and type(getattr(value, "key", None)) is str:
            return {"is": "zone", "of": value.key}
        if issubclass(kind, type):
            return self._named("class", value, value)
        if kind is types.FunctionType or kind is types.BuiltinFunctionType:
            return self._named("function", value, value)
        if kind is types.ModuleType:
            return {"is": "module", "named": str(types.ModuleType.__getattribute__(value, "__dict__").get("__name__"))}
        if kind is types.MethodType:
            form = {"is": "method", "name": value.__func__.__name__}
            self._child(value.__self__, into(form, "of"), level + 1)
            return form
        if kind is functools.partial:
            form = {"is": "partial"}
            self._child(value.func, into(form, "of"), level + 1)
            self._items(value.args, form, level)
            self._pairs(value.keywords, form, level)
            return form
        if issubclass(kind, enum.Enum):
            return self._named("enum", kind, value) | {"name": str(value._name_)}
        return self._object(value, kind, level)

    def _object(self, value: Any, kind: type, level: int) -> dict[str, Any]:
        """Keep an object by its class and its fields."""
        named = name_of(kind)
        base = _buildable(kind)
        if named is None or base is None:
            return self._unknown(value)
        form: dict[str, Any] = {"is": "object", "class": named, "number": self._number_of(value), "fields": {}}
        if issubclass(kind, BaseException):
            self._items(BaseException.__dict__["args"].__get__(value), form, level)
            form["is"] = "exception"
        elif base is not object:
            form["base"] = base.__name__
            if issubclass(base, dict):
                self._pairs(dict(dict.items(value)), form, level)
            elif base in _SEQUENCES:
                self._items(list(islice(cast(Any, base).__iter__(value), MOST_ITEMS + 1)), form, level)
            else:
                self._child(cast(Any, base).__new__(base, value), into(form, "content"), level + 1)
        if _is_pydantic(kind):
            form["how"] = "pydantic"
        field_values = _fields(value, kind)
        if len(field_values) > MOST_ITEMS:
            form["cut"] = True
            del field_values[MOST_ITEMS:]
        form["fields"] = fields = dict.fromkeys(name for name, _ in field_values)
        for name, inner in field_values:
            self._characters -= len(name)
            self._child(inner, into(fields, name), level + 1, name)
        return form

    def _number_of(self, value: object) -> int:
        """Number something that may occur again."""
        number = self._numbers[id(value)] = len(self._numbers)
        self._held.append(value)
        return number

    def _sequence(self, value: Any, name: str, level: int) -> dict[str, Any]:
        form: dict[str, Any] = {"is": name}
        if name in ("list", "set", "deque") and value:
            form["number"] = self._number_of(value)
        if name == "deque" and value.maxlen is not None:
            form["most"] = value.maxlen
        self._items(value, form, level)
        return form

    def _items(self, value: Any, form: dict[str, Any], level: int) -> None:
        items: list[Any] = list(islice(value, MOST_ITEMS + 1))
        if len(items) > MOST_ITEMS:
            form["cut"] = True
            del items[MOST_ITEMS:]
        form["items"] = kept = [None] * len(items)
        for place, inner in enumerate(items):
            self._child(inner, into(kept, place), level + 1)

    def _mapping(self, value: Any, kind: type, level: int) -> dict[str, Any]:
        form: dict[str, Any] = {"is": _MAPPINGS[kind]}
        if value:
            form["number"] = self._number_of(value)
        if kind is collections.defaultdict and value.default_factory is not None:
            self._child(value.default_factory, into(form, "by"), level + 1)
        self._pairs(value, form, level)
        return form

    def _pairs(self, value: Any, form: dict[str, Any], level: int) -> None:
        """Keep keys and values: by name where all keys are texts, so that secrets are recognised by their names."""
        items = list(islice(list(value.items()), MOST_ITEMS + 1))
        if len(items) > MOST_ITEMS:
            form["cut"] = True
            del items[MOST_ITEMS:]
        if all(type(key) is str and len(key) <= MOST_SEEN for key, _ in items):
            form["entries"] = entries = dict.fromkeys(key for key, _ in items)
            for key, inner in items:
                self._characters -= len(key) + 4
                self._child(inner, into(entries, key), level + 1, key)
            return
        form["pairs"] = pairs = [[None, None] for _ in items]
        for pair, (key, inner) in zip(pairs, items, strict=True):
            self._child(key, into(pair, 0), level + 1)
            self._child(inner, into(pair, 1), level + 1, key)

    def _named(self, what: str, named: Any, value: Any) -> dict[str, Any]:
        referenced = name_of(named)
        if referenced is None:
            return self._unknown(value)
        return {"is": what, "named" if what != "enum" else "class": referenced}

    def _unknown(self, value: Any) -> dict[str, Any]:
        shown = show(value, self._redactor)[:MOST_SEEN]
        self._characters -= len(shown)
        return {"is": "unknown", "seen": shown}


def name_of(value: Any) -> str | None:
    """Return ``module:qualified.name`` of a class or function that is found under it; None for any other."""
    kind = type(value)
    if issubclass(kind, type):
        held = type.__getattribute__(value, "__dict__")
        module, qualified = held.get("__module__"), type.__getattribute__(value, "__qualname__")
        if module is None or type(module) is not str:
            module = type.__dict__["__module__"].__get__(value)
    elif kind in (types.FunctionType, types.BuiltinFunctionType):
        module, qualified = value.__module__, value.__qualname__
    else:
        return None
    if type(module) is not str or type(qualified) is not str or "<" in qualified:
        return None
    if find(module, qualified) is not value:
        return None
    return f"{module_name(module)}:{qualified}"


def module_name(module: str) -> str:
    """Return the name by which a module can be imported: for a script that of its file."""
    if module != "__main__":
        return module
    names = vars(sys.modules["__main__"])
    spec_name = getattr(names.get("__spec__"), "name", None)
    if type(spec_name) is str:
        return spec_name
    file = names.get("__file__")
    return pathlib.PurePath(file).stem if type(file) is str else module


def private_name(class_name: str, name: str) -> str:
    """Return the attribute for ``name`` in a class's code (Python's reference, *Private name mangling*)."""
    if name.startswith("__") and not name.endswith("__"):
        return f"_{class_name.lstrip('_')}{name}"
    return name


def find(module: str, qualified: str) -> Any:
    """Return the object of a loaded module under a qualified name, looked up in dictionaries alone; None where there is none."""
    loaded = sys.modules.get(module)
    if loaded is None:
        return None
    value: Any = loaded
    for part in qualified.split("."):
        if isinstance(value, types.ModuleType):
            attributes: Any = types.ModuleType.__getattribute__(value, "__dict__")
        elif issubclass(type(value), type):
            attributes = type.__getattribute__(value, "__dict__")
            if part not in attributes:
                part = private_name(type.__getattribute__(value, "__name__"), part)
        else:
            return None
        if part not in attributes:
            return None
        value = attributes[part]
    return value


def unwrapped(value: Any, code: types.CodeType) -> list[str] | None:
    """Return the attributes that lead from an object to the function with that code; None where none of the usual ones does."""
    via: list[str] = []
    for _ in range(6):
        if type(value) is types.FunctionType and value.__code__ is code:
            return via
        if type(value) in (staticmethod, classmethod):
            # The name itself leads through these.
            value = value.__func__
            continue
        inner: Any = None
        if type(value) is property:
            inner = {"fget": value.fget}
        elif type(value) is functools.partial:
            inner = {"func": value.func}
        else:
            try:
                inner = object.__getattribute__(value, "__dict__")
            except AttributeError as interrupted:
                if is_the_apps(interrupted):
                    raise
        if type(inner) is not dict:
            return None
        step = next((name for name in _WRAPPED if name in inner), None)
        if step is None:
            return None
        via.append(step)
        value = inner[step]
    return None


def _buildable(kind: type) -> type | None:
    """Return the built-in type that a class inherits from, ``object`` for none; None where no instance can be made from fields."""
    base: type = object
    for ancestor in kind.__mro__[:-1]:
        if ancestor in _BASES:
            base = ancestor if base is object else base
            continue
        if ancestor is dt.tzinfo or ancestor is _syntax_node():
            # Nothing but their fields.
            continue
        flags = type.__dict__["__flags__"].__get__(ancestor)
        if issubclass(ancestor, BaseException) and not flags & _HEAP_TYPE:
            continue
        if not flags & _HEAP_TYPE or flags & _IMMUTABLE_TYPE:
            return None
        made_by = type.__getattribute__(ancestor, "__dict__").get("__new__")
        if isinstance(made_by, types.BuiltinFunctionType):
            return None
    return base


def _syntax_node() -> type | None:
    """Return the base of the nodes of Python's syntax tree, where that module is loaded."""
    return getattr(sys.modules.get("_ast"), "AST", None)


def _is_pydantic(kind: type) -> bool:
    return any("__pydantic_fields_set__" in type.__getattribute__(one, "__dict__").get("__slots__", ()) for one in kind.__mro__)  # fmt: skip


def _fields(value: object, kind: type) -> list[tuple[str, Any]]:
    """Return an object's own fields: those of its dictionary and its slots."""
    fields: list[tuple[str, Any]] = []
    try:
        attributes = object.__getattribute__(value, "__dict__")
    except AttributeError as interrupted:
        if is_the_apps(interrupted):
            raise
        attributes = None
    if type(attributes) is dict:
        fields += [(name, inner) for name, inner in list(attributes.items()) if type(name) is str]
    for base in kind.__mro__:
        for slot_name, slot in list(type.__getattribute__(base, "__dict__").items()):
            # Only a slot's own descriptor is called: anything else of that name could be the app's code.
            if type(slot) is types.MemberDescriptorType and slot_name not in ("__dict__", "__weakref__"):
                try:
                    fields.append((slot_name, slot.__get__(value)))
                except AttributeError as interrupted:
                    if is_the_apps(interrupted):
                        raise
    return fields


def into(holder: Any, place: Any) -> Callable[[Any], None]:
    def put(form: Any) -> None:
        holder[place] = form

    return put


def _number(value: int) -> dict[str, Any]:
    if value.bit_length() > 4000:
        return {"is": "cut", "seen": f"<int of {value.bit_length()} bits>"}
    return {"is": "int", "of": str(value)}


def _text(value: str) -> dict[str, Any]:
    return {"is": "cut", "seen": value[:MOST_SEEN], "characters": len(value)}


def _octets(value: Any) -> dict[str, Any]:
    if len(value) > MOST_TEXT:
        return {"is": "cut", "seen": f"<{type(value).__name__} of {len(value)}>"}
    return {"is": type(value).__name__, "of": base64.b64encode(bytes(value)).decode()}


def _time_zone(value: Any) -> Any:
    """Return the offset of a time in seconds, None where it has none; other kinds of zones are kept by their offset then."""
    zone = value.tzinfo
    if zone is None:
        return None
    if type(zone) is dt.timezone:
        return dt.timezone.utcoffset(zone, None).total_seconds()
    from_database = type.__getattribute__(type(zone), "__module__") == "zoneinfo"
    key = getattr(zone, "key", None) if from_database else None
    return key if type(key) is str else "?"


def _datetime(value: dt.datetime) -> dict[str, Any]:
    parts = [value.year, value.month, value.day, value.hour, value.minute, value.second, value.microsecond]
    return {"is": "datetime", "of": parts, "zone": _time_zone(value), "fold": value.fold}


def _stream(value: Any) -> dict[str, Any]:
    if value.closed:
        return {"is": "unknown", "seen": f"<closed {type(value).__name__}>"}
    content = value.getvalue()
    form = {"is": "stream", "at": value.tell()}
    if len(content) > MOST_TEXT:
        return {"is": "cut", "seen": f"<{type(value).__name__} of {len(content)}>"}
    return form | ({"text": content} if type(content) is str else {"bytes": base64.b64encode(content).decode()})


_SIMPLE: Final[dict[type, Callable[[Any], Any]]] = {
    int: _number,
    str: _text,
    float: lambda value: {"is": "float", "of": repr(value)},
    complex: lambda value: {"is": "complex", "of": repr(value)},
    bytes: _octets,
    bytearray: _octets,
    decimal.Decimal: lambda value: {"is": "Decimal", "of": str(value)},
    fractions.Fraction: lambda value: {"is": "Fraction", "of": str(value)},
    uuid.UUID: lambda value: {"is": "UUID", "of": str(value)},
    dt.datetime: _datetime,
    dt.date: lambda value: {"is": "date", "of": [value.year, value.month, value.day]},
    dt.time: lambda value: {
        "is": "time",
        "of": [value.hour, value.minute, value.second, value.microsecond],
        "zone": _time_zone(value),
        "fold": value.fold,
    },
    dt.timedelta: lambda value: {"is": "timedelta", "of": [value.days, value.seconds, value.microseconds]},
    dt.timezone: lambda value: {"is": "timezone", "of": dt.timezone.utcoffset(value, None).total_seconds()},
    range: lambda value: {"is": "range", "of": [value.start, value.stop, value.step]},
    slice: lambda value: (
        {"is": "slice", "of": [repr(value.start), repr(value.stop), repr(value.step)]}
        if all(part is None or type(part) is int for part in (value.start, value.stop, value.step))
        else {"is": "unknown", "seen": "<slice>"}
    ),
    re.Pattern: lambda value: (
        {"is": "pattern", "of": value.pattern, "flags": value.flags & ~re.UNICODE.value}
        if type(value.pattern) is str
        else {"is": "unknown", "seen": "<pattern>"}
    ),
    type(Ellipsis): lambda _: {"is": "Ellipsis"},
    type(NotImplemented): lambda _: {"is": "NotImplemented"},
    object: lambda _: {"is": "bare"},
    io.StringIO: _stream,
    io.BytesIO: _stream,
    **{kind: lambda value: {"is": "path", "of": str(value), "kind": type(value).__name__} for kind in _PATHS},
}
