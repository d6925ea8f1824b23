"""Python written from values that were kept exactly.

A kept value is a JSON value. ``null``, booleans, numbers and texts are themselves; everything else is an object
whose ``is`` names its kind:

- ``int``, ``float``, ``complex``, ``Decimal``, ``Fraction``, ``UUID``, ``date``, ``time``, ``datetime``, ``timedelta``,
  ``timezone``, ``zone``, ``range``, ``slice``, ``pattern``, ``match``, ``path``, ``bytes``, ``bytearray``, ``stream``, ``Ellipsis``,
  ``NotImplemented``, ``bare`` (``object()``), ``lock``, ``logger``: with ``of``, the arguments of its constructor;
- ``list``, ``tuple``, ``set``, ``frozenset``, ``deque`` with ``items``; ``dict`` and its kinds with ``entries`` (texts as
  keys) or ``pairs``;
- ``class``, ``function``, ``module`` with ``named`` (``module:qualified.name``), ``enum`` with ``class`` and ``name``,
  ``method`` and ``partial`` with ``of``;
- ``object`` and ``exception`` with ``class``, ``number`` and ``fields``, and the content of a built-in base type;
``again`` with the ``number`` of an earlier one (lists and dictionaries have numbers too);
- ``hidden`` with ``rule``, ``cut`` and ``unknown`` with ``seen``: no value, only what is known of it.

The values come from senders: only valid names get into code, everything else goes through ``repr``.
"""

from __future__ import annotations

import base64
import binascii
import keyword
import math
import re
from collections.abc import Callable
from typing import Any, Final

MOST_WRITTEN: Final = 20_000
"""Most values that are written for one call."""
MOST_LEVELS: Final = 60
_HIDDEN: Final = "[hidden: "
_SEEN: Final = 200
_INTEGER: Final = re.compile(r"-?[0-9]{1,1300}")
_BOUND: Final = re.compile(r"None|-?[0-9]{1,4000}")
_NO_NUMBER: Final = re.compile(r"-?(?:inf|nan)")

_MADE: Final = '''
def made(kind, /, *content, **fields):
    """Return an object with these fields, without running its ``__init__``."""
    base = next(one for one in kind.__mro__ if isinstance(vars(one).get("__new__"), type(len)))
    given = issubclass(base, (str, int, float, bytes, tuple, frozenset, BaseException))
    one = base.__new__(kind, *content) if given else base.__new__(kind)
    for name, value in fields.items():
        object.__setattr__(one, name, value)
    if content and not given:
        (base.update if hasattr(base, "update") else base.extend)(one, *content)
    return one
'''
_FILLED: Final = '''
def filled(one, **fields):
    """Give an object that was made before its fields: it holds itself, by one way or another."""
    for name, value in fields.items():
        object.__setattr__(one, name, value)
'''


class Missing:
    """A value that could not be kept: its placeholder, and what is known of it."""

    def __init__(self, name: str, why: str) -> None:
        self.name, self.why = name, why


