"""The shape of a database statement: its text without the values. Standard library only: the client uses this."""

from __future__ import annotations

import re
from typing import Final

MOST_SHAPE: Final = 1000
MOST_READ: Final = 20_000

_LITERALS = re.compile(
    r"""(?P<comment>--[^\n]*|/\*.*?(?:\*/|\Z))
    |(?P<value>'(?:[^']|'')*(?:'|\Z)
      |\$(?P<tag>\w*)\$.*?(?:\$(?P=tag)\$|\Z)
      |(?<![$:@\w])(?:0x[0-9a-f]+|\d+(?:\.\d+)?(?:e[+-]?\d+)?)\b)
    |(?P<named>"(?:[^"]|"")*"|`[^`]*`|\[\w+\])
    |(?P<space>\s+)""",
    re.IGNORECASE | re.DOTALL | re.VERBOSE,
)
_VALUES = re.compile(r"\bVALUES\b", re.IGNORECASE)
_LISTS = re.compile(r"\(\s*(?:\?|%s|:\w+|\$\d+|@\w+)(?:\s*,\s*(?:\?|%s|:\w+|\$\d+|@\w+))+\s*\)")
_ROWS = re.compile(r"(\(\?, …\)|\(\?\))(?:\s*,\s*(?:\(\?, …\)|\(\?\)))+")


def shape(statement: str) -> str:
    """Return a statement with its literals as ``?``, lists of values folded, without comments, in one line. Names in
    double quotes stay, except where a value is expected. At most ``MOST_SHAPE`` characters.
    """
    statement = statement[:MOST_READ]
    values = _VALUES.search(statement)
    values_at = values.end() if values is not None else len(statement)

    def replace(found: re.Match[str]) -> str:
        if found["comment"] is not None or found["space"] is not None:
            return " "
        if found["value"] is not None:
            return "?"
        # Some databases accept text in double quotes: where a value is expected, it is one.
        quoted = found[0][0] == '"' and (found.start() > values_at or statement[: found.start()].rstrip()[-1:] in "=<>")
        return "?" if quoted and found.start() else found[0]

    text = " ".join(_LITERALS.sub(replace, statement).split())
    text = _ROWS.sub(r"\1, …", _LISTS.sub("(?, …)", text))
    return text if len(text) <= MOST_SHAPE else text[: MOST_SHAPE - 1] + "…"


def verb(statement: str) -> str:
    """Return the statement's first word in capitals, such as SELECT."""
    found = re.match(r"[\s(]*([A-Za-z]+)", statement[:200])
    return found[1].upper() if found else ""
