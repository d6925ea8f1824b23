"""The frame model: one call on the stack, own code or library code. Standard library only: the client uses this too."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Final

_LIBRARY_PLACE = re.compile(
    r"[\\/](?:site-packages|dist-packages|node_modules|vendor)[\\/]"
    r"|[\\/]lib[\\/]python\d(?:\.\d+)?[\\/]"
    r"|^<frozen |^<string>$|^node:|[\\/]go[\\/]pkg[\\/]mod[\\/]"
)

RELATIONS: Final = ("cause", "context", "member")


@dataclass(frozen=True, slots=True)
class Frame:
    """One call: where it stands in the code, and whether that is the app's own code."""

    function: str
    module: str = ""
    file: str = ""
    line: int | None = None
    own: bool = True

    @property
    def place(self) -> str:
        """The module (or, without one, the file) and the function, as people name it."""
        room = self.module or self.file
        return f"{room}.{self.function}" if room else self.function


@dataclass(frozen=True, slots=True)
class ChainLink:
    """One exception of a chain; ``frames`` run from the outermost call to the place of the raise."""

    type: str
    message: str = ""
    frames: Sequence[Frame] = field(default_factory=tuple)
    relation: str | None = None


def looks_like_library(file: str) -> bool:
    """Guess from a path whether it is library code, for senders that do not say."""
    return _LIBRARY_PLACE.search(file) is not None
