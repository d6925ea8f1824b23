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

    def replace(match: re.Match[str]) -> str:
        if match["comment"] is not None or match["space"] is not None:
            return " "
        if match["value"] is not None:
            return "?"
        # Some databases accept text in double quotes: where a value is expected, it is one.
        quoted = match[0][0] == '"' and (match.start() > values_at or statement[: match.start()].rstrip()[-1:] in "=<>")
        return "?" if quoted and match.start() else match[0]

    text = " ".join(_LITERALS.sub(replace, statement).split())
    text = _ROWS.sub(r"\1, …", _LISTS.sub("(?, …)", text))
    return text if len(text) <= MOST_SHAPE else text[: MOST_SHAPE - 1] + "…"


def verb(statement: str) -> str:
    """Return the statement's first word in capitals, such as SELECT."""
    match = re.match(r"[\s(]*([A-Za-z]+)", statement[:200])
    return match[1].upper() if match else ""
