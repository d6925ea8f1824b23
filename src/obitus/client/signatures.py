"""What a function's code object tells about its parameters: their names and kinds, and which of them it assigns."""

from __future__ import annotations

import opcode
from functools import lru_cache
from types import CodeType
from typing import Final

from obitus.core.bounds import PARAMETERS, short

# Of code objects (docs.python.org, inspect, "Code Objects Bit Flags").
_VARARGS, _VARKEYWORDS = 0x04, 0x08


def parameters_of(code: CodeType) -> list[tuple[str, str]]:
    """Return the names of a function's parameters, each with its kind."""
    names, plain, keyword = code.co_varnames, code.co_argcount, code.co_kwonlyargcount
    parameters = [
        (name, "positional" if at < code.co_posonlyargcount else "plain") for at, name in enumerate(names[:plain])
    ]
    rest = plain + keyword
    if code.co_flags & _VARARGS:
        parameters.append((names[rest], "star"))
        rest += 1
    parameters += [(name, "keyword") for name in names[plain : plain + keyword]]
    if code.co_flags & _VARKEYWORDS:
        parameters.append((names[rest], "stars"))
    return parameters


def parameter_names(code: CodeType) -> list[str]:
    """Return the names of a function's parameters in their order, without ``*args`` and ``**options``."""
    # What a comprehension goes through is handed to it under a name that no code can use.
    names = [name for name, kind in parameters_of(code) if kind not in ("star", "stars") and name[:1] != "."]
    return [short(name) for name in names[:PARAMETERS]]


_STORES: Final = {
    number: name for name, number in opcode.opmap.items() if name.startswith(("STORE_FAST", "DELETE_FAST", "STORE_DEREF", "DELETE_DEREF"))
}  # fmt: skip
_EXTENDED: Final = opcode.opmap["EXTENDED_ARG"]


@lru_cache(maxsize=1000)
def reassigned(code: CodeType) -> frozenset[str]:
    """Return the names of the local variables that a function assigns, by its bytecode."""
    names_stored: set[str] = set()
    fast, cells = code.co_varnames, (*code.co_varnames, *code.co_cellvars, *code.co_freevars)
    # From 3.11 on, a parameter that is a cell keeps its place among the variables.
    cells = tuple(dict.fromkeys(cells))
    octets, more = code.co_code, 0
    for at in range(0, len(octets) - 1, 2):
        number, argument = octets[at], octets[at + 1] | more
        more = argument << 8 if number == _EXTENDED else 0
        name = _STORES.get(number)
        if name is None:
            continue
        if name == "STORE_FAST_LOAD_FAST":
            places = [argument >> 4]
        elif name == "STORE_FAST_STORE_FAST":
            places = [argument >> 4, argument & 15]
        else:
            places = [argument]
        names = cells if "DEREF" in name else fast
        names_stored.update(names[place] for place in places if place < len(names))
    return frozenset(names_stored)
