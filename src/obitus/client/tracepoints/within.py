"""Tracepoints of one process as the rest of the client sees them."""

from __future__ import annotations

from obitus.client.base import Base
from obitus.client.capture import Capture
from obitus.client.open_runs import OpenRuns
from obitus.client.tracepoints.asking import Asking
from obitus.client.tracepoints.requested import Requested


class Tracepoints:
    """Made where the app allows them; ``environments`` are those in which it does, none for all."""

    def __init__(self, base: Base, capture: Capture, open_runs: OpenRuns, environments: tuple[str, ...]) -> None:
        self._base = base
        self.requested = Requested(base, capture, open_runs, environments)
        self._asking = Asking(base, self.requested)
        self.learn_from = self.requested.learn_from

    def turn(self, *, tick: bool) -> None:
        """On the client's own thread: do what is due; at each ``tick`` also ask."""
        requested = self.requested
        if tick or requested.is_due():
            requested.tend()
            if tick or requested.has_news:
                self._asking.tick()

    def end(self) -> None:
        """Remove everything."""
        self._asking.end()
        self.requested.end()

    def begin_in_child(self) -> None:
        """In a forked child: nothing is set until this process has asked for itself."""
        self._asking.forget()
        self.requested.begin_in_child()
        self._asking = Asking(self._base, self.requested)
