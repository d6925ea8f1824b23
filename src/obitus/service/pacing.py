"""Spacing people's requests while reports come in: a few start at once, then one after the other, the addresses in
turn. A hundred that come together would run together: for a third of a second reports would wait for the event loop
behind all of them. Started a few milliseconds apart they take hardly longer, and reports are handled in between.
Who asks seldom does not wait behind those who ask all the time.
"""

from __future__ import annotations

import asyncio
from collections import OrderedDict, deque
from typing import Final

AT_ONCE: Final = 8
"""Requests that start at once: those of one page of the console."""
EVERY_S: Final = 0.005
"""Interval between further requests."""
LONGEST_S: Final = 1.0
"""Approximate time in which all waiting requests start: very many start closer together."""
SENDING_S: Final = 1.0
"""How long after the latest report requests are spaced."""
SELDOM_S: Final = AT_ONCE * EVERY_S
"""From which interval on an address asks seldom."""
MOST_ADDRESSES: Final = 1000


class Pace:
    """Starts requests. Used on the event loop alone."""

    def __init__(self) -> None:
        self._waiting: OrderedDict[str, deque[asyncio.Future[None]]] = OrderedDict()
        """By address; the next one first."""
        self._count = 0
        self._room, self._room_of_seldom = _Room(), _Room()
        self._started_s: OrderedDict[str, float] = OrderedDict()
        """When the latest request of an address started; the latest one last."""
        self._sent_s = -SENDING_S

    def sent(self) -> None:
        """A report has come."""
        self._sent_s = asyncio.get_running_loop().time()

    async def turn(self, address: str) -> None:
        """Wait until a request from an address may start: not at all where there are few, or no reports come."""
        loop = asyncio.get_running_loop()
        now_s = loop.time()
        at_once = not self._count and (self._room.take(now_s) or now_s - self._sent_s > SENDING_S)
        if at_once or (self._asks_seldom(address, now_s) and self._room_of_seldom.take(now_s)):
            self._starts(address, now_s)
            return
        if not self._count:
            loop.call_later(EVERY_S, self._next, loop)
        its_turn = loop.create_future()
        self._waiting.setdefault(address, deque()).append(its_turn)
        self._count += 1
        await its_turn

    def _asks_seldom(self, address: str, now_s: float) -> bool:
        return address not in self._waiting and now_s - self._started_s.get(address, -SELDOM_S) >= SELDOM_S

    def _starts(self, address: str, now_s: float) -> None:
        self._started_s[address] = now_s
        self._started_s.move_to_end(address)
        if len(self._started_s) > MOST_ADDRESSES:
            self._started_s.popitem(last=False)

    def _next(self, loop: asyncio.AbstractEventLoop) -> None:
        """Start the first request of the next address, and schedule the one after."""
        address, waiting = self._waiting.popitem(last=False)
        first = waiting.popleft()
        self._count -= 1
        if waiting:
            self._waiting[address] = waiting
        if not first.done():
            first.set_result(None)
        now_s = loop.time()
        self._starts(address, now_s)
        self._room.stop(now_s)
        if self._count:
            loop.call_later(min(EVERY_S, LONGEST_S / self._count), self._next, loop)


class _Room:
    """Room for a number of requests at once, of which one comes back after each interval."""

    def __init__(self) -> None:
        self._room = float(AT_ONCE)
        self._reckoned_s = 0.0

    def take(self, now_s: float) -> bool:
        """Whether there is room for one more, which is taken."""
        self._room = min(float(AT_ONCE), self._room + (now_s - self._reckoned_s) / EVERY_S)
        self._reckoned_s = now_s
        if self._room < 1:
            return False
        self._room -= 1
        return True

    def stop(self, now_s: float) -> None:
        """Count from now on what comes back: until now those who waited had it."""
        self._reckoned_s = now_s
