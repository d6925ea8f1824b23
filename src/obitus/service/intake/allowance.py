"""Limits for pages: bodies and bytes, for each key and each address."""

from __future__ import annotations

import time
from collections import OrderedDict
from typing import Final


class Allowance:
    """Rates with bursts: bodies and bytes, by key and by address."""

    def __init__(self, bodies_a_second: float, bytes_a_second: float, burst_s: float, most: int = 10_000) -> None:
        self._rates, self._burst_s, self._most = (bodies_a_second, bytes_a_second), burst_s, most
        self._used: OrderedDict[str, tuple[float, float, float]] = OrderedDict()

    def owed_s(self, who: str) -> float:
        """Return for how many seconds a sender should wait before its next body, 0 where there is room."""
        return max(0.0, self._behind_s(*self._used_by(who, time.monotonic())) - self._burst_s)

    def take(self, who: str, size: int) -> float:
        """Count a body; return for how many seconds its sender should wait, 0 where there was room."""
        now_s = time.monotonic()
        bodies, sent = self._used_by(who, now_s)
        behind_s = self._behind_s(bodies, sent)
        if behind_s <= self._burst_s:
            bodies, sent = bodies + 1, sent + size
        self._used[who] = (bodies, sent, now_s)
        self._used.move_to_end(who)
        while len(self._used) > self._most:
            self._used.popitem(last=False)
        return max(0.0, behind_s - self._burst_s)

    def _used_by(self, who: str, now_s: float) -> tuple[float, float]:
        """Return how many bodies and bytes of a sender still count."""
        bodies, sent, then_s = self._used.get(who, (0.0, 0.0, now_s))
        passed_s = now_s - then_s
        return max(0.0, bodies - passed_s * self._rates[0]), max(0.0, sent - passed_s * self._rates[1])

    def _behind_s(self, bodies: float, sent: float) -> float:
        """Return how many seconds of the rate these correspond to."""
        return max(bodies / self._rates[0], sent / self._rates[1])


OF_ADDRESS: Final = (2.0, 100_000.0, 30.0)
"""Bodies and bytes a second of one address, and the seconds of its burst."""
OF_KEY: Final = (50.0, 2_000_000.0, 30.0)
