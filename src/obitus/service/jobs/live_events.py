"""Passes events on to the live stream as soon as they are committed, in order."""

from __future__ import annotations

from typing import ClassVar

from obitus.service.jobs.runner import Job
from obitus.service.live import Live
from obitus.store.events import Event


class Telling(Job):
    """Passes every event on to listening consoles. One that was away continues from the last number that it saw."""

    name: ClassVar = "telling"
    from_newest: ClassVar = True

    def __init__(self, live: Live) -> None:
        self._live = live

    def take(self, event: Event) -> None:
        """Publish it; listeners that have its number already are skipped."""
        self._live.publish_from_thread({"type": event.kind, **event.subject}, event.id)
