"""A commit as it is kept: names and places of its changes, never source."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

Range = tuple[int, int]
"""First and last line touched, from 1, by the numbering of the release; last = first - 1 where lines were only
removed before first."""


@dataclass(frozen=True, slots=True)
class Touched:
    """A file that a commit touched: its path in the release, the lines, and the names of functions, classes and constants."""

    path: str
    ranges: Sequence[Range] = ()
    names: Sequence[str] = ()


@dataclass(frozen=True, slots=True)
class LibraryChange:
    """A library whose version a lock file changed; ``before`` is empty for an added one, ``after`` for a removed one."""

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
