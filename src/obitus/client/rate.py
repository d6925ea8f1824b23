"""A bound on how often something is done: so many a second for long, with a burst beyond it."""

from __future__ import annotations

import threading
from collections.abc import Callable


class Rate:
    """A bucket of tokens that fills with time.

    Saying no takes no lock: an app whose every thread fails without pause must not queue up here.
    """

    def __init__(self, per_s: float, burst: float, timer: Callable[[], float]) -> None:
        self._per_s, self._burst, self._timer = per_s, burst, timer
        self._tokens = burst
        self._at_s = timer()
        self.closed_until_s = self._at_s
        """Until when the answer is no, by the timer."""
        self._lock = threading.Lock()

    def allows(self) -> bool:
        """Take a token; return whether there was one."""
        now_s = self._timer()
        if now_s < self.closed_until_s:
            return False
        if not self._lock.acquire(blocking=self._tokens >= 1):
            return False
        try:
            self._tokens = min(self._burst, self._tokens + max(0.0, now_s - self._at_s) * self._per_s)
            self._at_s = now_s
            if self._tokens < 1:
                self.closed_until_s = now_s + (1 - self._tokens) / self._per_s
                return False
            self._tokens -= 1
            return True
        finally:
            self._lock.release()