class ExpressionWriter:
    """Writes expressions, and collects what they need: imports, helpers, shared objects, and missing values."""

    def __init__(self) -> None:
        self.imports: dict[str, set[str]] = {}
        """By module, the names that are imported from it."""
        self.whole: set[str] = set()
        """Modules that are imported themselves."""
        self.helpers: set[str] = set()
        self.before: list[str] = []
        """Statements before the call."""
        self.missing: list[Missing] = []
        self._taken: dict[str, str] = {}
        self._objects: dict[int, str] = {}
        self._shared: set[int] = set()
        self._later: list[tuple[str, dict[str, Any], str]] = []
        self._names: set[str] = set()
        self._left = MOST_WRITTEN

    def look_through(self, *values: Any) -> None:
        """Find which objects occur more than once, before anything is written."""
        waiting: list[Any] = list(values)
        while waiting:
            value = waiting.pop()
            if isinstance(value, dict):
                if value.get("is") == "again" and isinstance(value.get("number"), int):
                    self._shared.add(value["number"])
                waiting += value.values()
            elif isinstance(value, list):
                waiting += value

    def expression(self, value: Any, hint: str, level: int = 0) -> str:
        """Return a value as an expression; a placeholder is named after ``hint``."""
        self._left -= 1
        if self._left < 0 or level > MOST_LEVELS:
            return self._placeholder(hint, "too much to write")
        if isinstance(value, float):
            return repr(value) if math.isfinite(value) else f"float({str(value)!r})"
        if value is None or isinstance(value, bool | int):
            return repr(value)
        if isinstance(value, str):
            return self._placeholder(hint, value) if _HIDDEN in value else repr(value)
        if isinstance(value, list):
            return f"[{', '.join(self.expression(inner, hint, level + 1) for inner in value)}]"
        if not isinstance(value, dict):
            return self._placeholder(hint, type(value).__name__)
        kind = value.get("is")
        written = _WRITTEN.get(kind) if isinstance(kind, str) else None
        if written is None:
            return self._placeholder(hint, _seen(value))
        try:
            return self._named_once(value, written(self, value, hint, level), hint)
        except (KeyError, TypeError, ValueError, AttributeError, IndexError, OverflowError, binascii.Error):
            # It does not have the expected fields: the report is invalid.
            return self._placeholder(hint, _seen(value))

    def _named_once(self, value: dict[str, Any], text: str, hint: str) -> str:
        """Return the expression of a list or dictionary; of one that occurs again, its name."""
        number = value.get("number")
        if number not in self._shared or value["is"] in ("again", "object", "exception"):
            return text
        name = self._objects[number] = self.free_name(hint)
        self.before.append(f"{name} = {text}")
        return name

    def finish(self) -> None:
        """Write assignments that need all objects to exist."""
        for name, fields, hint in self._later:
            given = self._fields(fields, hint, 1)
            if given:
                self.helpers.add("filled")
                self.before.append(f"filled({name}, {given})")
        self._later.clear()

    def imported(self, named: str) -> str:
        """Import ``module:qualified.name`` and return its name in the code; raises ValueError for an invalid one."""
        module, _, qualified = named.partition(":")
        parts = qualified.split(".")
        if not is_module(module) or not all(is_name(part) for part in parts):
            raise ValueError(named)
        if module == "builtins":
            return qualified
        first = parts[0]
        if self._taken.setdefault(first, module) == module:
            self.imports.setdefault(module, set()).add(first)
            return qualified
        # The name is imported from another module already.
        return f"{self.module(module)}.{qualified}"

    def module(self, module: str) -> str:
        """Import a module and return its name; raises ValueError for an invalid one."""
        if not is_module(module):
            raise ValueError(module)
        self.whole.add(module)
        return module

    def free_name(self, hint: str) -> str:
        """Return an unused variable name."""
        base = re.sub(r"\W+", "_", hint).strip("_").lower()[:40] or "value"
        if base[0].isdigit() or keyword.iskeyword(base):
            base = f"a_{base}"
        name, number = base, 1
        while name in self._names or name in self._taken or name in _RESERVED:
            number += 1
            name = f"{base}_{number}"
        self._names.add(name)
        return name

    def _placeholder(self, hint: str, why: str) -> str:
        name = self.free_name(hint).upper()
        self._names.add(name)
        self.missing.append(Missing(name, " ".join(why.split())[:_SEEN]))
        return name

    def _fields(self, fields: Any, hint: str, level: int) -> str:
        given: list[str] = []
        rest: list[str] = []
        for name, inner in fields.items():
            text = self.expression(inner, name, level + 1)
            # A field whose name is no identifier is passed as a dictionary.
            (given if is_name(name) else rest).append(f"{name}={text}" if is_name(name) else f"{name!r}: {text}")
        return ", ".join([*given, *([f"**{{{', '.join(rest)}}}"] if rest else [])])

    def object(self, value: dict[str, Any], hint: str, level: int) -> str:
        """Return an object made from its fields; one that occurs again is made before, with a name."""
        named = self.imported(str(value["class"]))
        number = value["number"]
        content = self._content(value, hint, level)
        if value.get("cut"):
            self.missing.append(Missing("", f"{named} had more fields than were kept"))
        if number not in self._shared:
            return self._made(value, named, content, self._fields(_public(value), hint, level))
        name = self._objects[number] = self.free_name(named.rpartition(".")[2])
        self.before.append(f"{name} = {self._made(value, named, content, '')}")
        self._later.append((name, value["fields"], hint))
        return name

    def _made(self, value: dict[str, Any], named: str, content: str, fields: str) -> str:
        if value.get("how") == "pydantic" and value["number"] not in self._shared:
            # The model makes its internal fields (which were set, extra ones) itself.
            return f"{named}.model_construct({fields})"
        self.helpers.add("made")
        return f"made({', '.join(part for part in (named, content, fields) if part)})"

    def _content(self, value: dict[str, Any], hint: str, level: int) -> str:
        base = value.get("base")
        if value["is"] == "exception":
            return self.items(value, hint, level)
        if base is None:
            return ""
        if "entries" in value or "pairs" in value:
            return self.mapping(value, hint, level)
        if "items" in value:
            return f"[{self.items(value, hint, level)}]"
        return self.expression(value["content"], hint, level + 1)

    def items(self, value: dict[str, Any], hint: str, level: int) -> str:
        """Return items with commas between them."""
        if value.get("cut"):
            self.missing.append(Missing("", f"{hint} had more items than were kept"))
        return ", ".join(self.expression(inner, hint, level + 1) for inner in value["items"])

    def mapping(self, value: dict[str, Any], hint: str, level: int) -> str:
        """Return keys and values as a dictionary."""
        if value.get("cut"):
            self.missing.append(Missing("", f"{hint} had more items than were kept"))
        if "entries" in value:
            pairs = [
                (repr(key), self.expression(inner, f"{hint}_{key}", level + 1))
                for key, inner in value["entries"].items()
            ]
        else:
            pairs = [
                (self.expression(key, hint, level + 1), self.expression(inner, hint, level + 1))
                for key, inner in value["pairs"]
            ]
        return "{" + ", ".join(f"{key}: {inner}" for key, inner in pairs) + "}"

    def again(self, value: dict[str, Any], hint: str) -> str:
        """Return the name of an object that exists already."""
        name = self._objects.get(value["number"])
        return name if name is not None else self._placeholder(hint, "an object that was not kept")


