"""Patterns that people write, by an engine that takes time in proportion to the text, whatever pattern and text are."""

from __future__ import annotations

from typing import Any, Final

import re2

from obitus.core.redaction_rules import RuleTrouble

MOST_MEMORY_BYTES: Final = 8 * 1024 * 1024

_OPTIONS: Final = re2.Options()
_OPTIONS.log_errors = False
_OPTIONS.max_mem = MOST_MEMORY_BYTES


def compiled(what: str) -> Any:
    """Return a pattern with ``search`` and ``sub``; raises RuleTrouble where it asks for what cannot be done in linear time."""
    try:
        return re2.compile(what, _OPTIONS)
    except re2.error as error:
        said = error.args[0].decode("utf-8", "replace") if isinstance(error.args[0], bytes) else str(error)
        raise RuleTrouble(
            f"{what[:80]!r} cannot be searched for in linear time ({said}). Write it without look-around, "
            "back-references and possessive repeats."
        ) from None
