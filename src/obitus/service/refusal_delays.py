"""Delays for addresses that are refused again and again."""

from __future__ import annotations

import asyncio
import time
from collections import OrderedDict
from typing import Final

from obitus.service.settings import Limits

MOST_ADDRESSES: Final = 10_000
"""Number of addresses that are remembered, the latest refused ones."""
WAIT_S: Final = 1.0
"""The delay of an answer."""


class Patience:
    """Counts recent refusals of each address, and delayed answers. Used on the event loop alone."""

    def __init__(self, limits: Limits) -> None:
        self._limits = limits
        self._turned_away: OrderedDict[str, tuple[float, float]] = OrderedDict()
        self.held_back = 0
        """The number of delayed answers."""

    def holds_back(self, address: str) -> bool:
        """Count a refusal of an address; return whether the answer has to wait until ``let_go``. It has to where the
        address is beyond its limit of refusals, but not for too many answers at once.
        """
        now_s = time.monotonic()
        count, then_s = self._turned_away.pop(address, (0.0, now_s))
        count = max(0.0, count - (now_s - then_s) * self._limits.refusals_a_second) + 1
        self._turned_away[address] = (count, now_s)
        while len(self._turned_away) > MOST_ADDRESSES:
            self._turned_away.popitem(last=False)
        if count <= self._limits.refusals_at_once or self.held_back >= self._limits.connections // 4:
            return False
        self.held_back += 1
        return True

    def let_go(self) -> None:
        """A delayed answer was sent, or its connection is closed."""
        self.held_back -= 1

    async def wait(self, address: str) -> None:
        """Delay an answer to an address where it has to wait."""
        if self.holds_back(address):
            try:
                await asyncio.sleep(WAIT_S)
            finally:
                self.let_go()
