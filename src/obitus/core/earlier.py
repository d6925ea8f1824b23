"""Similar earlier issues: how similar another one is, and by what, so that what was done then can help now. Grouping
decides whether two failures are one fault; this decides whether the solution of one could help with the other. So
several parts have weights: the place and the type, the message, the entry point. The weights are a choice: only the
same function reaches ``ENOUGH`` alone.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

from obitus.core.grouping.messages import likeness, words_of
from obitus.core.grouping.recipe import Traits

ENOUGH: Final = 0.35
ALIKE: Final = 0.5
"""The likeness from which two messages count as similar (``grouping.messages.likeness``)."""
_FUNCTION, _ROOM, _TYPE, _MESSAGE, _POINT, _CALLERS = 0.4, 0.15, 0.2, 0.25, 0.2, 0.15


@dataclass(frozen=True, slots=True)
class Looks:
    """The properties of an issue that are compared."""

    type: str
    cause: str
    place: str
    """Module and function."""
    message: str
    """As a template, values left out."""
    entry_point: str
    traits: Traits | None = None


@dataclass(frozen=True, slots=True)
class Nearness:
    """How similar two issues are, from 0 to 1, and by what, the strongest first."""

    score: float
    reasons: tuple[str, ...]

    @property
    def is_enough(self) -> bool:
        """Whether it is worth showing."""
        return self.score >= ENOUGH


def nearness(one: Looks, other: Looks) -> Nearness:
    """Return how similar two issues are. Symmetric in both."""
    reasons: list[tuple[float, str]] = []
    if one.place and one.place == other.place:
        reasons.append((_FUNCTION, f"raised in the same function, {one.place}"))
    elif _room(one.place) and _room(one.place) == _room(other.place):
        reasons.append((_ROOM, f"raised in the same module, {_room(one.place)}"))
    kinds, others = {one.type, one.cause} - {""}, {other.type, other.cause} - {""}
    if same := sorted(kinds & others):
        reasons.append((_TYPE, f"the same type, {same[0]}"))
    alike = _alike(one.message, other.message)
    if alike >= ALIKE:
        reasons.append(
            (_MESSAGE * alike, "the same message" if alike == 1 else f"a message that is alike by {alike:.0%}")
        )
    if one.entry_point and one.entry_point == other.entry_point:
        reasons.append((_POINT, f"seen on the same entry point, {one.entry_point}"))
    if shared := _callers(one.traits) & _callers(other.traits):
        reasons.append((_CALLERS, f"called by the same function, {min(shared)}"))
    reasons.sort(key=lambda part: (-part[0], part[1]))
    return Nearness(min(1.0, sum(weight for weight, _ in reasons)), tuple(reason for _, reason in reasons))


def _alike(one: str, other: str) -> float:
    # Two messages without a word say nothing alike.
    return likeness(one, other) if words_of(one) and words_of(other) else 0.0


def _room(place: str) -> str:
    return place.rpartition(".")[0]


def _callers(traits: Traits | None) -> set[str]:
    return {name for name, _ in traits.callers if name} if traits is not None else set()
