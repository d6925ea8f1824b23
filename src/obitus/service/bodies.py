"""Reading a reporting body: bounded in bytes, time and inflated size, split into lines.

What comes in is gathered as it is on the event loop; inflating and splitting it is done by a worker thread, and never
costs more than in proportion to what came in. Whatever a sender does, memory stays within the limits.
"""

from __future__ import annotations

import asyncio
import threading
import time
import zlib
from collections import Counter
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from typing import Any, Final, TypeVar

import zstandard
from fastapi import Request
from starlette.requests import ClientDisconnect

from obitus.service.problems import Problem
from obitus.service.settings import MIB, Limits

PEOPLE: Final = 0
"""Stands at the gate for everybody who is signed in, as a key's number stands for its senders."""

MOST_KEYS: Final = 10_000
OTHERS_S: Final = 3.0
"""Who sent so lately counts as one who sends too."""
HEAVY: Final = 0.1
"""From which part of its burst on a key lets others go first."""
SHORTEST_WORK_S: Final = 0.002
LONGEST_REST_S: Final = 0.1
SECONDS_OF_A_BYTE: Final = 5e-9
SECONDS_OF_A_WRITE: Final = 0.001
"""About what taking in a byte, and writing a report, costs."""

Result = TypeVar("Result")

_STEP_BYTES: Final = 64 * 1024
_ZSTD_STEP_BYTES: Final = 64


@dataclass
class Body:
    """The lines of one body. ``overlong`` holds numbers of lines that were skipped; ``problem`` says why it ended early."""

    lines: list[tuple[int, bytes]] = field(default_factory=list)
    overlong: list[int] = field(default_factory=list)
    problem: Problem | None = None


class Gate:
    """Counts what is being read at this moment over all senders. Each key may have a part of it: the rest is for others."""

    def __init__(self, limits: Limits) -> None:
        self._limits = limits
        self._requests: Counter[int] = Counter()
        self._bytes: Counter[int] = Counter()
        self._lanes: dict[int, asyncio.Semaphore] = {}
        self._spent: dict[int, tuple[float, float]] = {}
        """By key: seconds of work that are not paid back yet, and when that was reckoned."""
        self._reckoning = threading.Lock()

    @property
    def requests(self) -> int:
        """How many requests are being read or worked on."""
        return sum(self._requests.values())

    @property
    def bytes(self) -> int:
        """How many bytes they hold."""
        return sum(self._bytes.values())

    @asynccontextmanager
    async def entered(self, key: int) -> AsyncIterator[Pass]:
        """Let one more request of a key in, or answer 429."""
        limits = self._limits
        if self._requests[key] >= limits.in_flight_requests_of_a_key or self.requests >= limits.in_flight_requests:
            raise _too_busy("senders")
        owed_s = self.spend(key, 0.0)
        if owed_s > limits.burst_seconds and self._others_send(key):
            wait_s = min(30, 1 + int((owed_s - limits.burst_seconds) / limits.share_of_a_key))
            said = f"This key has had more than its share of work, and others send too. Send again in {wait_s} s."
            raise Problem("too-busy", said, retry_after_s=wait_s)
        self._requests[key] += 1
        held = Pass(self, key)
        try:
            yield held
        finally:
            self._bytes[key] -= held.bytes
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
        """Return what lets so much work of one key be done at the same time."""
        return self._lanes.setdefault(key, asyncio.Semaphore(self._limits.at_work_of_a_key))


class Pass:
    """What one request holds of the gate."""

    def __init__(self, gate: Gate, key: int) -> None:
        self._gate, self.key = gate, key
        self.bytes = 0

    def add(self, count: int) -> None:
        """Count bytes held in memory, or answer 429."""
        self._gate.add(self, count)

    @property
    def lane(self) -> asyncio.Semaphore:
        """What to hold while a worker thread works for this request."""
        return self._gate.lane(self.key)

    async def work(self, act: Callable[..., Result], *given: Any) -> Result:
        """Do something on a worker thread, and count the processor's time that it takes."""

        def paced() -> Result:
            pace = _local.pace = _Pace(self._gate, self.key)
            try:
                return act(*given)
            finally:
                _local.pace = None
                pace.count()

        return await asyncio.to_thread(paced)

    @property
    def is_heavy(self) -> bool:
        """Whether this key has had much of the work lately, and others send too."""
        return self._gate.is_heavy(self.key)

    def spend(self, seconds: float) -> None:
        """Count work that was done elsewhere for this request."""
        self._gate.spend(self.key, seconds)


