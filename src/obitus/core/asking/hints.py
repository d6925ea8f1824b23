"""What may be wrong with a question that no record matches."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Set
from difflib import get_close_matches
from typing import Final

from obitus.core.asking.writing import FIELD_NAME, term

MOST_HINTS: Final = 3
# Not the beginning of an address.
_WITH_COLON = re.compile(rf'(?<![^\s(])({FIELD_NAME}):(?!//)([^\s()"=<>~]+)')
_QUOTED = re.compile(r'"(?:[^"\\]|\\.)*+"')


def with_colon(question: str) -> dict[str, str]:
    """Return what is written like ``name:value``, which is read as words: the name, and the value."""
    return {match[1]: match[2] for match in _WITH_COLON.finditer(_QUOTED.sub('""', question))}


def hints_for(colons: Mapping[str, str], unknown: Set[str], names: Set[str], of: str) -> str | None:
    """Return remarks about a question as sentences, or None.

    ``colons`` is what is written with one in it, ``unknown`` are the fields in it that not every record has, ``names`` those that the records have which were looked
    at, and ``of`` says which these are: ``No {of} has a field …``.
    """
    return " ".join([*_read_as_words(colons, names), *_not_there(unknown, names, of)]) or None


def _read_as_words(colons: Mapping[str, str], names: Set[str]) -> Iterator[str]:
    written = [(name, value) for name, value in colons.items() if name in names]
    for name, value in written[:MOST_HINTS]:
        yield f"{name}:{value} is read as words; write {term(name, '=', value)} to compare the field."


def _not_there(unknown: Set[str], names: Set[str], of: str) -> Iterator[str]:
    for name in sorted(unknown - names)[:MOST_HINTS]:
        near = get_close_matches(name, names, n=3, cutoff=0.6)
        same_end = [other for other in sorted(names) if other.rpartition(".")[2] == name and other not in near]
        near += same_end[:3]
        yield f"No {of} has a field {name}" + (f"; these come near: {', '.join(near)}." if near else ".")
