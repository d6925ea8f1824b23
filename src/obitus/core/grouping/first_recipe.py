"""What decides which issue a failure belongs to.

The recipe, version 1: the exception types of the chain, and of each exception the own frames' module and function
(library frames where it has no own ones). Line numbers stay out, so that an edit above the fault does not make a new
issue. A recursion counts once. The message counts only when there is not a single frame, or when the app said it
itself and nothing was raised. Every part says why.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

from obitus.core.frames import ChainLink, Frame

VERSION: Final = 1
MOST_PARTS_SHOWN: Final = 60
SAID: Final = "Said"
"""The type of a failure that the app itself reported, with no exception."""

_RECURSION_TYPES: Final = frozenset({"RecursionError", "StackOverflowError", "StackOverflowException"})
_ENDLESS: Final = 3
_CHANGING = re.compile(
    r"[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}"
    r"|0x[0-9a-fA-F]+|\b[0-9a-fA-F]{12,}\b|\d+"
)


@dataclass(frozen=True, slots=True)
class Part:
    """One thing that was looked at: what it is, its value, whether it counted, and why."""

    kind: str
    value: str
    counted: bool
    reason: str


@dataclass(frozen=True, slots=True)
class Fingerprint:
    """The decision: equal ``text`` in one app means one issue. ``parts`` explain it."""

    text: str
    parts: tuple[Part, ...]


def fingerprint(chain: Sequence[ChainLink]) -> Fingerprint:
    """Return the fingerprint of an exception chain, given from the outermost exception to its root cause."""
    parts: list[Part] = []
    frameless = not any(link.frames for link in chain)
    for position, link in enumerate(chain):
        parts.append(Part("type", link.type, counted=True, reason=_type_reason(position, link, len(chain))))
        parts.extend(_frame_parts(link))
        if link.message:
            parts.append(_message_part(link.message, frameless=frameless, said=link.type == SAID))
    hashed = hashlib.sha256(f"obitus fingerprint {VERSION}".encode())
    for part in parts:
        if part.counted:
            hashed.update(f"\0{part.kind}\0{part.value}".encode("utf-8", "surrogatepass"))
    return Fingerprint(f"{VERSION}-{hashed.hexdigest()[:32]}", _shorten(parts))


def normalise_message(message: str) -> str:
    """Replace what changes from one failure to the next (numbers, hexadecimal ids, UUIDs) by ``#``."""
    return _CHANGING.sub("#", message)[:500]


def place_of_fault(chain: Sequence[ChainLink]) -> Frame | None:
    """Return the frame people look at first: the innermost own frame of the root cause, else of who wrapped it."""
    for link in reversed(chain):
        for frame in reversed(link.frames):
            if frame.own:
                return frame
    return next((link.frames[-1] for link in reversed(chain) if link.frames), None)


def _type_reason(position: int, link: ChainLink, length: int) -> str:
    if length == 1:
        return "the type of the exception"
    if position == 0:
        return "the type of the exception that came out"
    if link.relation == "member":
        return "the type of a member of the exception group"
    return "the type of the root cause" if position == length - 1 else "the type of an exception in between"


def _frame_parts(link: ChainLink) -> list[Part]:
    own = [frame for frame in link.frames if frame.own]
    counting = own or list(link.frames)
    reason = (
        "own code on the stack; the line is left out, since it moves with every edit"
        if own
        else "library code, since there is no own code on this stack; the line is left out"
    )
    places, folded = _collapse([frame.place for frame in counting], endless=_short(link.type) in _RECURSION_TYPES)
    parts = [Part("frame", place, counted=True, reason=reason) for place in places]
    if folded:
        parts.append(Part("recursion", f"{folded} repeated calls", counted=False, reason="a recursion counts once"))
    left_out = len(link.frames) - len(counting)
    if left_out:
        parts.append(
            Part(
                "frame",
                f"{left_out} library {'frame' if left_out == 1 else 'frames'}",
                counted=False,
                reason="library code does not count where there is own code",
            )
        )
    return parts


def _collapse(places: list[str], *, endless: bool) -> tuple[list[str], int]:
    """Keep each place once, where it stands last, and say how many were folded away.

    Where an endless recursion hits its limit is chance: then the frames after the cycle are dropped, and the cycle
    is turned so that it starts with the place that was entered first.
    """
    if endless:
        counts: dict[str, int] = {}
        for place in places:
            counts[place] = counts.get(place, 0) + 1
        cycle = {place for place, seen in counts.items() if seen >= _ENDLESS}
        if cycle:
            first = next(i for i, place in enumerate(places) if place in cycle)
            kept = list(dict.fromkeys([*places[:first], *(p for p in places[first:] if p in cycle)]))
            return kept, len(places) - len(kept)
    kept = list(dict.fromkeys(reversed(places)))[::-1]
    return kept, len(places) - len(kept)


def _message_part(message: str, *, frameless: bool, said: bool) -> Part:
    if frameless or said:
        reason = (
            "the app said this, nothing was raised: the words tell what it is; numbers and ids in them do not"
            if said
            else "there are no frames, so the message decides; numbers and ids in it do not"
        )
        return Part("message", normalise_message(message), counted=True, reason=reason)
    reason = "left out: the stack says where it failed, and messages carry values that change"
    return Part("message", message[:200], counted=False, reason=reason)


def _shorten(parts: list[Part]) -> tuple[Part, ...]:
    """Bound what is kept to explain a decision; everything took part in the hash all the same."""
    if len(parts) <= MOST_PARTS_SHOWN:
        return tuple(parts)
    half = MOST_PARTS_SHOWN // 2
    hidden = len(parts) - 2 * half
    gap = Part("more", f"{hidden} more parts", counted=True, reason="not listed, to keep this readable")
    return (*parts[:half], gap, *parts[-half:])


def _short(type_name: str) -> str:
    return type_name.rpartition(".")[2]
