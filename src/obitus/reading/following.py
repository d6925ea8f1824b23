"""Reading files on as they grow, are replaced, emptied and removed."""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Final, Protocol

from obitus.reading.files import POLL_S
from obitus.reading.troubles import ReadingTrouble

REPLACED_S: Final = 60.0
"""A file that was replaced is read on until it has not grown for so long: programs go on writing to the one that they have open."""
FIND_S: Final = 5.0
"""Time between two looks for further files."""


class Growing(Protocol):
    """A file that is being read."""

    def on(self) -> bool:
        """Read what has come since, and return whether anything has; what may go on with the next line waits, for a while."""

    def end(self) -> None:
        """Make what waits: it is complete."""

    def close(self) -> None:
        """Read no more."""


@dataclass(slots=True)
class _Followed:
    """What is known of one name."""

    reading: Growing | None = None
    seen: tuple[int, int] | None = None
    """Which file it meant at the last look; None where there was none."""
    gone_s: float | None = None
    """Since when there is none."""
    is_said: bool = False
    """Whether it was said what keeps its file from being read."""


class Following:
    """Reads files as they grow. One that was replaced by a new one, or emptied, is read from its start.

    ``find`` returns the names of the files, of which there may be more later; raises ReadingTrouble. ``begin`` opens a file by its
    name, and returns None as long as it says nothing. ``say`` gets what keeps a file from being read, once.
    """

    def __init__(
        self, find: Callable[[], list[str]], begin: Callable[[str], Growing | None], say: Callable[[str], None]
    ) -> None:
        self._find, self._begin, self._say = find, begin, say
        self._followed: dict[str, _Followed] = {}
        self._replaced: list[tuple[Growing, float]] = []
        """Files that were replaced, and when each grew last."""
        self._found_s = time.monotonic()
        for name in find():
            self._add(name)

    def until(self, stop: Callable[[], bool]) -> None:
        """Go on until ``stop`` returns true."""
        while not stop():
            for name, followed in self._followed.items():
                self._look(name, followed)
            self._replaced = [later for file, grew_s in self._replaced if (later := _leave(file, grew_s))]
            if time.monotonic() - self._found_s >= FIND_S:
                self._find_more()
            time.sleep(POLL_S)

    def _find_more(self) -> None:
        self._found_s = time.monotonic()
        # Where nothing matches any more, something may again.
        with suppress(ReadingTrouble):
            for name in self._find():
                if name not in self._followed:
                    self._add(name)

    def _add(self, name: str) -> None:
        followed = self._followed[name] = _Followed(seen=_which(name))
        self._read(name, followed)

    def _read(self, name: str, followed: _Followed) -> None:
        """Begin to read the file that the name means now."""
        try:
            followed.reading = self._begin(name)
            followed.is_said = False
        except ReadingTrouble as error:
            # At the next look it may be there, or readable.
            followed.reading = None
            if not followed.is_said and Path(name).exists():
                followed.is_said = True
                self._say(str(error))

    def _look(self, name: str, followed: _Followed) -> None:
        before, now = followed.seen, _which(name)
        reading = followed.reading
        if reading is not None:
            reading.on()
        if now is None:
            # Renamed, and the next one is not there yet, or removed.
            followed.gone_s = followed.gone_s or time.monotonic()
            if reading is not None and time.monotonic() - followed.gone_s >= REPLACED_S:
                reading.end()
                reading.close()
                followed.reading = followed.seen = None
            return
        followed.gone_s = None
        is_another = before is not None and (now[0] != before[0] or now[1] < before[1])
        if reading is None or is_another:
            if reading is not None:
                self._replaced.append((reading, time.monotonic()))
            self._read(name, followed)
        followed.seen = now


def _leave(file: Growing, grew_s: float) -> tuple[Growing, float] | None:
    """Read a replaced file on; return it with when it grew last, or None when it is done."""
    now_s = time.monotonic()
    if file.on():
        return file, now_s
    if now_s - grew_s < REPLACED_S:
        return file, grew_s
    file.end()
    file.close()
    return None


def _which(name: str) -> tuple[int, int] | None:
    try:
        status = Path(name).stat()
    except OSError:
        return None
    return status.st_ino, status.st_size
