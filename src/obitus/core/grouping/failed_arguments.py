"""Whether a function failed on an argument: then the caller counts too, since each caller is a fault of its own.
Only what is constant decides: the type, and the lines of the function and of its callers. The value in the message
does not, so that one place is either a helper or not, for all arguments.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Final, NamedTuple

from obitus.core.frames import ChainLink, Frame
from obitus.core.grouping.arguments import MOST_CODE, expression_for, text_given
from obitus.core.grouping.missing_values import missing, possibly_missing
from obitus.core.grouping.names import plain_type
from obitus.core.wording import count_of

RAISES: Final = re.compile(r"^(?:raise|throw|die|croak|confess|panic!|panic)\b|^[\w.]*raise_from\(|^[\w.]*reraise\(")
"""A line that raises on purpose, in any of the languages."""
_SHOWS_A_NAME = re.compile(r"[{%]|\.format\(|\(\s{0,20}[a-z_]\w{0,100}\s{0,20}\)")
_LOOKED_UP = re.compile(r"\[([a-z_]\w{0,100})\]")
_LOOK_UPS: Final = frozenset({"KeyError", "IndexError"})
_LITERAL = re.compile(r"""["'][A-Za-z_][\w.-]{2,60}["']""")
_IS_LITERAL = re.compile(r"""None|True|False|-?\d[\w.]{0,60}|[rbuRBU]{0,2}(?P<quote>["'])[^"']{0,200}(?P=quote)""")
_BARE_NAME = re.compile(r"(?<![\w.])(?P<name>[A-Za-z_]\w{0,100})(?![\w.])(?P<called>\(?)")
_PASSES_ALL_ON = re.compile(r"[\w)\]]\(\*\w{1,100}, ?\*\*\w{1,100}\)")
_NOT_CALLABLE: Final = "is not callable"
_HANDED_NOTHING: Final = "own code that was handed nothing where a value was due, so its caller counts too"
_SPELLS: Final = "its line spells out what the failing line works on"
_NOTHING = re.compile(r"\bNoneType\b|\bnot None\b")


class Handed(NamedTuple):
    """How many callers of a function count, why, and what the outermost of them did; the others only handed that on."""

    callers: int = 0
    why: str = ""
    why_caller: str = ""
    callers_before: int = 0
    """How many count by versions 3 and 4 of the recipe, which did not know parameters."""
    nth_alike: int = 0
    """Which of several equal lines handed nothing over, from 1; 0 where the line is the only one of its function. Equal
    lines that contain a literal do not differ: they hand over the same.
    """


def handed(link: ChainLink, site: Frame, callers: Sequence[Frame], seen_before: int) -> Handed:
    """Return how many callers count; none where the function failed by itself, or the lines do not show it. Earlier
    versions of the recipe saw only the first ``seen_before`` callers.
    """
    if not callers or not site.code:
        return Handed()
    given = text_given(site, callers[0])
    works_on_names = _works_on_names(link, site)
    if works_on_names and given is not None and _LITERAL.search(given) is not None:
        why = "own code that works on what its caller's line spells out, so the caller counts too"
        return Handed(1, why, _SPELLS, min(1, seen_before))
    # Without parameters, callers further out are not considered: a line does not show whether its function got the value
    # as an argument.
    before = int(given is not None and bool(given.strip()) and _had_nothing(link, site))
    had_before = min(before, seen_before)
    if works_on_names and (depth := _spelled_out(site, callers)):
        why = "own code that works on what a line further out spells out, so its callers up to there count too"
        return Handed(depth, why, _SPELLS, had_before)
    depth = _who_handed_nothing(link, site, callers) if site.parameters else before
    if not depth:
        return Handed(callers_before=had_before)
    why = _HANDED_NOTHING
    if depth > 1:
        why = f"own code that was handed nothing where a value was due; {count_of(depth - 1, 'caller')} only handed it on, so the one before counts too"
    return Handed(depth, why, "it handed over what had no value", had_before, callers[depth - 1].nth_alike)


def passes_all_on(frame: Frame) -> bool:
    """Whether a frame's line passes on all arguments that its function got, as a decorator's does."""
    return _PASSES_ALL_ON.search(frame.code[:MOST_CODE]) is not None


def _who_handed_nothing(link: ChainLink, site: Frame, callers: Sequence[Frame]) -> int:
    """Return how many callers out a missing value was handed over first; 0 where the function made it itself."""
    names = [name for name in _without_value(link, site) if name in site.parameters]
    return _followed(names[0] if len(names) == 1 else "", site, callers)[0] if names else 0


def _spelled_out(site: Frame, callers: Sequence[Frame]) -> int:
    """Return how many callers out a line spells out, as a literal, the name that a function works on; 0 where none does."""
    for name in _bare_names(site.code):
        if name in site.parameters:
            depth, expression = _followed(name, site, callers)
            if _IS_LITERAL.fullmatch(expression) is not None:
                return depth
    return 0


def _followed(name: str, site: Frame, callers: Sequence[Frame]) -> tuple[int, str]:
    """Follow a parameter outwards, through each function that got it as an argument to the one that did not. Return how
    many callers that are, and the expression on the last one's line ('' where it does not show it).
    """
    frame, depth, last = site, 0, ""
    for place, caller in enumerate(callers, 1):
        expression = expression_for(name, frame, caller)
        if expression is None:
            if not passes_all_on(caller):
                break
            # A decorator: who called it called the function.
            continue
        depth, last = place, expression
        if expression not in caller.parameters:
            break
        frame, name = caller, expression
    return depth, last


def _without_value(link: ChainLink, site: Frame) -> list[str]:
    """Return the names on a line one of which had no value."""
    if plain_type(link.type) in _LOOK_UPS and link.message == "None":
        # Nothing is no key that somebody chose.
        return _LOOKED_UP.findall(site.code[:MOST_CODE])
    possible = possibly_missing(link.message, site.code)
    if possible:
        names = [what for what in possible if what.isidentifier()]
        # The object that a method is called on is there, unless nothing else is left.
        return _without_own_object(names) or names
    if _NOTHING.search(link.message[:MOST_CODE]) is None:
        return []
    return _without_own_object(_bare_names(site.code, called=_NOT_CALLABLE in link.message))


def _without_own_object(names: list[str]) -> list[str]:
    return [name for name in names if name not in ("self", "cls")]


def _bare_names(code: str, *, called: bool = False) -> list[str]:
    """Return the names on a line that are no attribute and have none taken of them; those that are called, or the others."""
    found = _BARE_NAME.finditer(code[:MOST_CODE])
    return list(dict.fromkeys(match["name"] for match in found if bool(match["called"]) == called))


def _works_on_names(link: ChainLink, site: Frame) -> bool:
    """Whether a line fails for a reason that is not written in it: a key or a text that is only a name there."""
    code = site.code.strip()[:MOST_CODE]
    if RAISES.match(code):
        return _SHOWS_A_NAME.search(code) is not None
    return plain_type(link.type) in _LOOK_UPS and _LOOKED_UP.search(code) is not None


def _had_nothing(link: ChainLink, site: Frame) -> bool:
    """Whether a bare name on the line had no value, or an expression whose origin the line does not show."""
    what = missing(link.message, site.code)
    return what.isidentifier() or (not what and _NOTHING.search(link.message[:MOST_CODE]) is not None)
