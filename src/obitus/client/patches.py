"""Replacing functions, and restoring them where the replacement is still in place."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

_ABSENT = object()


class Patches:
    """What was replaced, in order, so that it can be restored."""

    def __init__(self) -> None:
        self._done: list[tuple[Any, str, Any, Any]] = []

    def put(self, owner: Any, name: str, make: Callable[[Any], Any]) -> None:
        """Replace ``owner.name`` by what ``make`` returns for what is there now."""
        before = getattr(owner, name)
        # An inherited method is restored by removing ours, or the class would keep a copy of its parent's.
        held = owner.__dict__.get(name, _ABSENT) if isinstance(owner, type) else before
        after = make(before)
        setattr(owner, name, after)
        self._done.append((owner, name, held, after))

    def is_on_top(self, owner: Any, name: str) -> bool:
        """Whether the latest replacement is still in place."""
        for put_on, put_as, _, after in reversed(self._done):
            if put_on is owner and put_as == name:
                return getattr(owner, name, None) is after
        return True

    def remove(self) -> None:
        """Restore everything that is still ours; replacements on top of ours stay, and end up at the original."""
        for owner, name, original, after in reversed(self._done):
            current = owner.__dict__.get(name) if isinstance(owner, type) else getattr(owner, name, None)
            # Each access makes a new method object, which only compares equal.
            if current is after or (not isinstance(owner, type) and current == after):
                if original is _ABSENT:
                    delattr(owner, name)
                else:
                    setattr(owner, name, original)
        self._done.clear()
