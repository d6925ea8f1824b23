"""When people's requests begin while reports come in: a few at once, then one after the other, one address after the other.

A hundred that come together would be worked on together: for a third of a second, whatever a report waits for on the event
loop would stand behind all of them. Begun a few milliseconds apart they take hardly longer, and the report is done in between.
"""

from __future__ import annotations

import asyncio
from collections import OrderedDict, deque
from typing import Final

AT_ONCE: Final = 8
"""Requests that begin at once: what one page of the console asks for."""
EVERY_S: Final = 0.005
"""How far apart those begin that come beyond."""
LONGEST_S: Final = 1.0
"""In about which time all begin that wait: where there are very many, they begin closer together."""
SENDING_S: Final = 1.0
"""How long after the latest report it is held that reports come in."""


class Pace:
    """Lets requests begin. Used on the event loop alone."""

    def __init__(self) -> None:
        self._waiting: OrderedDict[str, deque[asyncio.Future[None]]] = OrderedDict()
        """By address; the one whose turn it is first."""
        self._count = 0
        self._room = float(AT_ONCE)
        self._reckoned_s = 0.0
        self._sent_s = -SENDING_S

    def sent(self) -> None:
        """Somebody sends reports."""
        self._sent_s = asyncio.get_running_loop().time()

    async def turn(self, address: str) -> None:
        """Wait until a request from an address may begin: not at all where few come, or nobody sends."""
        loop = asyncio.get_running_loop()
        now_s = loop.time()
        if not self._count:
            self._room = min(float(AT_ONCE), self._room + (now_s - self._reckoned_s) / EVERY_S)
            self._reckoned_s = now_s
            if self._room >= 1 or now_s - self._sent_s > SENDING_S:
                self._room = max(0.0, self._room - 1)
                return
            loop.call_later(EVERY_S, self._next, loop)
        its_turn = loop.create_future()
        self._waiting.setdefault(address, deque()).append(its_turn)
        self._count += 1
        await its_turn

    def _next(self, loop: asyncio.AbstractEventLoop) -> None:
        """Let the first request of the address begin whose turn it is, and have the next one begin after a while."""
        address, waiting = self._waiting.popitem(last=False)
        first = waiting.popleft()
        self._count -= 1
        if waiting:
            self._waiting[address] = waiting
        if not first.done():
            first.set_result(None)
        self._reckoned_s = loop.time()
        if self._count:
            loop.call_later(min(EVERY_S, LONGEST_S / self._count), self._next, loop)
