"""Patience with those who are turned away again and again: what they get is little, and comes late."""

from __future__ import annotations

import asyncio
import time
from collections import OrderedDict
from typing import Final

from obitus.service.settings import Limits

MOST_ADDRESSES: Final = 10_000
"""Addresses that are remembered: those that were turned away last."""
WAIT_S: Final = 1.0
"""How much later an answer comes."""


class Patience:
    """How often each address was turned away lately, and how many answers are held back. Used on the event loop alone."""

    def __init__(self, limits: Limits) -> None:
        self._limits = limits
        self._turned_away: OrderedDict[str, tuple[float, float]] = OrderedDict()
        self.held_back = 0
        """Answers that wait."""

    def holds_back(self, address: str) -> bool:
        """Count that an address is turned away; return whether the answer has to wait, which ``let_go`` ends.

        It has to where the address has had more refusals than it should, but never for many at once.
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
        """An answer that was held back is given, or nobody waits for it any more."""
        self.held_back -= 1

    async def wait(self, address: str) -> None:
        """Hold an answer to an address back where it has to wait."""
        if self.holds_back(address):
            try:
                await asyncio.sleep(WAIT_S)
            finally:
                self.let_go()
