"""A cache of reporting keys: each request is checked for its key."""

from __future__ import annotations

from collections import OrderedDict
from threading import Lock
from typing import Final

from obitus.store import apps
from obitus.store.database import Reader
from obitus.store.rows.apps import KnownKey

MOST_KNOWN: Final = 5000


class KnownKeys:
    """Reporting keys by the hashes of their secrets. Unknown keys are not cached: strangers would fill it. Safe to
    use from several threads. Changes of keys call ``forget`` once they are committed.
    """

    def __init__(self, reader: Reader) -> None:
        self._reader = reader
        self._known: OrderedDict[bytes, KnownKey] = OrderedDict()
        self._changes = 0
        self._lock = Lock()

    def known(self, key_hash: bytes) -> KnownKey | None:
        """Return a cached key; None where it is not cached."""
        with self._lock:
            key = self._known.get(key_hash)
            if key is not None:
                self._known.move_to_end(key_hash)
            return key

    def find(self, key_hash: bytes) -> KnownKey | None:
        """Return a key, revoked or not; None when there is none."""
        key = self.known(key_hash)
        if key is not None:
            return key
        changes = self._changes
        key = apps.key_with(self._reader, key_hash)
        with self._lock:
            # A key read before a change is not cached after it.
            if key is not None and changes == self._changes:
                self._known[key_hash] = key
                while len(self._known) > MOST_KNOWN:
                    self._known.popitem(last=False)
        return key

    def forget(self) -> None:
        """Clear the cache."""
        with self._lock:
            self._changes += 1
            self._known.clear()
