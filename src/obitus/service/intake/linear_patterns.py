"""Patterns of people, with an engine whose time is proportional to the text for every pattern."""

from __future__ import annotations

import logging
import re
from collections.abc import Callable, Iterable, Sequence
from typing import Any, Final

import re2

from obitus.core.redaction import Redactor
from obitus.core.redaction.rules import RuleTrouble, parse_rule

_log = logging.getLogger("obitus.service")

MOST_MEMORY_BYTES: Final = 8 * 1024 * 1024

_OPTIONS: Final = re2.Options()
_OPTIONS.log_errors = False
_OPTIONS.max_mem = MOST_MEMORY_BYTES


def compiled(what: str) -> Any:
    """Compile a pattern, with ``search`` and ``sub``; raises RuleTrouble where it is not possible in linear time."""
    try:
        return re2.compile(what, _OPTIONS)
    except re2.error as error:
        trouble = error.args[0].decode("utf-8", "replace") if isinstance(error.args[0], bytes) else str(error)
        raise RuleTrouble(
            f"{what[:80]!r} cannot be searched for in linear time ({trouble}). Write it without look-around, "
            "back-references and possessive repeats."
        ) from None


def redactor_of(texts: Iterable[str]) -> Redactor:
    """Return a redactor for these rules."""
    rules = []
    for text in texts:
        try:
            rules.append(parse_rule(text))
        except RuleTrouble as trouble:
            _log.error("a redaction rule is not active: %s Stop it, and write it again.", trouble)
    return Redactor(rules, _compiled_or_bounded, _seeing)


def _seeing(texts: Sequence[str], pattern: str) -> Callable[[str], tuple[list[str], bool]]:
    """Return a function that finds in one pass which of these texts a text contains, and whether a pattern may match in it."""
    patterns = re2.Set.SearchSet(_OPTIONS)
    for text in texts:
        patterns.Add(re2.escape(text))
    patterns.Add(pattern)
    patterns.Compile()
    last = len(texts)

    def seen(text: str) -> tuple[list[str], bool]:
        match = patterns.Match(text) or ()
        return [texts[one] for one in match if one != last], last in match

    return seen


def _compiled_or_bounded(what: str) -> Any:
    """Compile a pattern for linear time; one of an earlier version for which that is not possible is searched in pieces."""
    try:
        return compiled(what)
    except RuleTrouble as trouble:
        _log.warning("a redaction rule is slow: %s", trouble)
        return re.compile(what)
