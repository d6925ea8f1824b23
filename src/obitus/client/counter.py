"""Counting from several threads and from signal handlers, without a lock."""

from __future__ import annotations

import itertools


class Counter:
    """A count: ``next(counter.count)`` adds one, in one step of the interpreter."""

    __slots__ = ("count", "id", "since_ms", "taken")

    def __init__(self) -> None:
        self.count = itertools.count()
        self.taken = 0
        self.id: str | None = None
        """The id of the report that will have the number, once it has one."""
        self.since_ms = 0

    @property
    def waiting(self) -> int:
        """The number counted and not taken yet."""
        # The only public way to read it without adding: ``count(5)``.
        return int(repr(self.count)[6:-1]) - self.taken