def _public(value: dict[str, Any]) -> dict[str, Any]:
    """Return the fields to pass: of a Pydantic model its own ones."""
    if value.get("how") != "pydantic":
        return dict(value["fields"])
    return {name: inner for name, inner in value["fields"].items() if not name.startswith("__pydantic_")}


def is_name(text: object) -> bool:
    """Whether a text is a valid name in code."""
    return isinstance(text, str) and len(text) <= 200 and text.isidentifier() and not keyword.iskeyword(text)


def is_module(text: str) -> bool:
    """Whether a text is a valid module name in code."""
    return bool(text) and len(text) <= 300 and all(is_name(part) for part in text.split("."))


_RESERVED: Final = frozenset({"made", "filled", "pytest", "asyncio", "self"})


def helper_texts(helpers: set[str]) -> list[str]:
    """Return the helper functions that expressions use, in the order of the file."""
    texts = {"made": _MADE, "filled": _FILLED}
    return [texts[name].strip("\n") for name in ("made", "filled") if name in helpers]


def _seen(value: dict[str, Any]) -> str:
    if value.get("is") == "hidden":
        return f"[hidden: {value.get('rule')}]"
    return str(value.get("seen") or value.get("is") or "a value")


def _whole(value: Any) -> int:
    if isinstance(value, bool) or not isinstance(value, int):
        raise ValueError(value)
    return value


def _wholes(values: Any) -> str:
    return ", ".join(repr(_whole(value)) for value in values)


def _octets(value: Any) -> str:
    return repr(base64.b64decode(value, validate=True))


def _zone(writer: ExpressionWriter, value: dict[str, Any]) -> str:
    zone = value.get("zone")
    if zone is None:
        return ""
    if isinstance(zone, str):
        if zone == "?":
            raise ValueError(zone)
        return f", tzinfo={writer.imported('zoneinfo:ZoneInfo')}({zone!r})"
    module = writer.module("datetime")
    if zone == 0:
        return f", tzinfo={module}.UTC"
    return f", tzinfo={module}.timezone({module}.timedelta(seconds={float(zone)!r}))"


