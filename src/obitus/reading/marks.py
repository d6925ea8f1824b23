"""The positions up to which files were read."""

from __future__ import annotations

import hashlib
import json
import os
from pathlib import Path
from typing import Final

HEAD_BYTES: Final = 1024
"""The number of first bytes by which a file is recognised."""


class Marks:
    """The position in each file, by its first bytes and the service; stored with the user's other state."""

    def __init__(self, target: str) -> None:
        root = Path(os.environ.get("XDG_STATE_HOME") or Path.home() / ".local/state")
        self._path = root / "obitus" / f"read-{hashlib.blake2b(target.encode(), digest_size=8).hexdigest()}.json"
        try:
            self._places: dict[str, int] = json.loads(self._path.read_text("ascii"))
        except (OSError, ValueError):
            self._places = {}

    def identity_of(self, head: bytes) -> str:
        """Return the key of a file: its first bytes; of a file that was shorter at the first reading, those of then."""
        lengths = {
            int(length) for _, _, length in (identity.partition(".") for identity in self._places) if length.isdigit()
        }
        for length in sorted(lengths):
            if length < len(head) and (identity := _identity(head[:length])) in self._places:
                return identity
        return _identity(head)

    def place_of(self, identity: str, size: int) -> int:
        """Return where to continue; a file that is shorter now is another one."""
        place = self._places.get(identity, 0)
        return place if isinstance(place, int) and 0 <= place <= size else 0

    def set(self, identity: str, place: int) -> None:
        """Store the position in a file, where it has changed. The file of positions is replaced in one step."""
        if self._places.get(identity) == place:
            return
        self._places[identity] = place
        try:
            self._path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            beside = self._path.with_suffix(".new")
            beside.write_text(json.dumps(self._places), "ascii")
            beside.replace(self._path)
        except OSError:
            # Then the same lines are sent again next time, with the same ids.
            pass


def _identity(head: bytes) -> str:
    hashed = hashlib.blake2b(head, digest_size=10).hexdigest()
    return hashed if len(head) >= HEAD_BYTES else f"{hashed}.{len(head)}"
