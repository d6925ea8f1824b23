"""Missing values: the expression on a failing line that was ``None`` (null, nil, undefined), where that is visible.
A function that returns nothing makes many lines fail, each in its own way, but the function is at fault. Where the
line shows the expression (``harbour.berth_of(vessel).pier``, ``row.columns[0]``), or the runtime names it, that is
better evidence than the line itself.
"""

from __future__ import annotations

import re
from typing import Final

from obitus.core.remembering import remembered

MOST_CODE: Final = 400
_ATTRIBUTE = re.compile(
    r"^'NoneType' object has no attribute '(?P<name>\w{1,100})'"
    r"|^Cannot (?:read|set) propert(?:y|ies) (?:of (?:undefined|null) \((?:reading|setting) '(?P<read>\w{1,100})'|'(?P<old>\w{1,100})' of (?:undefined|null))"
)
_OF_ITS_CLASS = re.compile(r"^type object 'NoneType' has no attribute '(?P<name>\w{1,100})'")
_CLASS_OF = re.compile(r"(?P<name>[\w.]{1,200})\.__class__|type\((?P<of>[\w.]{1,200})\)")
_SUBSCRIPT = re.compile(r"^'NoneType' object (?:is not subscriptable|does not support item (?:assignment|deletion))")
_CALL = re.compile(r"^'NoneType' object is not callable")
_ITERATED = re.compile(r"^(?:cannot unpack non-iterable NoneType object|'NoneType' object is not iterable)")
_SAID = re.compile(
    r"because (?:the return value of )?\"(?P<java>[^\"]{1,200})\" is null|(?:^|, )(?P<fox>[\w.$()\[\]]{1,200}) is (?:null|undefined)$"
)
_LOOPS = re.compile(
    r"^(?:async )?for\b[^=]{1,200}?\bin (?P<loop>.{1,200}):$|^[\w, ]{1,100}, ?\w{1,100} = (?P<unpacked>.{1,200})$"
)
_NAMES = re.compile(r"[A-Za-z_$][\w$]*")
_OPENING: Final = {")": "(", "]": "["}
# These return nothing on purpose: the line that does not check is at fault.
_MAY_GIVE_NOTHING: Final = frozenset(
    {"get", "getattr", "pop", "match", "search", "fullmatch", "find", "first", "next", "one_or_none", "scalar", "group",
     "getenv", "lookup", "querySelector", "getElementById", "closest", "firstOrNull", "fetchone", "poll", "peek"}
)  # fmt: skip


@remembered(4096)
def missing(message: str, code: str) -> str:
    """Return the expression without a value: ``berth_of()`` (a call), ``.columns`` (an attribute), ``berth`` (a name); ''
    where it is not visible."""
    possible = possibly_missing(message, code)
    # Several places of the line are possible: they have to be the same expression.
    return possible[0] if len(possible) == 1 else ""


def possibly_missing(message: str, code: str) -> list[str]:
    """Return all expressions one of which had no value, in the form of ``missing``."""
    match = _SAID.search(message[:MOST_CODE])
    if match is not None:
        return [_producer(match["java"] or match["fox"])]
    expressions = _candidates(message[:MOST_CODE], code.strip()[:MOST_CODE])
    return list(dict.fromkeys(_producer(expression) for expression in expressions))


def is_produced(expression: str) -> bool:
    """Whether an expression is a call or attribute that should have a value, and not one that may have none."""
    name = expression.strip(".()[]")
    return expression != name and len(name) > 2 and name not in _MAY_GIVE_NOTHING


def _candidates(message: str, code: str) -> list[str]:
    named = _ATTRIBUTE.match(message)
    if named is not None:
        name = named["name"] or named["read"] or named["old"]
        return [_before(code, at.start()) for at in re.finditer(rf"\.{re.escape(name)}(?!\w)", code)]
    named = _OF_ITS_CLASS.match(message)
    if named is not None:
        classes = [_before(code, at.start()) for at in re.finditer(rf"\.{re.escape(named['name'])}(?!\w)", code)]
        return [found["name"] or found["of"] for text in classes if (found := _CLASS_OF.fullmatch(text)) is not None]
    if _SUBSCRIPT.match(message):
        return [e for at, sign in enumerate(code) if sign == "[" and (e := _before(code, at))]
    if _CALL.match(message):
        return [e for at, sign in enumerate(code) if sign == "(" and (e := _before(code, at))]
    if _ITERATED.match(message):
        loop = _LOOPS.match(code)
        return [loop["loop"] or loop["unpacked"]] if loop is not None else []
    return []


def _before(code: str, at: int) -> str:
    """Return the expression that ends at a place: names, dots, and brackets with their content."""
    start = at
    while start > 0:
        sign = code[start - 1]
        if sign in _OPENING:
            opened = _opened(code, start - 1)
            if opened < 0:
                break
            start = opened
        elif sign.isalnum() or sign in "_$.":
            start -= 1
        else:
            break
    return code[start:at].lstrip(".")


def _opened(code: str, at: int) -> int:
    """Return the opening bracket of the one that closes at a place; -1 where there is none."""
    closing, opening = code[at], _OPENING[code[at]]
    deep = 0
    for place in range(at, -1, -1):
        deep += (code[place] == closing) - (code[place] == opening)
        if deep == 0:
            return place
    return -1


def _producer(expression: str) -> str:
    """Return the last step of an expression: a call with empty brackets, an attribute with its dot, a name as it is."""
    expression = expression.strip().removeprefix("await ").strip()
    ending = ""
    while expression and expression[-1] in _OPENING:
        ending = ending or ("()" if expression[-1] == ")" else "[]")
        opened = _opened(expression, len(expression) - 1)
        if opened < 0:
            return ""
        expression = expression[:opened]
    before, dot, name = expression.rpartition(".")
    if not _NAMES.fullmatch(name):
        return ""
    return name + ending if ending else ("." + name if dot and before else name)
