"""How much pages may send: bodies and bytes, of each key and of each address."""

from __future__ import annotations

import time
from collections import OrderedDict
from typing import Final


class Allowance:
    """So much may come from each, and for a while more at once: bodies and bytes, by key and by address."""

    def __init__(self, bodies_a_second: float, bytes_a_second: float, burst_s: float, most: int = 10_000) -> None:
        self._rates, self._burst_s, self._most = (bodies_a_second, bytes_a_second), burst_s, most
        self._used: OrderedDict[str, tuple[float, float, float]] = OrderedDict()

    def owed_s(self, who: str) -> float:
        """Return for how many seconds a sender should wait before its next body, 0 where there is room."""
        now_s = time.monotonic()
        bodies, sent, then_s = self._used.get(who, (0.0, 0.0, now_s))
        passed_s = now_s - then_s
        owed_s = max(bodies / self._rates[0], sent / self._rates[1]) - passed_s
        return max(0.0, owed_s - self._burst_s)

    def take(self, who: str, size: int) -> float:
        """Count a body; return for how many seconds its sender should wait, 0 where there was room."""
        now_s = time.monotonic()
        bodies, sent, then_s = self._used.pop(who, (0.0, 0.0, now_s))
        passed_s = now_s - then_s
        bodies = max(0.0, bodies - passed_s * self._rates[0])
        sent = max(0.0, sent - passed_s * self._rates[1])
        owed_s = max(bodies / self._rates[0], sent / self._rates[1])
        if owed_s <= self._burst_s:
            bodies, sent = bodies + 1, sent + size
        self._used[who] = (bodies, sent, now_s)
        while len(self._used) > self._most:
            self._used.popitem(last=False)
        return max(0.0, owed_s - self._burst_s)


OF_ADDRESS: Final = (2.0, 100_000.0, 30.0)
"""Bodies and bytes a second of one address, and for how many seconds of that it may send at once."""
OF_KEY: Final = (50.0, 2_000_000.0, 30.0)