def _numbers_text(value: Any, pattern: re.Pattern[str]) -> str:
    text = str(value)
    if pattern.fullmatch(text) is None:
        raise ValueError(text)
    return text


def _by_name(module: str, name: str) -> Callable[[ExpressionWriter, dict[str, Any], str, int], str]:
    def write(writer: ExpressionWriter, value: dict[str, Any], _: str, __: int) -> str:
        return f"{writer.imported(f'{module}:{name}')}({str(value['of'])!r})"

    return write


def _date_parts(name: str) -> Callable[[ExpressionWriter, dict[str, Any], str, int], str]:
    def write(writer: ExpressionWriter, value: dict[str, Any], _: str, __: int) -> str:
        fold = f", fold={_whole(value['fold'])}" if value.get("fold") else ""
        return f"{writer.module('datetime')}.{name}({_wholes(value['of'])}{_zone(writer, value)}{fold})"

    return write


def _float(_: ExpressionWriter, value: dict[str, Any], __: str, ___: int) -> str:
    return f"float({_numbers_text(value['of'], _NO_NUMBER)!r})"


def _timedelta(writer: ExpressionWriter, value: dict[str, Any], _: str, __: int) -> str:
    days, seconds, micro = (_whole(part) for part in value["of"])
    parts = [f"{name}={part}" for name, part in (("days", days), ("seconds", seconds), ("microseconds", micro)) if part]
    return f"{writer.module('datetime')}.timedelta({', '.join(parts)})"


def _timezone(writer: ExpressionWriter, value: dict[str, Any], _: str, __: int) -> str:
    module = writer.module("datetime")
    return f"{module}.timezone({module}.timedelta(seconds={float(value['of'])!r}))"


def _tuple(writer: ExpressionWriter, value: dict[str, Any], hint: str, level: int) -> str:
    inner = writer.items(value, hint, level)
    return f"({inner},)" if len(value["items"]) == 1 else f"({inner})"


def _set(writer: ExpressionWriter, value: dict[str, Any], hint: str, level: int) -> str:
    inner = writer.items(value, hint, level)
    return f"{{{inner}}}" if inner else "set()"


def _deque(writer: ExpressionWriter, value: dict[str, Any], hint: str, level: int) -> str:
    most = f", maxlen={_whole(value['most'])}" if value.get("most") is not None else ""
    return f"{writer.imported('collections:deque')}([{writer.items(value, hint, level)}]{most})"


def _mapping(name: str) -> Callable[[ExpressionWriter, dict[str, Any], str, int], str]:
    def write(writer: ExpressionWriter, value: dict[str, Any], hint: str, level: int) -> str:
        inner = writer.mapping(value, hint, level)
        if name == "dict":
            return inner
        if name == "mappingproxy":
            return f"{writer.imported('types:MappingProxyType')}({inner})"
        by = f"{writer.expression(value.get('by'), hint, level + 1)}, " if name == "defaultdict" else ""
        return f"{writer.imported(f'collections:{name}')}({by}{inner})"

    return write


def _named(writer: ExpressionWriter, value: dict[str, Any], _: str, __: int) -> str:
    return writer.imported(str(value["named"]))


def _module(writer: ExpressionWriter, value: dict[str, Any], _: str, __: int) -> str:
    return writer.module(str(value["named"]))


def _enum(writer: ExpressionWriter, value: dict[str, Any], _: str, __: int) -> str:
    kind = writer.imported(str(value["class"]))
    name = value["name"]
    return f"{kind}.{name}" if is_name(name) else f"{kind}[{str(name)!r}]"


def _method(writer: ExpressionWriter, value: dict[str, Any], hint: str, level: int) -> str:
    if not is_name(value["name"]):
        raise ValueError(value["name"])
    return f"{writer.expression(value['of'], hint, level + 1)}.{value['name']}"


def _partial(writer: ExpressionWriter, value: dict[str, Any], hint: str, level: int) -> str:
    arguments = [writer.expression(value["of"], hint, level + 1)]
    if writer.missing and arguments[0] == writer.missing[-1].name:
        return arguments[0]
    arguments += [writer.expression(inner, hint, level + 1) for inner in value["items"]]
    arguments += [f"**{writer.mapping(value, hint, level)}"] if value.get("entries") else []
    return f"{writer.imported('functools:partial')}({', '.join(arguments)})"


