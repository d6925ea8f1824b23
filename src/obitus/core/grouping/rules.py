"""Grouping rules: a condition, written as a question, and what to do with the failures that match it.

Written on one line, first what it does: ``together when type=KeyError``, ``apart by user.id, caller when app=gatekeeper``,
``skip frames */middleware.py``, ``own code skerry.*``, ``library code legacy.*``. Rules about frames need no condition.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from fnmatch import translate
from typing import Any, Final, Literal

from obitus.core.asking import Node, QuestionTrouble, holds, read
from obitus.core.frames import ChainLink, Frame
from obitus.core.grouping.messages import template
from obitus.core.grouping.names import plain_function
from obitus.core.grouping.recipe import Fingerprint, fingerprint

Action = Literal["together", "apart", "skip", "own", "library"]
MOST_VALUE: Final = 200
MOST_NAMES: Final = 5
TEXTS: Final = ("type", "cause", "message", "function", "module", "file", "entry_point")
"""The fields in which words of a condition are searched."""
_ACTIONS: Final[dict[str, Action]] = {
    "together": "together",
    "apart by": "apart",
    "skip frames": "skip",
    "own code": "own",
    "library code": "library",
}
HOW: Final = (
    "Write together when CONDITION; apart by NAME, … when CONDITION; or skip frames, own code or library code PATTERN, "
    "with a condition or without one."
)
_WHEN: Final = re.compile(r"\swhen(?:\s|$)")


class GroupingRuleTrouble(ValueError):
    """The text is no grouping rule; the message says what to write instead."""


@dataclass(frozen=True, slots=True)
class GroupingRule:
    """A parsed rule."""

    id: int
    text: str
    condition: Node | None
    """Absent where the rule holds for every failure."""
    action: Action
    names: tuple[str, ...] = ()
    """The fields by which failures are kept apart."""
    pattern: re.Pattern[str] | None = None
    """Which frames, by place or file."""


def parse_grouping_rule(text: str, rule_id: int = 0) -> GroupingRule:
    """Parse a rule; raises GroupingRuleTrouble."""
    match = _WHEN.search(text)
    rule_text = " ".join((text[: match.start()] if match else text).split())
    name = next((start for start in _ACTIONS if rule_text == start or rule_text.startswith(start + " ")), None)
    if name is None:
        raise GroupingRuleTrouble(f"{rule_text[:60]!r} is nothing that a rule does. {HOW}")
    action = _ACTIONS[name]
    rest = rule_text.removeprefix(name).strip()
    if match is None and action in ("together", "apart"):
        raise GroupingRuleTrouble(f"Say when: which failures is that for? {HOW}")
    asked = text[match.end() :].strip() if match is not None else ""
    try:
        # A rule holds for failures of any time: relative times have no meaning in it.
        condition = read(asked, 0) if match is not None else None
    except QuestionTrouble as trouble:
        raise GroupingRuleTrouble(f"The condition: {trouble}") from None
    plain = rule_text if condition is None else f"{rule_text} when {asked}"
    if action == "together":
        if rest:
            raise GroupingRuleTrouble(f"Nothing may come between `together` and `when`. {HOW}")
        return GroupingRule(rule_id, plain, condition, action)
    if action == "apart":
        names = tuple(part.strip() for part in rest.split(",") if part.strip())
        if not names or len(names) > MOST_NAMES:
            raise GroupingRuleTrouble(f"Name one to {MOST_NAMES} attributes to keep apart by. {HOW}")
        return GroupingRule(rule_id, plain, condition, action, names)
    if not rest or len(rest) > MOST_VALUE or rest.count("*") > 4:
        raise GroupingRuleTrouble(
            f"Name the frames by a pattern with at most four stars: skerry.fares.* or */wrappers.py. {HOW}"
        )
    return GroupingRule(rule_id, plain, condition, action, (), re.compile(translate(rest)))


def decide(
    chain: Sequence[ChainLink], facts: Mapping[str, Any], rules: Sequence[GroupingRule]
) -> tuple[Fingerprint, GroupingRule | None]:
    """Return the fingerprint under the rules, and the rule that keeps the failure together with others, if one does."""
    apart: list[tuple[str, str]] = []
    together = None
    matching = [rule for rule in rules if holds_for(rule, facts)] if rules else []
    for rule in matching:
        if rule.pattern is not None:
            chain = [replace(link, frames=_frames(link.frames, rule)) for link in chain]
        elif rule.action == "apart":
            apart += [(name, str(value_of(name, chain, facts))[:MOST_VALUE]) for name in rule.names]
        else:
            together = together or rule
    return fingerprint(chain, apart), together


def holds_for(rule: GroupingRule, facts: Mapping[str, Any]) -> bool:
    """Whether a rule matches a failure with these facts."""
    return rule.condition is None or holds(rule.condition, facts, TEXTS)


def value_of(name: str, chain: Sequence[ChainLink], facts: Mapping[str, Any]) -> Any:
    """Return the value by which failures are kept apart: of an attribute, or ``message``, ``caller``, ``line``,
    ``type`` of the part that counts."""
    if name in ("message", "caller", "line"):
        decided = fingerprint(chain)
        if name == "message":
            return template(decided.fault.link.message)
        if name == "line":
            return decided.fault.site.line if decided.fault.site else ""
        return plain_function(decided.fault.callers[0].function) if decided.fault.callers else ""
    return facts.get(name, "")


def _frames(frames: Sequence[Frame], rule: GroupingRule) -> list[Frame]:
    pattern = rule.pattern
    assert pattern is not None
    if rule.action == "skip":
        kept = [frame for frame in frames if not _matches(frame, pattern)]
        return kept or list(frames)
    own = rule.action == "own"
    return [replace(frame, own=own) if _matches(frame, pattern) else frame for frame in frames]


def _matches(frame: Frame, pattern: re.Pattern[str]) -> bool:
    return (
        pattern.match(frame.place) is not None
        or pattern.match(frame.file) is not None
        or pattern.match(frame.module) is not None
    )
