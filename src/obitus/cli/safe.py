"""Making text safe for terminals, and for those that cannot show every character."""

from __future__ import annotations

import codecs
import json
import re
import sys
from io import TextIOWrapper
from typing import Any, Final

_INSTEAD: Final = {
    "…": "...", "·": ".", "–": "-", "—": "-", "×": "x", "→": "->", "“": '"', "”": '"', "‘": "'", "’": "'", "µ": "u", "≥": ">=", "≤": "<=",
    "✓": "+", "✕": "x", "●": "*", "○": "o", "◌": "o", "◐": "o", "▲": "!", "◆": "*", "◇": "o", "─": "-", "━": "-", "│": "|", "├": "|", "└": "`", "█": "#",
}  # fmt: skip
"""What is shown in place of a sign in an encoding without it; a question mark for any other."""
_HANDLER: Final = "obitus-instead"

_CONTROL = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")


def safe(value: object) -> str:
    """Return text from a report without control codes and direction marks."""
    return _CONTROL.sub("\ufffd", str(value))


def cleaned(value: Any) -> Any:
    """Return an answer of the service with every text and name in it safe for a terminal."""
    if isinstance(value, str):
        return safe(value)
    if isinstance(value, list):
        return [cleaned(inner) for inner in value]
    if isinstance(value, dict):
        return {safe(name): cleaned(inner) for name, inner in value.items()}
    return value


def show_what_can_be_shown() -> None:
    """Let no character end a command: not every terminal has them all, and a name of a file may be no text."""
    codecs.register_error(_HANDLER, _instead)
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, TextIOWrapper):
            stream.reconfigure(errors=_HANDLER)


def _instead(error: UnicodeError) -> tuple[str, int]:
    if not isinstance(error, UnicodeEncodeError):
        raise error
    return "".join(_INSTEAD.get(character, "?") for character in error.object[error.start : error.end]), error.end


def json_text(answer: Any, indent: int | None = None) -> str:
    """Return an answer as JSON, safe for a terminal, with escapes where standard output is not UTF-8."""
    is_utf8 = codecs.lookup(sys.stdout.encoding or "ascii").name == "utf-8"
    return json.dumps(cleaned(answer), indent=indent, ensure_ascii=not is_utf8)
