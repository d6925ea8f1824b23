"""The function around a place of a source, from a source map's ``scopes``.

Source: ECMA-426, *Scopes* (a proposal for the standard's second edition): items separated by commas, each a tag letter and base64 VLQ
numbers. Original scopes begin with ``B`` (flags, line, column, name, kind) and end with ``C`` (line, column); an
empty item is a source without scopes. Lines and columns are relative to the previous ones of the same source; names
and kinds to those of all sources. Only functions (the flag *stack frame*) are used here; bindings of variables are
skipped.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from typing import Any, Final, NamedTuple

_DIGITS: Final = {
    character: number
    for number, character in enumerate("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/")
}
_START, _END, _VARIABLES = "B", "C", "D"
_HAS_NAME, _HAS_KIND, _IS_FRAME = 1, 2, 4
MOST_ITEMS: Final = 4_000_000
MOST_DEEP: Final = 1000
ANONYMOUS: Final = "<anonymous>"


class ScopesTrouble(ValueError):
    """Raised for scopes that cannot be read."""


class _Function(NamedTuple):
    begins: tuple[int, int]
    ends: tuple[int, int]
    name: str


class Scopes:
    """The functions of the sources of one map."""

    def __init__(self, text: str, names: Sequence[Any], sources: int) -> None:
        """Parse the scopes of a map with this number of sources; raises ScopesTrouble."""
        self._functions: list[list[_Function]] = [[] for _ in range(sources)]
        self._read(text, names)

    def at(self, source: int, line: int, column: int) -> str | None:
        """Return the innermost function around a place, None where nothing is known: lines count from 1, columns from 0."""
        if not 0 <= source < len(self._functions):
            return None
        scopes, place = self._functions[source], (line - 1, column)
        for number in range(bisect_right(scopes, place, key=lambda one: one.begins) - 1, -1, -1):
            if scopes[number].ends > place:
                return scopes[number].name
        return None

    def is_known(self, source: int) -> bool:
        """Whether the map has scopes of a source."""
        return 0 <= source < len(self._functions) and bool(self._functions[source])

    def _read(self, text: str, names: Sequence[Any]) -> None:
        source = line = column = name = 0
        opened: list[tuple[tuple[int, int], str | None]] = []
        for count, item in enumerate(text.split(",")):
            if count > MOST_ITEMS:
                raise ScopesTrouble("there are too many")
            if not item and not opened:
                source += 1
                continue
            tag, numbers = item[:1], _numbers(item[1:])
            if tag == _START and not opened:
                line = column = 0
            if tag == _START:
                if len(numbers) < 3 or len(opened) >= MOST_DEEP or source >= len(self._functions):
                    raise ScopesTrouble("a scope begins where none can")
                flags = numbers[0]
                line, column = (line + numbers[1], numbers[2]) if numbers[1] else (line, column + numbers[2])
                named: str | None = None
                if flags & _HAS_NAME:
                    if len(numbers) < 4:
                        raise ScopesTrouble("a scope says that it has a name, and has none")
                    name += _signed(numbers[3])
                    name_given = names[name] if 0 <= name < len(names) else None
                    named = name_given if isinstance(name_given, str) else None
                opened.append(((line, column), (named or ANONYMOUS)[:200] if flags & _IS_FRAME else None))
            elif tag == _END:
                if len(numbers) < 2 or not opened:
                    raise ScopesTrouble("a scope ends that did not begin")
                line, column = (line + numbers[0], numbers[1]) if numbers[0] else (line, column + numbers[1])
                begins, function = opened.pop()
                if function is not None:
                    self._functions[source].append(_Function(begins, (line, column), function))
                if not opened:
                    source += 1
            elif not opened:
                # From here on the scopes are those of the built code.
                break
            elif tag != _VARIABLES and not tag.isalpha():
                raise ScopesTrouble("an item has no tag")
        if opened:
            raise ScopesTrouble("a scope does not end")
        for found in self._functions:
            found.sort(key=lambda one: (one.begins, tuple(-part for part in one.ends)))


def _numbers(text: str) -> list[int]:
    """Return the unsigned numbers of base64 VLQ digits; raises ScopesTrouble."""
    numbers, value, shift = [], 0, 0
    for character in text:
        digit = _DIGITS.get(character)
        if digit is None or shift > 30:
            raise ScopesTrouble("a number cannot be read")
        value |= (digit & 31) << shift
        if digit & 32:
            shift += 5
        else:
            numbers.append(value)
            value = shift = 0
    if shift:
        raise ScopesTrouble("a number is cut off")
    return numbers


def _signed(number: int) -> int:
    return -(number >> 1) if number & 1 else number >> 1
