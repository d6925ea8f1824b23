"""Templates of messages, without the values that change, and the likeness of two of them."""

from __future__ import annotations

import re
from typing import Final

from obitus.core.remembering import remembered

MOST_LOOKED_AT: Final = 600
VALUE: Final = "#"
"""Placeholder of a value that changes: a number, an id, a path, a quoted text."""

_VALUES = re.compile(
    r"""
    \b[a-z][a-z0-9+.-]{1,20}://\S+                                 # addresses
    | (?<![\w.+-])[\w.+-]++@[\w-]++(?:\.[\w-]++)++                               # e-mail
    | (?<!\w)'(?:[^'\\\n]|\\.){0,400}'(?!\w) | "(?:[^"\\\n]|\\.){0,400}" | `[^`\n]{1,400}` | «[^»\n]{0,400}» | “[^”\n]{0,400}”
    | \b[0-9a-fA-F]{8}-(?:[0-9a-fA-F]{4}-){3}[0-9a-fA-F]{12}\b      # UUIDs
    | \b(?:[A-Z][a-z]{2},?\ )?\d{1,4}[-/. ](?:\d{1,2}|[A-Z][a-z]{2})[-/. ]\d{1,4}(?:[T ]\d{1,2}:\d{2}(?::\d{2}(?:[.,]\d+)?)?(?:Z|\ ?[+-]\d{2}:?\d{2})?)?
    | \[?\b(?:\d{1,3}\.){3}\d{1,3}(?::\d+)?\b\]? | \[[0-9a-fA-F:]{3,}\](?::\d+)?
    | (?<![\w.])(?:[A-Za-z]:)?[\\/](?:[\w.@~+ -]+[\\/])*[\w.@~+-]+ | ~/[\w./@+-]+ | (?<![\w./-])[\w.-]++/[\w./-]+\.\w+  # paths
    | \b(?:[a-z0-9-]{1,63}\.){1,8}(?:com|org|net|example|local|internal|test|io|invalid|localdomain)\b(?::\d+)?       # hosts
    | \blocalhost(?::\d+)?
    | <[\w.]+\ (?:object\ )?(?:[\w.]+\ )?at\ 0x[0-9a-fA-F]+>
    | 0x[0-9a-fA-F]+
    | [\w.:-]{0,150}?\d(?:[\w.:-]{0,300}\w)?                                  # anything with a digit in it
    | \b[0-9a-f]{12,}\b
    """,
    re.VERBOSE,
)
_LISTS = re.compile(r"#(?:[\s,;:|()\[\]{}=+-]*#)+")
_WORDS = re.compile(r"[^\W\d_]{2,}|_[\w]+")
# Messages of runtimes: the names in them are names of the code, not values.
_RUNTIMES_OWN = re.compile(
    r"^[\w.<>]+\(\) (?:missing|takes|got)\b|is not a (?:function|constructor)|is not (?:defined|iterable)\b"
    r"|^Cannot (?:read|set) propert|^Cannot (?:invoke|read field|load from|store to|assign field|enter synchronized|throw exception)"
    r"|cannot be cast to|^undefined (?:local variable|method|function)|^uninitialized constant|^Call to (?:a member|undefined|private|protected)"
    r"|^Undefined (?:variable|constant|property|method)|^Class \S+ not found|^Can't (?:call|locate)|^Undefined subroutine"
    r"|^name '\w+' is not defined|^(?:cannot access )?local variable|^No module named|^cannot import name|on a `(?:None|Err)` value|nil pointer|[Ee]xpected \S+ to be of type"
    r"|^(?:module|type object) '[\w.]+' has no attribute|^JavaScript: |can't access property|undefined is not an object|null is not an object"
)
_NUMBERS = re.compile(r"0x[0-9a-fA-F]+|@[0-9a-f]{5,}|\d+")
_NOT_A_VALUE: Final = re.compile(r"None|null|nil|undefined|NoneType|True|False|true|false", re.ASCII)


@remembered(4096)
def template(message: str) -> str:
    """Return a message with ``#`` in place of what changes: numbers, ids, quoted values, paths, dates, hosts. In
    messages of the language's runtime names are kept, since they are names of the code.
    """
    text = message[:MOST_LOOKED_AT]
    if runtimes_own(text):
        return _NUMBERS.sub(VALUE, text.partition("\n")[0])
    text = _LISTS.sub(VALUE, _VALUES.sub(_as_value, text))
    return " ".join(text.split())


def _as_value(match: re.Match[str]) -> str:
    inner = match[0].strip("'\"`")
    return match[0] if _NOT_A_VALUE.fullmatch(inner) else VALUE


def runtimes_own(message: str) -> bool:
    """Whether the language's runtime wrote a message with names of the code."""
    return _RUNTIMES_OWN.search(message) is not None


@remembered(4096)
def words_of(text: str) -> tuple[str, ...]:
    """Return the fixed words of a template, in order, lower case."""
    return tuple(word.lower() for word in _WORDS.findall(text))


def likeness(one: str, other: str) -> float:
    """Return how much two templates share, from 0 to 1: twice the words in the same order, over all words (Dice)."""
    if one == other:
        return 1.0
    mine, others = words_of(one)[:60], words_of(other)[:60]
    if not mine or not others:
        return 0.0
    return 2 * _common(mine, others) / (len(mine) + len(others))


def _common(mine: tuple[str, ...], others: tuple[str, ...]) -> int:
    """Return the length of the longest common subsequence."""
    row = [0] * (len(others) + 1)
    for word in mine:
        before = 0
        for place, other in enumerate(others, 1):
            above = row[place]
            row[place] = before + 1 if word == other else max(above, row[place - 1])
            before = above
    return row[-1]
