"""Events go to the live stream as soon as they are committed, in order."""

from __future__ import annotations

import logging
import threading
from typing import Final

from obitus.service.live import Live
from obitus.store import events
from obitus.store.database import Reader
from obitus.store.writer import Writer

REST_S: Final = 0.02
"""Between two looks: however fast commits follow one another, looking for events takes little."""
_log = logging.getLogger("obitus.service")


class Telling:
    """Reads events behind the newest at its start. It keeps no position: who was away asks by the last number it saw."""

    def __init__(self, reader: Reader, writer: Writer, live: Live) -> None:
        self._reader, self._live = reader, live
        self._at = events.newest(reader)
        self._woken, self._stopping = threading.Event(), threading.Event()
        writer.committed = self._woken.set
        self._thread = threading.Thread(target=self._tell, name="obitus-telling", daemon=True)
        self._thread.start()

    def close(self) -> None:
        """Stop."""
        self._stopping.set()
        self._woken.set()
        self._thread.join()

    def _tell(self) -> None:
        while self._woken.wait() and not self._stopping.is_set():
            self._woken.clear()
            try:
                self._tell_new()
            except Exception:
                _log.exception("events could not be read; it will be tried again")
                self._woken.set()
                self._stopping.wait(1)
            self._stopping.wait(REST_S)

    def _tell_new(self) -> None:
        while found := events.after(self._reader, self._at):
            for event in found:
                self._live.publish_from_thread({"type": event.kind, **event.subject}, event.id)
            self._at = found[-1].id