def _stream(writer: ExpressionWriter, value: dict[str, Any], _: str, __: int) -> str:
    if "text" in value:
        expression = f"{writer.imported('io:StringIO')}({str(value['text'])!r})"
    else:
        expression = f"{writer.imported('io:BytesIO')}({_octets(value['bytes'])})"
    if not _whole(value["at"]):
        return expression
    name = writer.free_name("stream")
    writer.before += [f"{name} = {expression}", f"{name}.seek({value['at']})"]
    return name


def _pattern(writer: ExpressionWriter, value: dict[str, Any], _: str, __: int) -> str:
    flags = f", {_whole(value['flags'])}" if value.get("flags") else ""
    return f"{writer.module('re')}.compile({str(value['of'])!r}{flags})"


def _match(writer: ExpressionWriter, value: dict[str, Any], hint: str, level: int) -> str:
    pattern = writer.expression(value["of"], hint, level + 1)
    return f"{pattern}.match({writer.expression(value['text'], hint, level + 1)}, {_whole(value['at'])})"


def _path(writer: ExpressionWriter, value: dict[str, Any], _: str, __: int) -> str:
    kind = value.get("kind")
    name = kind if kind in ("PurePosixPath", "PureWindowsPath") else "Path"
    return f"{writer.imported(f'pathlib:{name}')}({str(value['of'])!r})"


def _slice(_: ExpressionWriter, value: dict[str, Any], __: str, ___: int) -> str:
    return f"slice({', '.join(_numbers_text(part, _BOUND) for part in value['of'])})"


def _lock(writer: ExpressionWriter, value: dict[str, Any], _: str, __: int) -> str:
    if value["of"] not in ("Lock", "RLock", "local"):
        raise ValueError(value["of"])
    return f"{writer.module('threading')}.{value['of']}()"


_WRITTEN: Final[dict[str, Callable[[ExpressionWriter, dict[str, Any], str, int], str]]] = {
    "int": lambda _, value, __, ___: _numbers_text(value["of"], _INTEGER),
    "float": _float,
    "complex": lambda _, value, __, ___: f"complex({str(value['of'])!r})",
    "bytes": lambda _, value, __, ___: _octets(value["of"]),
    "bytearray": lambda _, value, __, ___: f"bytearray({_octets(value['of'])})",
    "Decimal": _by_name("decimal", "Decimal"),
    "Fraction": _by_name("fractions", "Fraction"),
    "UUID": _by_name("uuid", "UUID"),
    "date": _date_parts("date"),
    "time": _date_parts("time"),
    "datetime": _date_parts("datetime"),
    "timedelta": _timedelta,
    "timezone": _timezone,
    "range": lambda _, value, __, ___: f"range({_wholes(value['of'])})",
    "slice": _slice,
    "pattern": _pattern,
    "match": _match,
    "zone": _by_name("zoneinfo", "ZoneInfo"),
    "path": _path,
    "stream": _stream,
    "Ellipsis": lambda *_: "...",
    "NotImplemented": lambda *_: "NotImplemented",
    "bare": lambda *_: "object()",
    "lock": _lock,
    "logger": lambda writer, value, _, __: f"{writer.module('logging')}.getLogger({str(value['of'])!r})",
    "list": lambda writer, value, hint, level: f"[{writer.items(value, hint, level)}]",
    "tuple": _tuple,
    "set": _set,
    "frozenset": lambda writer, value, hint, level: f"frozenset([{writer.items(value, hint, level)}])",
    "deque": _deque,
    **{name: _mapping(name) for name in ("dict", "OrderedDict", "defaultdict", "Counter", "mappingproxy")},
    "class": _named,
    "function": _named,
    "module": _module,
    "enum": _enum,
    "method": _method,
    "partial": _partial,
    "object": lambda writer, value, hint, level: writer.object(value, hint, level),
    "exception": lambda writer, value, hint, level: writer.object(value, hint, level),
    "again": lambda writer, value, hint, _: writer.again(value, hint),
}
