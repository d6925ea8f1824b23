"""Whether a function failed on an argument: then the caller counts too, since each caller is a fault of its own.
Only what is constant decides: the type, and the lines of the function and of its callers. The value in the message
does not, so that one place is either a helper or not, for all arguments.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Final

from obitus.core.frames import ChainLink, Frame
from obitus.core.grouping.missing_values import missing
from obitus.core.grouping.names import last_name, plain_function, plain_type

MOST_CODE: Final = 400
RAISES: Final = re.compile(r"^(?:raise|throw|die|croak|confess|panic!|panic)\b|^[\w.]*raise_from\(|^[\w.]*reraise\(")
"""A line that raises on purpose, in any of the languages."""
_SHOWS_A_NAME = re.compile(r"[{%]|\.format\(|\(\s{0,20}[a-z_]\w{0,100}\s{0,20}\)")
_LOOKS_UP_BY_NAME = re.compile(r"\[[a-z_]\w{0,100}\]")
_LOOK_UPS: Final = frozenset({"KeyError", "IndexError"})
_LITERAL = re.compile(r"""["'][A-Za-z_][\w.-]{2,60}["']""")
_NOTHING = re.compile(r"\bNoneType\b|\bnot None\b")


def handed(link: ChainLink, site: Frame, callers: Sequence[Frame]) -> tuple[int, str]:
    """Return how many callers count, and why; 0 where the function failed by itself, or the lines do not show it."""
    if not callers or not site.code:
        return 0, ""
    given = _given(site, callers[0])
    if given is None:
        # The caller does not name the function: it calls one that it was given.
        return 0, ""
    if _works_on_names(link, site) and _LITERAL.search(given) is not None:
        return 1, "own code that works on what its caller's line spells out, so the caller counts too"
    if not given.strip() or not _had_nothing(link, site):
        # Callers further out are not considered: a line does not show whether its function got the value as an argument.
        return 0, ""
    return 1, "own code that was handed nothing where a value was due, so its caller counts too"


def _works_on_names(link: ChainLink, site: Frame) -> bool:
    """Whether a line fails for a reason that is not written in it: a key or a text that is only a name there."""
    code = site.code.strip()[:MOST_CODE]
    if RAISES.match(code):
        return _SHOWS_A_NAME.search(code) is not None
    return plain_type(link.type) in _LOOK_UPS and _LOOKS_UP_BY_NAME.search(code) is not None


def _had_nothing(link: ChainLink, site: Frame) -> bool:
    """Whether a bare name on the line had no value, or an expression whose origin the line does not show."""
    what = missing(link.message, site.code)
    return what.isidentifier() or (not what and _NOTHING.search(link.message[:MOST_CODE]) is not None)


def _given(site: Frame, caller: Frame) -> str | None:
    """Return the arguments in a caller's line; None where it does not call the function by its name. Where the call
    continues on the next line, its arguments are not known: then an ellipsis is returned.
    """
    name = last_name(plain_function(site.function))
    code = caller.code[:MOST_CODE]
    called = re.search(rf"(?<!\w){re.escape(name)}\(", code) if name else None
    if called is None:
        return None
    return code[called.end() :].partition(")")[0] or ("…" if called.end() == len(code.rstrip()) else "")
