"""Hand-over rules: ``hand to Ida Moss when app=sailings file~fares``. Who gets an issue that matches and that nobody has."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

from obitus.core.asking import Node, QuestionTrouble, holds, read
from obitus.core.grouping.rules import TEXTS

MOST_RULES: Final = 200
MOST_CHARACTERS: Final = 1000
HOW: Final = "Write: hand to NAME when CONDITION, such as: hand to Ida Moss when app=sailings module~fares."
_RULE: Final = re.compile(r"\s*hand\s+to\s+(\S(?:.*?\S)?)\s+when\s+(\S.*)", re.DOTALL)


class HandingRuleTrouble(ValueError):
    """The text is no hand-over rule; the message says what to write instead."""


@dataclass(frozen=True, slots=True)
class HandingRule:
    """A parsed rule."""

    id: int
    text: str
    to: str
    """The name of a person."""
    condition: Node


def parse_handing_rule(text: str, rule_id: int = 0) -> HandingRule:
    """Parse a rule; raises HandingRuleTrouble."""
    match = _RULE.fullmatch(text) if len(text) <= MOST_CHARACTERS else None
    if match is None:
        raise HandingRuleTrouble(f"{' '.join(text.split())[:60]!r} is no hand-over rule. {HOW}")
    to, asked = " ".join(match[1].split()), match[2].strip()
    try:
        # It holds for failures of any time: relative times have no meaning in it.
        condition = read(asked, 0)
    except QuestionTrouble as trouble:
        raise HandingRuleTrouble(f"The condition: {trouble}") from None
    if condition is None:
        raise HandingRuleTrouble(f"Say when: which issues are handed over? {HOW}")
    return HandingRule(rule_id, f"hand to {to} when {asked}", to, condition)


def those_that_hold(rules: Sequence[HandingRule], facts: Mapping[str, Any]) -> list[HandingRule]:
    """Return the rules that match a failure, in their order: the first whose person can take the issue counts."""
    return [rule for rule in rules if holds(rule.condition, facts, TEXTS)]
