"""Writing questions, so that they parse to the same tree again."""

from __future__ import annotations

import re
from typing import Final

_NAME: Final = re.compile(r"[A-Za-z_@][\w.\-@/]*")
_VALUE: Final = re.compile(r"[\w./\-]+")


def quoted(text: str) -> str:
    """Return a text in quotes, so that it is read literally."""
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


def term(field: str, op: str, value: str) -> str:
    """Return a term that compares a field with a value: ``entry_point="POST /sailings"``."""
    name = field if _NAME.fullmatch(field) and field not in ("or", "and", "not") else quoted(field)
    return f"{name}{op}{value if _VALUE.fullmatch(value) else quoted(value)}"
