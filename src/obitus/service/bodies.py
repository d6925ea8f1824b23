"""Reading a reporting body: bounded in bytes, time and inflated size, split into lines as it arrives.

Whatever a sender does, memory stays within the limits: an overlong line is skipped while it streams by.
"""

from __future__ import annotations

import asyncio
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Protocol

import zstandard
from fastapi import Request
from starlette.requests import ClientDisconnect

from obitus.service.problems import Problem
from obitus.service.settings import MIB, Limits

_STEP_BYTES = 64 * 1024
_ZSTD_STEP_BYTES = 64


@dataclass
class Body:
    """The lines of one body. ``overlong`` holds numbers of lines that were skipped; ``problem`` says why it ended early."""

    lines: list[tuple[int, bytes]] = field(default_factory=list)
    overlong: list[int] = field(default_factory=list)
    problem: Problem | None = None


class Gate:
    """Counts what is being read at this moment over all senders."""

    def __init__(self, limits: Limits) -> None:
        self._limits = limits
        self._requests = 0
        self._bytes = 0

    def enter(self) -> None:
        """Let one more request in, or answer 429."""
        if self._requests >= self._limits.in_flight_requests:
            raise Problem("too-busy", "Too many senders at once. Send again in a second.", retry_after_s=1)
        self._requests += 1

    def add(self, count: int) -> None:
        """Count bytes held in memory, or answer 429."""
        if self._bytes + count > self._limits.in_flight_bytes:
            raise Problem("too-busy", "Too many bytes at once. Send again in a second.", retry_after_s=1)
        self._bytes += count

    def forget(self, count: int) -> None:
        """Forget bytes that are held no more, of a request that goes on."""
        self._bytes -= count

    def leave(self, count: int) -> None:
        """Forget a request that is done, with the bytes it held."""
        self._requests -= 1
        self._bytes -= count


class _Inflater(Protocol):
    def steps(self, chunk: bytes) -> Iterator[bytes]: ...
    def complete(self) -> bool: ...


class _Plain:
    def steps(self, chunk: bytes) -> Iterator[bytes]:
        yield chunk

    def complete(self) -> bool:
        return True


class _Gzip:
    def __init__(self) -> None:
        self._inflate = zlib.decompressobj(wbits=31)
        self._any = False

    def steps(self, chunk: bytes) -> Iterator[bytes]:
        self._any = True
        more = bool(chunk)
        while more:
            if self._inflate.eof:
                # RFC 1952: members may follow one another.
                self._inflate = zlib.decompressobj(wbits=31)
            piece = self._inflate.decompress(chunk, _STEP_BYTES)
            yield piece
            chunk = self._inflate.unconsumed_tail or self._inflate.unused_data
            # A full step may have left output behind although all input is used up.
            more = bool(chunk) or (len(piece) == _STEP_BYTES and not self._inflate.eof)

    def complete(self) -> bool:
        return self._inflate.eof or not self._any


class _Zstd:
    def __init__(self) -> None:
        self._new()
        self._any = False

    def _new(self) -> None:
        self._inflate = zstandard.ZstdDecompressor(max_window_size=8 * MIB).decompressobj()

    def steps(self, chunk: bytes) -> Iterator[bytes]:
        self._any = True
        # The library has no bound on one step's output; small steps of input keep it small (a block is 128 KiB).
        view = memoryview(chunk)
        for start in range(0, len(view), _ZSTD_STEP_BYTES):
            piece = bytes(view[start : start + _ZSTD_STEP_BYTES])
            while piece:
                if self._inflate.eof:
                    self._new()
                yield self._inflate.decompress(piece)
                piece = self._inflate.unused_data if self._inflate.eof else b""

    def complete(self) -> bool:
        return self._inflate.eof or not self._any


