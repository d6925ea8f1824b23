"""The positions up to which files were read."""

from __future__ import annotations

import hashlib
import os
from contextlib import suppress
from pathlib import Path
from typing import Final, NamedTuple

from obitus.reading.homes import folder_of

HEAD_BYTES: Final = 1024
"""The number of first bytes by which a file is recognised."""


class _Mark(NamedTuple):
    place: int
    known: str
    """What identifies the file by all of its first bytes that were there then."""


class Marks:
    """The position in each file, by its first bytes and the service; stored with the user's other state.

    Each position is a file of its own: several commands that read at once do not undo each other's.
    """

    def __init__(self, target: str) -> None:
        # Where there is no place for them, the same lines are sent again next time, with the same ids.
        root = folder_of("XDG_STATE_HOME", ".local/state") or Path(os.devnull)
        self._folder = root / "obitus" / f"read-{hashlib.blake2b(target.encode(), digest_size=8).hexdigest()}"
        try:
            known = os.listdir(self._folder)  # noqa: PTH208 - names are all that is needed
        except OSError:
            known = []
        self._short = {int(length) for _, _, length in (name.partition(".") for name in known) if length.isdigit()}
        """Lengths of the files that were shorter than what they are recognised by."""
        self._known: dict[str, _Mark] = {}

    def identity_of(self, head: bytes) -> str:
        """Return the key of a file: its first bytes; of a file that was shorter at the first reading, those of then."""
        for length in sorted(self._short):
            if length < len(head):
                identity = _identity(head[:length])
                mark = self._mark(identity)
                # Files that merely begin alike are others.
                if mark is not None and _begins_so(head, mark.known):
                    return identity
        return _identity(head)

    def place_of(self, identity: str, size: int) -> int:
        """Return where to continue; a file that is shorter now is another one."""
        mark = self._mark(identity)
        return mark.place if mark is not None and 0 <= mark.place <= size else 0

    def _mark(self, identity: str) -> _Mark | None:
        if identity not in self._known:
            try:
                place, _, known = (self._folder / identity).read_text("ascii").partition(" ")
                self._known[identity] = _Mark(int(place), known)
            except (OSError, ValueError):
                return None
        return self._known[identity]

    def set(self, identity: str, place: int, head: bytes) -> None:
        """Store the position in a file, where it has changed; the one before is replaced in one step. ``head``: its first
        bytes now, which distinguish a file that was shorter at the first reading from others that begin alike.
        """
        _, _, length = identity.partition(".")
        if length == "0":
            # All files begin like an empty one.
            return
        mark = _Mark(place, _identity(head))
        if self._known.get(identity) == mark:
            return
        self._known[identity] = mark
        if length:
            self._short.add(int(length))
        beside = self._folder / f"{identity}-{os.getpid()}"
        with suppress(OSError):
            self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            beside.write_text(f"{mark.place} {mark.known}", "ascii")
            beside.replace(self._folder / identity)


def _begins_so(head: bytes, known: str) -> bool:
    _, _, length = known.partition(".")
    count = int(length) if length.isdigit() else HEAD_BYTES
    return len(head) >= count and _identity(head[:count]) == known


def _identity(head: bytes) -> str:
    hashed = hashlib.blake2b(head[:HEAD_BYTES], digest_size=10).hexdigest()
    return hashed if len(head) >= HEAD_BYTES else f"{hashed}.{len(head)}"
