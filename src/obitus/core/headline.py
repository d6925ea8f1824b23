"""The title of an issue: the outer type, its cause, and the place of the fault."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from obitus.core.frames import ChainLink
from obitus.core.grouping.fault import Fault, locate


@dataclass(frozen=True, slots=True)
class Headline:
    """Type, cause (``""`` when it is the same) and place (``""`` when there is no frame) of an exception chain."""

    type: str
    cause: str
    place: str

    @property
    def title(self) -> str:
        """The issue's title: ``FareUnknown, from KeyError in sailings.fares.surcharge``."""
        cause = f", from {self.cause.rpartition('.')[2]}" if self.cause else ""
        place = f" in {self.place}" if self.place else ""
        return f"{self.type.rpartition('.')[2]}{cause}{place}"


def headline_of(chain: Sequence[ChainLink], fault: Fault | None = None) -> Headline:
    """Return the headline of a chain, given from the outermost exception to its root cause."""
    located = fault or locate(chain)
    # A member of a group does not replace the group's own name; a cause is named.
    behind = located.link.relation in ("cause", "context") and located.link.type != chain[0].type
    return Headline(chain[0].type, located.link.type if behind else "", located.site.place if located.site else "")