class _Pace:
    """The work of one request on a worker thread."""

    def __init__(self, gate: Gate, key: int) -> None:
        self._gate, self._key = gate, key
        self._counted_s = time.thread_time()

    def count(self) -> float:
        """Count what was done since the last time, and return it."""
        now_s = time.thread_time()
        done_s, self._counted_s = now_s - self._counted_s, now_s
        self._gate.spend(self._key, done_s)
        return done_s

    def step(self) -> None:
        """Between two steps: where others wait, rest for three times as long as this worked."""
        if time.thread_time() - self._counted_s < SHORTEST_WORK_S:
            return
        done_s = self.count()
        if self._gate.is_heavy(self._key):
            time.sleep(min(LONGEST_REST_S, 3 * done_s))


_local = threading.local()


def breathe() -> None:
    """Call this between the steps of work for a sender: one that sends much lets the others go first."""
    pace: _Pace | None = getattr(_local, "pace", None)
    if pace is not None:
        pace.step()


def _plain(data: bytes, limits: Limits) -> Iterator[bytes]:
    for start in range(0, len(data), _STEP_BYTES):
        yield data[start : start + _STEP_BYTES]


def _gzip(data: bytes, limits: Limits) -> Iterator[bytes]:
    def inflated(inflate: Any, piece: bytes) -> Iterator[bytes]:
        out = inflate.decompress(piece, _STEP_BYTES)
        while out:
            yield out
            # A full step may have left output behind although all input is used up.
            more = len(out) == _STEP_BYTES and not inflate.eof
            out = inflate.decompress(inflate.unconsumed_tail, _STEP_BYTES) if more else b""

    # RFC 1952: members may follow one another.
    return _framed(data, limits, _STEP_BYTES, lambda: zlib.decompressobj(wbits=31), inflated)


def _zstd(data: bytes, limits: Limits) -> Iterator[bytes]:
    def begun() -> Any:
        return zstandard.ZstdDecompressor(max_window_size=8 * MIB).decompressobj()

    # The library has no bound on one step's output; small steps of input keep it small (a block is 128 KiB).
    return _framed(data, limits, _ZSTD_STEP_BYTES, begun, lambda inflate, piece: iter([inflate.decompress(piece)]))


def _framed(
    data: bytes,
    limits: Limits,
    step_bytes: int,
    begun: Callable[[], Any],
    inflated: Callable[[Any, bytes], Iterator[bytes]],
) -> Iterator[bytes]:
    """Inflate what is made of members or frames, one behind the other; ``begun`` returns what inflates the next one."""
    frames = 0
    inflate = None
    for start in range(0, len(data), step_bytes):
        piece = data[start : start + step_bytes]
        while piece:
            if inflate is None or inflate.eof:
                frames += 1
                if frames > limits.frames:
                    raise _too_many_frames(limits.frames)
                inflate = begun()
            yield from inflated(inflate, piece)
            piece = inflate.unused_data if inflate.eof else inflate.unconsumed_tail
    if inflate is not None and not inflate.eof:
        raise _cut_off()


class _Splitter:
    """Splits what streams by into lines; an overlong line is dropped while it passes, and its number kept."""

    def __init__(self, body: Body, limits: Limits) -> None:
        self._body, self._limits = body, limits
        self._rest = bytearray()
        self._number = 1
        self._skipping = False

    def feed(self, data: bytes) -> None:
        """Take the next piece."""
        start = 0
        while (end := data.find(b"\n", start)) >= 0:
            self._extend(data[start:end])
            self.end_line()
            self._number += 1
            if self._number > self._limits.lines + self._limits.empty_lines:
                raise Problem("body-too-large", f"More than {self._limits.lines:,} lines. Send smaller batches.")
            start = end + 1
        self._extend(data[start:])

    def _extend(self, piece: bytes) -> None:
        if self._skipping:
            return
        if len(self._rest) + len(piece) > self._limits.line_bytes:
            self._skipping = True
            self._rest.clear()
        else:
            self._rest += piece

    def end_line(self) -> None:
        """The line that was fed so far is whole."""
        line = bytes(self._rest).strip()
        if line or self._skipping:
            if len(self._body.lines) + len(self._body.overlong) >= self._limits.lines:
                raise Problem("body-too-large", f"More than {self._limits.lines:,} lines. Send smaller batches.")
            if self._skipping:
                self._body.overlong.append(self._number)
            else:
                self._body.lines.append((self._number, line))
        self._rest.clear()
        self._skipping = False


