"""The client's housekeeping: a thread that wakes now and then, never on an app's path."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Final

from obitus.client.log import log, ours

TICK_S: Final = 0.5


class Keeper:
    """Calls ``tick`` every half second while there is something to look after. Started with the first run."""

    def __init__(self, tick: Callable[[], None], *, wanted: bool = True) -> None:
        self._tick = tick
        self._stopping = threading.Event()
        self._thread: threading.Thread | None = None
        self._said = False
        self.started = not wanted

    def start(self) -> None:
        """Start the thread."""
        self.started = True
        self._thread = threading.Thread(target=self._serve, name="obitus-client-keeper", daemon=True)
        try:
            self._thread.start()
        except RuntimeError:
            # The interpreter is shutting down and takes no more threads.
            self._thread = None

    def stop(self) -> None:
        """End the thread."""
        self._stopping.set()
        thread = self._thread
        if thread is not None and thread.is_alive() and thread is not threading.current_thread():
            thread.join(1.0)

    def _serve(self) -> None:
        ours.now = True
        while not self._stopping.wait(TICK_S):
            try:
                self._tick()
            except Exception as error:
                if not self._said:
                    self._said = True
                    log.warning("Obitus: housekeeping broke (%s: %s); it goes on.", type(error).__name__, error)
