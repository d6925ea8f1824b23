"""Limits for concurrent senders, and reading their bodies. A body is read on the event loop; the work on it is done
on a thread where it is small, else in a worker process. Memory stays within the limits for any sender.
"""

from __future__ import annotations

import asyncio
import threading
import time
from collections import Counter
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from typing import Any, Final, TypeVar

from fastapi import Request
from starlette.requests import ClientDisconnect

from obitus.service.intake.inflating import whole
from obitus.service.problems import Problem
from obitus.service.settings import Limits
from obitus.service.threads import Threads

PEOPLE: Final = 0
"""The number under which signed-in people count at the gate, like the number of a key."""

MOST_KEYS: Final = 10_000
OTHERS_S: Final = 3.0
"""How recently a key must have sent to count as another sender."""
HEAVY: Final = 0.1
"""The part of its burst from which a key gives way to others."""
SECONDS_OF_A_BYTE: Final = 5e-9
SECONDS_OF_A_WRITE: Final = 0.001
"""Approximate cost of receiving a byte, and of writing a report."""
BODIES_AT_ONCE: Final = 4
"""Small bodies that are processed at the same time: they share one interpreter."""

Result = TypeVar("Result")


class Gate:
    """Counts requests and bytes that are being read, over all senders. Each key may have a part of them: the rest is for others."""

    def __init__(self, limits: Limits) -> None:
        self._limits = limits
        self._requests: Counter[int] = Counter()
        self._bytes: Counter[int] = Counter()
        self._lanes: dict[int, asyncio.Semaphore] = {}
        self._spent: dict[int, tuple[float, float]] = {}
        """By key: seconds of work that are not paid back yet, and when that was computed."""
        self._reckoning = threading.Lock()
        self.threads = Threads(BODIES_AT_ONCE, "obitus-bodies")
        """Threads for looking up keys, and for small bodies."""

    @property
    def requests(self) -> int:
        """The number of requests that are being read or processed."""
        return sum(self._requests.values())

    @property
    def bytes(self) -> int:
        """How many bytes they hold."""
        return sum(self._bytes.values())

    @asynccontextmanager
    async def entered(self, key: int) -> AsyncIterator[Pass]:
        """Admit one more request of a key, or answer 429."""
        limits = self._limits
        if self._requests[key] >= limits.in_flight_requests_of_a_key or self.requests >= limits.in_flight_requests:
            raise _too_busy("senders")
        owed_s = self.spend(key, 0.0)
        if owed_s > limits.burst_seconds and self._others_send(key):
            wait_s = min(30, 1 + int((owed_s - limits.burst_seconds) / limits.share_of_a_key))
            advice = f"This key used more than its share of the service's work, and others send too. Send again in {wait_s} s."
            raise Problem("too-busy", advice, retry_after_s=wait_s)
        self._requests[key] += 1
        turn = Pass(self, key)
        try:
            yield turn
        finally:
            self._bytes[key] -= turn.bytes
            self._requests[key] -= 1
            if not self._requests[key]:
                del self._requests[key], self._bytes[key]
                self._lanes.pop(key, None)

    def add(self, held: Pass, count: int) -> None:
        """Count bytes held in memory, or answer 429."""
        limits = self._limits
        of_key = self._bytes[held.key] + count
        if of_key > limits.in_flight_bytes_of_a_key or self.bytes + count > limits.in_flight_bytes:
            raise _too_busy("bytes")
        self._bytes[held.key] = of_key
        held.bytes += count

    def spend(self, key: int, seconds: float) -> float:
        """Count work that was done for a key; return how much of its work is not paid back."""
        now_s = time.monotonic()
        with self._reckoning:
            owed_s, then_s = self._spent.pop(key, (0.0, now_s))
            owed_s = max(0.0, owed_s - (now_s - then_s) * self._limits.share_of_a_key) + seconds
            self._spent[key] = (owed_s, now_s)
            if len(self._spent) > MOST_KEYS:
                del self._spent[next(iter(self._spent))]
        return owed_s

    def is_heavy(self, key: int) -> bool:
        """Whether a key has had much of the work lately, and others send too."""
        owed_s, _ = self._spent.get(key, (0.0, 0.0))
        return owed_s > self._limits.burst_seconds * HEAVY and self._others_send(key)

    def _others_send(self, key: int) -> bool:
        since_s = time.monotonic() - OTHERS_S
        return any(other != key and then_s > since_s for other, (_, then_s) in list(self._spent.items()))

    def lane(self, key: int) -> asyncio.Semaphore:
        """Return the semaphore of a key's concurrent work."""
        return self._lanes.setdefault(key, asyncio.Semaphore(self._limits.at_work_of_a_key))


class Pass:
    """The share of one request."""

    def __init__(self, gate: Gate, key: int) -> None:
        self._gate, self.key = gate, key
        self.bytes = 0
        self.sent = 0
        """Received bytes that are not counted for the day yet."""

    def add(self, count: int) -> None:
        """Count bytes held in memory, or answer 429."""
        self._gate.add(self, count)

    @property
    def lane(self) -> asyncio.Semaphore:
        """Held while a worker thread works for this request."""
        return self._gate.lane(self.key)

    async def work(self, act: Callable[..., Result], *given: Any) -> Result:
        """Call a function on a worker thread, and count its CPU time."""

        def counted() -> tuple[Result, float]:
            began_s = time.thread_time()
            return act(*given), time.thread_time() - began_s

        result, took_s = await self._gate.threads.do(counted)
        self.spend(took_s)
        return result

    @property
    def is_heavy(self) -> bool:
        """Whether this key has had much of the work lately, and others send too."""
        return self._gate.is_heavy(self.key)

    def spend(self, seconds: float) -> None:
        """Count work that was done elsewhere for this request."""
        self._gate.spend(self.key, seconds)


async def read_whole(request: Request, limits: Limits, held: Pass) -> bytes:
    """Read a request's body in one piece, inflated; raises the problem that ended it early."""
    raw, problem = await gather(request, limits, held)
    if problem is not None:
        raise problem
    async with held.lane:
        body = await held.work(whole, raw, request.headers.get("content-encoding", ""), limits)
    held.add(len(body))
    return body


async def gather(request: Request, limits: Limits, held: Pass) -> tuple[list[bytes], Problem | None]:
    """Return the pieces of a body as they came, and the problem that ended it early."""
    pieces: list[bytes] = []
    received = 0
    most = f"A body may have up to {limits.body_bytes:,} bytes. Send smaller batches."
    try:
        announced = request.headers.get("content-length", "")
        if announced.isdigit() and int(announced) > limits.body_bytes:
            raise Problem("body-too-large", most)
        async for chunk in request.stream():
            received += len(chunk)
            if received > limits.body_bytes:
                raise Problem("body-too-large", most)
            held.add(len(chunk))
            held.sent += len(chunk)
            held.spend(len(chunk) * SECONDS_OF_A_BYTE)
            pieces.append(chunk)
    except Problem as problem:
        return pieces, problem
    except ClientDisconnect:
        return pieces, Problem("body-cut-off", "The connection ended before the body did. Send it again, whole.")
    return pieces, None


def _too_busy(what: str) -> Problem:
    return Problem("too-busy", f"Too many {what} at once. Send again in a second.", retry_after_s=1)
