"""The search language: ``field op value`` terms separated by spaces, all of which must hold.

Operators are ``=``, ``!=``, ``>``, ``>=``, ``<``, ``<=`` and ``~`` (contains); ``or``, ``not`` and brackets join terms; a bare word or
"quoted text" searches text. ``severity`` is compared by its order, other values as numbers where both are.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Final

from obitus.core.severity import SEVERITIES

MOST_SIGNS: Final = 2000
MOST_DEEP: Final = 30
_TOKEN = re.compile(
    r"""\s*(?:(?P<bracket>[()])
    | (?P<field>[A-Za-z_][\w.\-]*)\s*(?P<op>(?>!=|>=|<=|=|>|<|~))\s*(?P<value>"(?:[^"\\]|\\.)*"|[^\s()"=][^\s()]*)
    | (?P<quoted>"(?:[^"\\]|\\.)*") | (?P<word>[^\s()"]+))""",
    re.VERBOSE,
)
# What begins like a comparison and could not be read as one.
_OPEN = re.compile(r"[A-Za-z_][\w.\-]*(?>!=|>=|<=|=|>|<|~)")

Holds = Callable[[Mapping[str, Any]], bool]


class SearchTrouble(ValueError):
    """The text is no search; the message says where and what to write instead."""


@dataclass(frozen=True, slots=True)
class Search:
    """A search that was understood. ``holds`` tells whether a record (field to value) matches."""

    text: str
    holds: Holds
    fields: frozenset[str]


@dataclass
class _Reading:
    tokens: list[re.Match[str]]
    at: int = 0
    deep: int = 0


def parse(text: str) -> Search:
    """Understand a search; raises SearchTrouble."""
    if len(text) > MOST_SIGNS:
        raise SearchTrouble(f"A search has up to {MOST_SIGNS:,} signs.")
    tokens: list[re.Match[str]] = []
    at = 0
    stripped = text.rstrip()
    while at < len(stripped):
        found = _TOKEN.match(stripped, at)
        if found is None or found.end() == at:
            raise SearchTrouble(
                f"Cannot be read from here: {stripped[at : at + 30]!r}. A quote is not closed, perhaps."
            )
        tokens.append(found)
        at = found.end()
    if not tokens:
        raise SearchTrouble("The search is empty. Write terms like severity>=WARN or type=KeyError.")
    reading = _Reading(tokens)
    holds = _any_of(reading)
    if reading.at < len(tokens):
        raise SearchTrouble("There is a closing bracket without an opening one.")
    return Search(text.strip(), holds, frozenset(token["field"] for token in tokens if token["field"]))


def _any_of(reading: _Reading) -> Holds:
    choices = [_all_of(reading)]
    while _word(reading) == "or":
        reading.at += 1
        choices.append(_all_of(reading))
    return choices[0] if len(choices) == 1 else lambda record: any(choice(record) for choice in choices)


def _all_of(reading: _Reading) -> Holds:
    terms: list[Holds] = []
    while reading.at < len(reading.tokens):
        word = _word(reading)
        if word == "or" or reading.tokens[reading.at]["bracket"] == ")":
            break
        if word == "and":
            reading.at += 1
            continue
        terms.append(_term(reading))
    if not terms:
        raise SearchTrouble("A term is missing before or after `or`, or inside brackets.")
    return terms[0] if len(terms) == 1 else lambda record: all(term(record) for term in terms)


def _term(reading: _Reading) -> Holds:
    token = reading.tokens[reading.at]
    reading.at += 1
    if token["word"] == "not":
        if reading.at >= len(reading.tokens):
            raise SearchTrouble("Nothing stands behind `not`.")
        inner = _deeper(reading, _term)
        return lambda record: not inner(record)
    if token["bracket"] == "(":
        inner = _deeper(reading, _any_of)
        if reading.at >= len(reading.tokens) or reading.tokens[reading.at]["bracket"] != ")":
            raise SearchTrouble("A bracket is not closed.")
        reading.at += 1
        return inner
    if token["field"]:
        return _comparison(token["field"], token["op"], _unquoted(token["value"]))
    if token["word"] and (open_ := _OPEN.match(token["word"])):
        raise SearchTrouble(
            f'Nothing to compare with stands behind {open_[0]} Write {open_[0]}"" for what is empty, and quote what begins with a sign.'
        )
    text = _unquoted(token["quoted"] or token["word"]).lower()
    return lambda record: any(text in str(value).lower() for value in record.values() if value is not None)


def _deeper(reading: _Reading, read: Callable[[_Reading], Holds]) -> Holds:
    reading.deep += 1
    if reading.deep > MOST_DEEP:
        raise SearchTrouble(f"Brackets and `not` may be nested {MOST_DEEP} deep.")
    found = read(reading)
    reading.deep -= 1
    return found


def _word(reading: _Reading) -> str | None:
    return reading.tokens[reading.at]["word"] if reading.at < len(reading.tokens) else None


def _unquoted(text: str) -> str:
    return re.sub(r"\\(.)", r"\1", text[1:-1]) if len(text) > 1 and text[0] == text[-1] == '"' else text


def _comparison(field: str, op: str, wanted: str) -> Holds:
    if op == "~":
        part = wanted.lower()
        return lambda record: part in str(record.get(field, "")).lower() if record.get(field) is not None else False
    if op == "=":
        return lambda record: _same(record.get(field), wanted)
    if op == "!=":
        return lambda record: not _same(record.get(field), wanted)
    if field == "severity":
        if wanted.upper() not in SEVERITIES:
            raise SearchTrouble(f"{wanted} is no severity. They are, in order: {', '.join(SEVERITIES)}.")
        order = SEVERITIES.index(wanted.upper())
        return lambda record: record.get(field) in SEVERITIES and _ordered(SEVERITIES.index(record[field]), op, order)
    number = _number(wanted)
    if number is None:
        return lambda record: record.get(field) is not None and _ordered(str(record[field]), op, wanted)

    def holds(record: Mapping[str, Any]) -> bool:
        value = _number(record.get(field))
        return value is not None and _ordered(value, op, number)

    return holds


def _same(value: Any, wanted: str) -> bool:
    if value is None:
        return wanted == ""
    if isinstance(value, bool):
        return str(value).lower() == wanted.lower()
    if isinstance(value, int | float):
        number = _number(wanted)
        return number is not None and value == number
    return str(value) == wanted


def _number(value: Any) -> float | None:
    if isinstance(value, bool):
        return None
    try:
        return float(value)
    except (TypeError, ValueError):
        return None


def _ordered(one: Any, op: str, other: Any) -> bool:
    if op == ">":
        return bool(one > other)
    if op == ">=":
        return bool(one >= other)
    return bool(one < other) if op == "<" else bool(one <= other)
