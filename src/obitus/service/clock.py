"""The service's time: the system's clock, unless that jumps and senders' clocks do not."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable
from typing import Final

from obitus.core.clock import to_text
from obitus.service.settings import system_clock_ms

FOLLOWED_MS: Final = 2000
"""The largest step of a clock that is corrected gradually."""
NEAR_MS: Final = 60_000
"""How near a sender's clock has to be to confirm one of two times."""
WAIT_MS: Final = 10 * 60_000
"""How long after a jump the previous time is kept, unless a sender's clock agrees with the new one."""

_log = logging.getLogger("obitus.service")


def running_ms() -> int:
    """Return how long the machine has been running, in milliseconds, sleep included where the system counts it."""
    clock = getattr(time, "CLOCK_BOOTTIME", None)
    return int((time.monotonic() if clock is None else time.clock_gettime(clock)) * 1000)


class SteadyClock:
    """Keeps the previous time after the system's clock has jumped, until it is clear which of the two times is
    right. A sender whose own clock agrees with one of them decides; without any the new time counts after ten
    minutes.
    Safe to use from several threads.
    """

    def __init__(self, wall_ms: Callable[[], int] = system_clock_ms, running: Callable[[], int] = running_ms) -> None:
        self._wall_ms, self._running_ms = wall_ms, running
        self._lock = threading.Lock()
        self._right_ms, self._at_ms = wall_ms(), running()
        self._jumped_ms: int | None = None
        """When, by the monotonic clock, the jump was first seen, or a sender contradicted the new time."""

    def __call__(self) -> int:
        """Return the Unix time in milliseconds."""
        with self._lock:
            wall_ms, at_ms = self._wall_ms(), self._running_ms()
            counted_ms = self._right_ms + at_ms - self._at_ms
            if abs(wall_ms - counted_ms) <= FOLLOWED_MS:
                return self._follow(wall_ms, at_ms)
            if self._jumped_ms is None:
                self._jumped_ms = at_ms
                _log.warning(
                    "the system's clock jumped from %s to %s; until a sender's clock agrees with it, the service keeps its previous time",
                    to_text(counted_ms), to_text(wall_ms),
                )  # fmt: skip
            if at_ms - self._jumped_ms > WAIT_MS:
                return self._follow(wall_ms, at_ms)
            return counted_ms

    def note_sender(self, theirs_ms: int) -> None:
        """Note the time of a sender's clock."""
        counted_ms = self()
        with self._lock:
            if self._jumped_ms is None:
                return
            if abs(theirs_ms - counted_ms) <= NEAR_MS:
                self._jumped_ms = self._running_ms()
            elif abs(theirs_ms - self._wall_ms()) <= NEAR_MS:
                self._follow(self._wall_ms(), self._running_ms())

    def _follow(self, wall_ms: int, at_ms: int) -> int:
        self._right_ms, self._at_ms, self._jumped_ms = wall_ms, at_ms, None
        return wall_ms


class Clock:
    """The time for all parts of one service."""

    def __init__(self, clock_ms: Callable[[], int]) -> None:
        self._steady = SteadyClock() if clock_ms is system_clock_ms else None
        self._clock_ms = self._steady or clock_ms

    def now_ms(self) -> int:
        """Return the time, Unix milliseconds."""
        return self._clock_ms()

    def note_sender(self, theirs_ms: int) -> None:
        """Note the time of a sender's clock: after a jump it decides which time is right."""
        if self._steady is not None:
            self._steady.note_sender(theirs_ms)
