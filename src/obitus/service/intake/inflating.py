"""Inflating a body and splitting it into lines, at a cost that never exceeds a fixed multiple of what was sent."""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any, Final

import zstandard

from obitus.service.problems import Problem
from obitus.service.settings import MIB, Limits

_STEP_BYTES: Final = 64 * 1024
_ZSTD_STEP_BYTES: Final = 64


@dataclass
class Body:
    """The lines of one body. ``overlong`` holds numbers of lines that were skipped; ``problem`` says why it ended early."""

    lines: list[tuple[int, bytes]] = field(default_factory=list)
    overlong: list[int] = field(default_factory=list)
    problem: Problem | None = None


def _plain(data: bytes, limits: Limits) -> Iterator[bytes]:
    for start in range(0, len(data), _STEP_BYTES):
        yield data[start : start + _STEP_BYTES]


def _gzip(data: bytes, limits: Limits) -> Iterator[bytes]:
    def pieces(inflate: Any, piece: bytes) -> Iterator[bytes]:
        out = inflate.decompress(piece, _STEP_BYTES)
        while out:
            yield out
            # A full step may have left output although all input is consumed.
            more = len(out) == _STEP_BYTES and not inflate.eof
            out = inflate.decompress(inflate.unconsumed_tail, _STEP_BYTES) if more else b""

    # RFC 1952: members may follow one another.
    return _framed(data, limits, _STEP_BYTES, lambda: zlib.decompressobj(wbits=31), pieces)


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
    """Inflate consecutive members or frames; ``begun`` returns the decompressor of the next one."""
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
    """Splits a stream into lines; an overlong line is dropped while it is read, and its number is stored."""

    def __init__(self, body: Body, limits: Limits) -> None:
        self._body, self._limits = body, limits
        self._rest = bytearray()
        self._number = 1
        self._skipping = False

    def feed(self, data: bytes) -> None:
        """Add the next piece."""
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
        """The present line is complete."""
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


def split(pieces: Sequence[bytes], encoding: str, limits: Limits) -> Body:
    """Return a body's lines. The reason for an early end (too large, broken) is in ``problem``; whole lines before it are kept."""
    body = Body()
    splitter = _Splitter(body, limits)
    try:
        for piece in _steps(pieces, encoding, limits):
            splitter.feed(piece)
        splitter.end_line()
    except Problem as problem:
        # Its traceback refers to the whole body, and to itself: a reference cycle that would stay until the next collection.
        problem.__traceback__ = problem.__context__ = None
        body.problem = problem
    return body


def whole(pieces: Sequence[bytes], encoding: str, limits: Limits) -> bytes:
    """Return a body in one piece; raises the problem that ends it early."""
    return b"".join(_steps(pieces, encoding, limits))


def _steps(pieces: Sequence[bytes], encoding: str, limits: Limits) -> Iterator[bytes]:
    """Yield a body inflated, piece by piece, within the bounds of its inflated size and of how much it may inflate."""
    inflate = _inflater(encoding)
    raw, inflated = b"".join(pieces), 0
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
    raise Problem("encoding-not-supported", f"{encoding[:40]!r} is not supported. Use gzip, zstd, or none.")


def _too_many_frames(most: int) -> Problem:
    return Problem("inflates-too-large", f"A body may be compressed in up to {most:,} parts. Send it in one.")


def _cut_off() -> Problem:
    return Problem("body-cut-off", "The compressed body stops half-way. Send it again, whole.")
