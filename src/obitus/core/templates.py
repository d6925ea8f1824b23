"""Splitting a log message into its template and its values. Standard library only."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import lru_cache
from typing import Final

SEPARATOR: Final = "\x1f"
"""Separates two values that are kept as one text: the unit separator of ASCII, which these values do not contain."""

# Places of printf-style, brace-style and dollar-style templates; a doubled character is a literal one.
_PLACE = re.compile(
    r"%%|%(?:\([^()\s]{1,100}\))?[-#0 +]{0,5}[\d*]{0,10}(?:\.[\d*]{1,10})?[a-zA-Z]"
    r"|\{\{|\}\}|\{[^{}\s]{0,100}\}"
)
_DOUBLED: Final = {"%%": "%", "{{": "{", "}}": "}"}


def values_in(template: str, message: str) -> list[str] | None:
    """Return the values of a message in its template's places, None where they are not clear.

    ``filled_in(template, values)`` gives exactly the message again. The values between two places are found by the
    text that stands between them; where a value contains that text itself, the first match is used, which still gives the message.
    """
    pieces = pieces_of(template)
    if len(pieces) < 2 or SEPARATOR in message or not message.startswith(pieces[0]):
        return None
    values: list[str] = []
    at = len(pieces[0])
    for piece in pieces[1:-1]:
        begins = message.find(piece, at) if piece else at
        if begins < 0:
            return None
        values.append(message[at:begins])
        at = begins + len(piece)
    last = pieces[-1]
    if len(message) - len(last) < at or not message.endswith(last):
        return None
    values.append(message[at : len(message) - len(last)])
    return values


def filled_in(template: str, values: Sequence[str]) -> str:
    """Return the message of a template with values, one for each of its places."""
    pieces = pieces_of(template)
    if len(values) != len(pieces) - 1:
        raise ValueError(f"the template has {len(pieces) - 1} places, and there are {len(values)} values")
    return pieces[0] + "".join(value + piece for value, piece in zip(values, pieces[1:], strict=True))


@lru_cache(4096)
def pieces_of(template: str) -> tuple[str, ...]:
    """Return the texts before, between and after a template's places: one more than there are places."""
    pieces, at, text = [], 0, ""
    for match in _PLACE.finditer(template):
        text += template[at : match.start()]
        at = match.end()
        sign = _DOUBLED.get(match[0])
        if sign is not None:
            text += sign
        else:
            pieces.append(text)
            text = ""
    return (*pieces, text + template[at:])
