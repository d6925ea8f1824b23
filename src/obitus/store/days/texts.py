"""Repeated texts of a day file, stored once: names, templates, attributes that many records share. A text gets a
number when it comes a second time; the first time it is stored in its row. So a text that never repeats (such as a
message that an app passes as a template) costs nothing extra.
"""

from __future__ import annotations

import sqlite3
from hashlib import blake2b
from typing import Final

MOST_KNOWN: Final = 50_000
"""Numbers, and texts that came once, that are cached for one day file: some megabytes at most."""
LONGEST_KNOWN: Final = 2_000
NOTHING: Final = 0
"""The number of the empty text."""

_FIND = "SELECT id, text FROM texts WHERE hash = ?"
_ADD = "INSERT INTO texts (hash, text) VALUES (?, ?) RETURNING id"


def hash_of(text: str) -> int:
    """Return 63 bits of a text's hash (BLAKE2b), as SQLite keeps whole numbers."""
    return int.from_bytes(blake2b(text.encode("utf-8", "surrogatepass"), digest_size=8).digest(), "big") >> 1


class Texts:
    """The numbers of texts in a day file that is open for writing."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection
        self._known: dict[str, int] = {}
        self._came_once: set[int] = set()

    def number(self, text: str) -> int:
        """Return the number of a text, which gets one if it has none."""
        if not text:
            return NOTHING
        number = self._known.get(text)
        return self._looked_up(text, hash_of(text)) if number is None else number

    def number_if_it_repeats(self, text: str) -> int | None:
        """Return the number of a text that has come before, None for a new one."""
        if not text:
            return NOTHING
        number = self._known.get(text)
        if number is not None:
            return number
        if len(text) > LONGEST_KNOWN:
            return None
        key = hash_of(text)
        if key in self._came_once:
            self._came_once.discard(key)
            return self._looked_up(text, key)
        # After a start an earlier text may have a number already, or came once: then it is stored in its row once more.
        if len(self._came_once) >= MOST_KNOWN:
            self._came_once.clear()
        self._came_once.add(key)
        return None

    def forget(self) -> None:
        """Forget numbers: the transaction that assigned some of them was rolled back."""
        self._known.clear()
        self._came_once.clear()

    def _looked_up(self, text: str, key: int) -> int:
        # Two texts may share a hash: the texts are compared.
        number = next((row[0] for row in self._connection.execute(_FIND, (key,)) if row[1] == text), None)
        if number is None:
            number = int(self._connection.execute(_ADD, (key, text)).fetchone()[0])
        if len(self._known) >= MOST_KNOWN:
            self._known.clear()
        self._known[text] = int(number)
        return int(number)
