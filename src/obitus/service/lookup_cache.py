"""A cache of what the records say about a secret: each request comes with one."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable
from threading import Lock
from typing import Final, Generic, TypeVar

MOST_KNOWN: Final = 5000

Key = TypeVar("Key", bound=Hashable)
Value = TypeVar("Value")


class Known(Generic[Key, Value]):
    """What ``read`` returned, by its argument. Unknown ones, for which it returns None, are not cached: strangers would fill it.
    Safe to use from several threads. ``forget`` is to be called after each commit that changes what is read, as by ``Writer.call_after``.
    """

    def __init__(self, read: Callable[[Key], Value | None]) -> None:
        self._read = read
        self._known: OrderedDict[Key, Value] = OrderedDict()
        self._changes = 0
        self._lock = Lock()

    def known(self, key: Key) -> Value | None:
        """Return what is cached; None where nothing is."""
        with self._lock:
            value = self._known.get(key)
            if value is not None:
                self._known.move_to_end(key)
            return value

    def read(self, key: Key) -> Value | None:
        """Read it again, and cache it; None when there is none."""
        changes = self._changes
        value = self._read(key)
        with self._lock:
            if value is None:
                self._known.pop(key, None)
            # What was read before a change is not cached after it.
            elif changes == self._changes:
                self._known[key] = value
                while len(self._known) > MOST_KNOWN:
                    self._known.popitem(last=False)
        return value

    def find(self, key: Key) -> Value | None:
        """Return what is cached, or else read it; None when there is none."""
        value = self.known(key)
        return self.read(key) if value is None else value

    def forget(self) -> None:
        """Clear the cache."""
        with self._lock:
            self._changes += 1
            self._known.clear()
