"""Inputs made against a pattern: what its repetitions can be fed with so that a search has most to go back over."""

from __future__ import annotations

import itertools
import re
import re._constants as sre  # type: ignore[import-not-found]
import re._parser as parser  # type: ignore[import-not-found]
from collections.abc import Iterator
from typing import Any, NamedTuple

ALPHABET = "aZ0-_ .\t\n\"'/:=@\\(,;[{<&%+é"
ENDS = ("\0", "\n", "!", "")
MOST_VARIANTS = 6


class Attack(NamedTuple):
    """A text made against a pattern, which can be as long as one likes."""

    before: str
    pump: str
    """What is repeated."""
    end: str = "\0"

    def text(self, size: int) -> str:
        """Return it with about so many characters."""
        return self.before + self.pump * (size // len(self.pump)) + self.end


def attacks(pattern: re.Pattern[Any]) -> Iterator[Attack]:
    """Yield texts made against each repetition of a pattern."""
    source = pattern.pattern if isinstance(pattern.pattern, str) else pattern.pattern.decode("latin-1")
    tree = parser.parse(source, pattern.flags & ~re.UNICODE if isinstance(pattern.pattern, bytes) else pattern.flags)
    seen: set[tuple[str, str]] = set()
    for before, pump in _repetitions(list(tree), ""):
        if not pump or (before, pump) in seen:
            continue
        seen.add((before, pump))
        for end in ENDS[:2]:
            yield Attack(before, pump, end)
        yield Attack("", before + pump)
        if before:
            yield Attack("", before)
    whole = _samples(list(tree))
    for text in whole[:3]:
        for cut in {text, text[:-1], text[1:]} - {""}:
            yield Attack("", cut)


def _repetitions(items: list[Any], before: str) -> Iterator[tuple[str, str]]:
    """Yield, for each repetition, what leads to it and what it can be fed with."""
    for i, (op, argument) in enumerate(items):
        lead = before + (_samples(items[:i]) or [""])[0]
        if op in (sre.MAX_REPEAT, sre.MIN_REPEAT, sre.POSSESSIVE_REPEAT):
            _, most, inner = argument
            if most is sre.MAXREPEAT or most > 12:
                after = [c for c in ALPHABET if _first_accepts(items[i + 1 :], c)]
                pumps = _samples(list(inner))[:MOST_VARIANTS]
                for pump in itertools.chain(pumps, [c for c in after if _first_accepts(list(inner), c)][:2]):
                    yield lead, pump
            yield from _repetitions(list(inner), lead)
        elif op is sre.SUBPATTERN:
            yield from _repetitions(list(argument[3]), lead)
        elif op is sre.ATOMIC_GROUP:
            yield from _repetitions(list(argument), lead)
        elif op is sre.BRANCH:
            for branch in argument[1]:
                yield from _repetitions(list(branch), lead)
        elif op in (sre.ASSERT, sre.ASSERT_NOT):
            yield from _repetitions(list(argument[1]), lead)


def _samples(items: list[Any]) -> list[str]:
    """Return a few texts that a sequence matches, as far as that can be said without its look-arounds."""
    found = [""]
    for op, argument in items:
        found = [left + right for left in found[:MOST_VARIANTS] for right in _texts(op, argument)[:MOST_VARIANTS]]
        found = found[:MOST_VARIANTS] if len(found) > MOST_VARIANTS else found
    return found


def _texts(op: Any, argument: Any) -> list[str]:
    if op is sre.LITERAL:
        return [chr(argument)]
    if op is sre.NOT_LITERAL:
        return [c for c in ALPHABET if ord(c) != argument][:2]
    if op is sre.ANY:
        return ["a", " "]
    if op is sre.IN:
        return [c for c in ALPHABET if _in(argument, c)][:MOST_VARIANTS] or [_one_of(argument)]
    if op in (sre.MAX_REPEAT, sre.MIN_REPEAT, sre.POSSESSIVE_REPEAT):
        least, most, inner = argument
        count = max(least, min(1, most))
        return [text * count for text in _samples(list(inner))] or [""]
    if op is sre.SUBPATTERN:
        return _samples(list(argument[3]))
    if op is sre.ATOMIC_GROUP:
        return _samples(list(argument))
    if op is sre.BRANCH:
        return [text for branch in argument[1] for text in _samples(list(branch))[:1]][: 2 * MOST_VARIANTS]
    return [""]


def _first_accepts(items: list[Any], c: str) -> bool:
    for op, argument in items:
        if op in (sre.AT, sre.ASSERT, sre.ASSERT_NOT):
            continue
        if op is sre.IN:
            return _in(argument, c)
        return any(text.startswith(c) for text in _texts(op, argument))
    return False


def _in(choices: list[Any], c: str) -> bool:
    accepted, negated = False, False
    for op, argument in choices:
        if op is sre.NEGATE:
            negated = True
        elif op is sre.LITERAL:
            accepted |= ord(c) == argument
        elif op is sre.RANGE:
            accepted |= argument[0] <= ord(c) <= argument[1]
        elif op is sre.CATEGORY:
            accepted |= _category(argument, c)
    return accepted != negated


def _category(name: Any, c: str) -> bool:
    text = str(name)
    is_in = c.isspace() if "SPACE" in text else c.isdigit() if "DIGIT" in text else c.isalnum() or c == "_"
    return is_in != ("NOT" in text)


def _one_of(choices: list[Any]) -> str:
    for op, argument in choices:
        if op is sre.LITERAL:
            return chr(argument)
        if op is sre.RANGE:
            return chr(argument[0])
    return "a"