class _Splitter:
    """Splits what streams by into lines; an overlong line is dropped while it passes, and its number kept."""

    def __init__(self, body: Body, limits: Limits) -> None:
        self._body, self._limits = body, limits
        self._rest = bytearray()
        self._number = 1
        self._skipping = False

    def feed(self, data: bytes) -> None:
        start = 0
        while (end := data.find(b"\n", start)) >= 0:
            self._extend(data[start:end])
            self.end_line()
            self._number += 1
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
        line = bytes(self._rest).strip()
        if line or self._skipping:
            if len(self._body.lines) + len(self._body.overlong) >= self._limits.lines:
                raise Problem("body-too-large", f"More than {self._limits.lines:,} lines. Send smaller batches.")
            if self._skipping:
                self._body.overlong.append(self._number)
            else:
                self._body.lines.append((self._number, line))
        self.drop_line()

    def drop_line(self) -> None:
        self._rest.clear()
        self._skipping = False


async def read_body(request: Request, limits: Limits, gate: Gate) -> tuple[Body, int]:
    """Read a request's body; return its lines and how many bytes were counted at the gate (for ``leave``).

    What ends it early (too large, broken, cut off) is in ``problem``; whole lines that came before are kept.
    """
    body = Body()
    splitter = _Splitter(body, limits)
    held, body.problem = await _stream(request, limits, gate, splitter.feed)
    if body.problem is None:
        try:
            splitter.end_line()
        except Problem as problem:
            body.problem = problem
    splitter.drop_line()
    return body, held


async def read_whole(request: Request, limits: Limits, gate: Gate) -> tuple[bytes, int]:
    """Read a request's body in one piece, inflated; return it and how many bytes were counted at the gate.

    Raises the problem that ended it early; nothing stays counted then.
    """
    pieces: list[bytes] = []
    held, problem = await _stream(request, limits, gate, pieces.append)
    if problem is not None:
        gate.forget(held)
        raise problem
    return b"".join(pieces), held


async def _stream(
    request: Request, limits: Limits, gate: Gate, feed: Callable[[bytes], object]
) -> tuple[int, Problem | None]:
    """Feed a body, inflated, piece by piece; return how many bytes the gate counted, and what ended it early."""
    held = 0
    try:
        inflater = _inflater(request)
        announced = request.headers.get("content-length", "")
        if announced.isdigit() and int(announced) > limits.body_bytes:
            raise Problem("body-too-large", f"A body may have up to {limits.body_bytes:,} bytes. Send smaller batches.")
        received = inflated = 0
        async with asyncio.timeout(limits.body_seconds):
            async for chunk in request.stream():
                received += len(chunk)
                if received > limits.body_bytes:
                    raise Problem(
                        "body-too-large", f"A body may have up to {limits.body_bytes:,} bytes. Send smaller batches."
                    )
                for piece in inflater.steps(chunk):
                    inflated += len(piece)
                    if inflated > limits.inflated_bytes:
                        raise Problem(
                            "inflates-too-large",
                            f"Inflated, a body may have up to {limits.inflated_bytes:,} bytes. Send smaller batches.",
                        )
                    gate.add(len(piece))
                    held += len(piece)
                    feed(piece)
        if not inflater.complete():
            raise Problem("body-cut-off", "The compressed body stops half-way. Send it again, whole.")
    except Problem as problem:
        return held, problem
    except TimeoutError:
        return held, Problem("body-too-slow", f"A body may take up to {limits.body_seconds:g} s. Send smaller batches.")
    except ClientDisconnect:
        return held, Problem("body-cut-off", "The connection ended before the body did. Send it again, whole.")
    except (zlib.error, zstandard.ZstdError) as error:
        detail = f"The body is not the {request.headers.get('content-encoding')} it says it is: {error}."
        return held, Problem("encoding-broken", detail)
    return held, None


def _inflater(request: Request) -> _Inflater:
    encoding = request.headers.get("content-encoding", "identity").strip().lower()
    if encoding in ("", "identity"):
        return _Plain()
    if encoding in ("gzip", "x-gzip"):
        return _Gzip()
    if encoding == "zstd":
        return _Zstd()
    raise Problem("encoding-not-spoken", f"{encoding!r} is not spoken here. Use gzip, zstd, or none.")