async def read_body(request: Request, limits: Limits, held: Pass) -> Body:
    """Read a request's body and return its lines.

    What ends it early (too large, broken, cut off) is in ``problem``; whole lines that came before are kept.
    """
    raw, problem = await _gather(request, limits, held)
    body = Body()
    async with held.lane:
        await held.work(_split, raw, request.headers.get("content-encoding", ""), limits, body)
    # What cut the sending short explains why the compressed form stops, too.
    body.problem = problem or body.problem
    held.add(sum(len(line) for _, line in body.lines))
    return body


async def read_whole(request: Request, limits: Limits, held: Pass) -> bytes:
    """Read a request's body in one piece, inflated; raises the problem that ended it early."""
    raw, problem = await _gather(request, limits, held)
    if problem is not None:
        raise problem
    async with held.lane:
        whole = await held.work(_inflated, raw, request.headers.get("content-encoding", ""), limits)
    held.add(len(whole))
    return whole


async def _gather(request: Request, limits: Limits, held: Pass) -> tuple[bytes, Problem | None]:
    """Return what the sender sent, as it is, and what ended it early."""
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
            held.spend(len(chunk) * SECONDS_OF_A_BYTE)
            pieces.append(chunk)
    except Problem as problem:
        return b"".join(pieces), problem
    except ClientDisconnect:
        return b"".join(pieces), Problem(
            "body-cut-off", "The connection ended before the body did. Send it again, whole."
        )
    return b"".join(pieces), None


def _split(raw: bytes, encoding: str, limits: Limits, body: Body) -> None:
    splitter = _Splitter(body, limits)
    try:
        for piece in _steps(raw, encoding, limits):
            splitter.feed(piece)
        splitter.end_line()
    except Problem as problem:
        body.problem = problem


def _inflated(raw: bytes, encoding: str, limits: Limits) -> bytes:
    return b"".join(_steps(raw, encoding, limits))


def _steps(raw: bytes, encoding: str, limits: Limits) -> Iterator[bytes]:
    """Yield a body inflated, piece by piece, within the bounds of its inflated size and of how much it may inflate."""
    inflate = _inflater(encoding)
    inflated = 0
    most = min(limits.inflated_bytes, max(limits.inflates_always_bytes, len(raw) * limits.inflates_times))
    try:
        for piece in inflate(raw, limits):
            inflated += len(piece)
            if inflated > most:
                raise Problem(
                    "inflates-too-large",
                    f"Inflated, this body may have up to {most:,} bytes ({limits.inflates_times} times what was sent, "
                    f"{limits.inflated_bytes:,} at most). Send smaller batches.",
                )
            yield piece
            breathe()
    except (zlib.error, zstandard.ZstdError) as error:
        raise Problem("encoding-broken", f"The body is not the {encoding} it says it is: {error}.") from None


def _inflater(encoding: str) -> Callable[[bytes, Limits], Iterator[bytes]]:
    encoding = encoding.strip().lower()
    if encoding in ("", "identity"):
        return _plain
    if encoding in ("gzip", "x-gzip"):
        return _gzip
    if encoding == "zstd":
        return _zstd
    raise Problem("encoding-not-spoken", f"{encoding[:40]!r} is not spoken here. Use gzip, zstd, or none.")


def _too_busy(what: str) -> Problem:
    return Problem("too-busy", f"Too many {what} at once. Send again in a second.", retry_after_s=1)


def _too_many_frames(most: int) -> Problem:
    return Problem("inflates-too-large", f"A body may be compressed in up to {most:,} parts. Send it in one.")


def _cut_off() -> Problem:
    return Problem("body-cut-off", "The compressed body stops half-way. Send it again, whole.")
