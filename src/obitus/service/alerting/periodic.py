"""Periodic work on a thread of its own, which survives errors of a turn."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable

from obitus.store.errors import StoreBusy, StoreTrouble

_log = logging.getLogger("obitus.service")


class Turns:
    """Takes a turn at the interval that ``every_s`` returns. ``waits`` is logged when the store has an error,
    ``broke`` at any other error; the next turn comes nevertheless.
    """

    def __init__(
        self, name: str, turn: Callable[[], None], every_s: Callable[[], float], *, waits: str, broke: str
    ) -> None:
        self._turn, self._every_s, self._waits, self._broke = turn, every_s, waits, broke
        self.stopping = threading.Event()
        self._thread = threading.Thread(target=self._serve, name=name, daemon=True)

    def start(self) -> None:
        """Start."""
        self._thread.start()

    def close(self) -> None:
        """Stop after the present turn."""
        self.stopping.set()
        if self._thread.is_alive():
            self._thread.join()

    def _serve(self) -> None:
        while not self.stopping.wait(self._every_s()):
            try:
                self._turn()
            except (StoreTrouble, StoreBusy) as error:
                _log.warning("%s: %s", self._waits, error)
            except Exception:
                _log.exception("%s; it will be tried again", self._broke)
