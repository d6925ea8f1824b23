"""Counting from several threads, and from a signal handler that comes in between: no lock is taken."""

from __future__ import annotations

import itertools


class Counter:
    """How many there were of one kind: ``next(counter.count)`` counts one, in one step of the interpreter."""

    __slots__ = ("count", "id", "since_ms", "taken")

    def __init__(self) -> None:
        self.count = itertools.count()
        self.taken = 0
        self.id: str | None = None
        """Of the report that will say how many there were, once it has one."""
        self.since_ms = 0

    @property
    def waiting(self) -> int:
        """How many were counted and not taken yet."""
        # Its only public way to be looked at without being counted on: ``count(5)``.
        return int(repr(self.count)[6:-1]) - self.taken
