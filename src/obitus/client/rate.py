"""A limit on how often something is done: a rate per second, with a burst beyond it."""

from __future__ import annotations

from collections.abc import Callable


class Rate:
    """The generic cell rate algorithm (ITU-T I.371, annex A, virtual scheduling): the state is one moment.

    No lock: a signal handler may come in between and ask too. Threads that call it at the very same moment may get slightly more.
    """

    def __init__(self, per_s: float, burst: float, timer: Callable[[], float]) -> None:
        self._step_s = 1.0 / per_s
        self._ahead_s = max(0.0, (burst - 1.0)) / per_s
        self._timer = timer
        self._next_s = timer()
        self.closed_until_s = self._next_s
        """Until when nothing is left, by the timer."""

    def allows(self) -> bool:
        """Take one; return whether one was left."""
        now_s = self._timer()
        if now_s < self.closed_until_s:
            return False
        next_s = max(self._next_s, now_s) + self._step_s
        self._next_s = next_s
        # The one after this has to wait until then.
        self.closed_until_s = next_s - self._ahead_s
        return True
