"""The recipe of version 1, kept for issues that it made: nothing new is grouped by it, and it gives no reasons. It
counted the exception types of the chain, and of each exception the own frames' module and function (library frames
where it has no own ones), a recursion once; the message only without a single frame, or where the app said it itself.
"""

from __future__ import annotations

import hashlib
import re
from collections import Counter
from collections.abc import Sequence
from typing import Final

from obitus.core.frames import ChainLink

_SAID: Final = "Reported message"
_RECURSION_TYPES: Final = frozenset({"RecursionError", "StackOverflowError", "StackOverflowException"})
_ENDLESS: Final = 3
_CHANGING = re.compile(
    r"[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}"
    r"|0x[0-9a-fA-F]+|\b[0-9a-fA-F]{12,}\b|\d+"
)


def fingerprint(chain: Sequence[ChainLink]) -> str:
    """Return the fingerprint of an exception chain, given from the outermost exception to its root cause."""
    hashed = hashlib.sha256(b"obitus fingerprint 1")

    def count(kind: str, value: str) -> None:
        hashed.update(f"\0{kind}\0{value}".encode("utf-8", "surrogatepass"))

    frameless = not any(link.frames for link in chain)
    for link in chain:
        count("type", link.type)
        for place in _places(link):
            count("frame", place)
        if link.message and (frameless or link.type == _SAID):
            count("message", _CHANGING.sub("#", link.message)[:500])
    return f"1-{hashed.hexdigest()[:32]}"


def _places(link: ChainLink) -> list[str]:
    """Return the places that count, each once, at its last occurrence. Where an endless recursion hits its limit is
    chance: then the frames after the cycle are dropped, and the cycle is rotated so that it starts with the place
    that was entered first.
    """
    places = [frame.place for frame in link.frames if frame.own] or [frame.place for frame in link.frames]
    if link.type.rpartition(".")[2] in _RECURSION_TYPES:
        cycle = {place for place, seen in Counter(places).items() if seen >= _ENDLESS}
        if cycle:
            first = next(i for i, place in enumerate(places) if place in cycle)
            return list(dict.fromkeys([*places[:first], *(place for place in places[first:] if place in cycle)]))
    return list(dict.fromkeys(reversed(places)))[::-1]
