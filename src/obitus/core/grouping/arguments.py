"""The arguments of a call as its line spells them out: which expression a caller handed over for which parameter."""

from __future__ import annotations

import re
from typing import Final

from obitus.core.frames import Frame
from obitus.core.grouping.names import last_name, plain_function

MOST_CODE: Final = 400
_KEYWORD = re.compile(r"(?P<name>[A-Za-z_]\w{0,100})\s*=(?!=)(?P<value>.*)", re.DOTALL)
_OPENING: Final = {"(": ")", "[": "]", "{": "}"}
_CONSTRUCTORS: Final = ("__init__", "__new__")


def text_given(site: Frame, caller: Frame) -> str | None:
    """Return the arguments in a caller's line; None where it does not call the function by its name. Where the call
    continues on the next line, its arguments are not known: then an ellipsis is returned.
    """
    begins = _begins(last_name(plain_function(site.function)), caller)
    if begins is None:
        return None
    code = caller.code[:MOST_CODE]
    return code[begins:].partition(")")[0] or ("…" if begins == len(code.rstrip()) else "")


def expression_for(parameter: str, site: Frame, caller: Frame) -> str | None:
    """Return the expression on a caller's line that becomes a parameter of the function it calls; '' where the line
    does not show it, None where it neither calls the function by its name nor makes an object of the class that it constructs.
    """
    begins = _call_in(site, caller)
    if begins is None:
        return None
    if parameter not in site.parameters:
        return ""
    given = _split(caller.code[begins:MOST_CODE])
    position = site.parameters.index(parameter) - _is_bound(site, caller.code[: begins - 1])
    for place, text in enumerate(given):
        keyword = _KEYWORD.fullmatch(text)
        if keyword is not None:
            if keyword["name"] == parameter:
                return keyword["value"].strip()
        elif text.startswith("*"):
            # What comes after it has no place that could be counted.
            position = -1
        elif place == position:
            return text
    return ""


def _call_in(site: Frame, caller: Frame) -> int | None:
    """Return where the arguments begin in a caller's line; None where it does not call the function."""
    name = last_name(plain_function(site.function))
    begins = _begins(name, caller)
    if begins is None and name in _CONSTRUCTORS:
        begins = _begins(last_name(plain_function(site.function).rpartition(".")[0]), caller)
    return begins


def _begins(name: str, caller: Frame) -> int | None:
    code = caller.code[:MOST_CODE]
    called = re.search(rf"(?<!\w){re.escape(name)}\(", code) if name else None
    return called.end() if called is not None else None


def _is_bound(site: Frame, before: str) -> bool:
    """Whether the first parameter is the object that a method is called on: then the line does not list it."""
    first = site.parameters[:1]
    if first not in (("self",), ("cls",)):
        return False
    owner, _, name = plain_function(site.function).rpartition(".")
    if first == ("self",) and owner and before.endswith(f"{last_name(owner)}.{name}"):
        # Called through its class, with the object as the first argument.
        return False
    return before.endswith(f".{name}") or name in _CONSTRUCTORS


def _split(text: str) -> list[str]:
    """Return the arguments of a call whose opening bracket is before the text, as far as the line has them."""
    arguments, begins, closing, quote = [], 0, list[str](), ""
    for at, sign in enumerate(text):
        if quote:
            quote = "" if sign == quote and text[at - 1] != "\\" else quote
        elif sign in "\"'":
            quote = sign
        elif sign in _OPENING:
            closing.append(_OPENING[sign])
        elif closing and sign == closing[-1]:
            closing.pop()
        elif not closing and sign in ",)":
            arguments.append(text[begins:at].strip())
            begins = at + 1
            if sign == ")":
                break
    return arguments if arguments != [""] else []
