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
        """The module (or, without one, the file and its folder) and the function, as people name it.

        Not the whole path: where an app lies differs from host to host, and from deploy to deploy.
        """
        room = self.module or _short_path(self.file)
        return f"{room}.{self.function}" if room else self.function


@dataclass(frozen=True, slots=True)
class ChainLink:
    """One exception of a chain; ``frames`` run from the outermost call to the place of the raise."""

    type: str
    message: str = ""
    frames: Sequence[Frame] = field(default_factory=tuple)
    relation: str | None = None


def _short_path(file: str) -> str:
    """Return a file's name with its folder; a folder with a digit in it may be a version, and is left out."""
    folder, slash, name = file.partition("?")[0].replace("\\", "/").rpartition("/")
    last = folder.rpartition("/")[2]
    return f"{last}/{name}" if slash and last and not any(sign.isdigit() for sign in last) else name


def looks_like_library(file: str) -> bool:
    """Guess from a path whether it is library code, for senders that do not say."""
    return _LIBRARY_PLACE.search(file) is not None
