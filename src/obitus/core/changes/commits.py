"""What is kept of a commit: names and places of what it touched, never source."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

Range = tuple[int, int]
"""First and last line touched, from 1, as the lines stand in the release; last = first - 1 where lines were only taken out before first."""


@dataclass(frozen=True, slots=True)
class Touched:
    """A file that a commit touched: its path in the release, the lines, and the names of functions, classes and constants."""

    path: str
    ranges: Sequence[Range] = ()
    names: Sequence[str] = ()


@dataclass(frozen=True, slots=True)
class LibraryChange:
    """A library whose version a lock file changed; ``before`` is empty for one that came, ``after`` for one that went."""

    name: str
    before: str
    after: str


@dataclass(frozen=True, slots=True)
class Commit:
    """One commit of a release. ``time_ms``: when its author made it, Unix milliseconds."""

    id: str
    time_ms: int
    author: str
    subject: str
    files: Sequence[Touched] = field(default_factory=tuple)
    libraries: Sequence[LibraryChange] = field(default_factory=tuple)
