"""Writing questions, so that they parse to the same tree again."""

from __future__ import annotations

import re
from collections.abc import Container
from typing import Final

FIELD_NAME: Final = r"(?:[^\W\d]|@)[\w.\-@\/]*"
"""The pattern of a field's name that needs no quotes: it begins with a letter of any alphabet, ``_`` or ``@``."""
_NAME: Final = re.compile(FIELD_NAME)
_VALUE: Final = re.compile(r"[\w./\-]+")


def quoted(text: str) -> str:
    """Return a text in quotes, so that it is read literally."""
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


def name_of(field: str, words: Container[str]) -> str:
    """Return the name of a field, in quotes where it needs them, or is one of the words that mean something else there."""
    return field if _NAME.fullmatch(field) and field not in words else quoted(field)


def term(field: str, op: str, value: str) -> str:
    """Return a term that compares a field with a value: ``entry_point="POST /sailings"``."""
    name = name_of(field, ("or", "and", "not"))
    return f"{name}{op}{value if _VALUE.fullmatch(value) else quoted(value)}"
