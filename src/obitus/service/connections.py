"""Connections: bounded in number, size of the head and time, so that slow or heavy senders do not shut others out. A
subclass of the server's own protocol; its refusals are problem details, with the strict headers.
"""

from __future__ import annotations

import asyncio
import json
import resource
import sys
import time
from functools import cache
from typing import Any, ClassVar, Final

from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

from obitus.service.guard import HEADERS
from obitus.service.live import WIRE
from obitus.service.problems import PROBLEMS, TYPE_PREFIX
from obitus.service.refusal_delays import WAIT_S, Patience
from obitus.service.settings import Limits

LINGER_S: Final = 1.0
LINGER_BYTES: Final = 1024 * 1024
DESCRIPTORS_KEPT: Final = 100
"""Descriptors for files: the rest may be connections."""


class Connections:
    """All connections of one service, the longest idle first."""

    def __init__(self, limits: Limits) -> None:
        self.limits = limits
        self.most = min(limits.connections, _descriptors() - DESCRIPTORS_KEPT)
        self.all: set[GuardedProtocol] = set()
        self._by_address: dict[str, int] = {}

    @property
    def most_of_one(self) -> int:
        """How many one address may have: the rest is reserved for others."""
        return max(4, self.most * 3 // 4)

    def add(self, new: GuardedProtocol) -> bool:
        """Add a connection, or return False. Where there is no room, an idle one is closed."""
        address = new.address
        if self._by_address.get(address, 0) >= self.most_of_one and not self._make_room(address):
            return False
        if len(self.all) >= self.most and not self._make_room(None):
            return False
        self.all.add(new)
        self._by_address[address] = self._by_address.get(address, 0) + 1
        return True

    def remove(self, old: GuardedProtocol) -> None:
        """Remove a closed connection."""
        if old not in self.all:
            return
        self.all.discard(old)
        remaining = self._by_address.get(old.address, 1) - 1
        if remaining:
            self._by_address[old.address] = remaining
        else:
            self._by_address.pop(old.address, None)

    def _make_room(self, address: str | None) -> bool:
        """Close the connection that has been idle for longest; return whether there was one."""
        idle = [
            connection
            for connection in self.all
            if connection.is_idle and (address is None or connection.address == address)
        ]
        if not idle:
            return False
        oldest = min(idle, key=lambda one: one.idle_since_s)
        self.remove(oldest)
        oldest.abort()
        return True


class _Transport:
    """The server's transport, which closes gently: the answer arrives even while the sender is still sending."""

    def __init__(self, inner: Any, protocol: GuardedProtocol) -> None:
        self._inner = inner
        self.protocol: GuardedProtocol | None = protocol
        """None once the connection is closed."""

    def __getattr__(self, name: str) -> Any:
        return getattr(self._inner, name)

    def close(self) -> None:
        if self.protocol is None:
            self._inner.close()
        else:
            self.protocol.close_gently()


class GuardedProtocol(HttpToolsProtocol):
    """One connection. State shared by a service's connections is set on a subclass."""

    connections_of_service: ClassVar[Connections]
    patience: ClassVar[Patience]

    def connection_made(self, transport: Any) -> None:
        """Accept it, or answer 503 and close."""
        self.raw = transport
        peer = transport.get_extra_info("peername")
        self.address = str(peer[0]) if isinstance(peer, tuple) and peer else ""
        self.idle_since_s = time.monotonic()
        self._head_bytes = 0
        self._head_count = 0
        self._in_head = True
        self._refusal = ""
        self._lingers = False
        self._lingered = 0
        self._timer: asyncio.TimerHandle | None = None
        self._held_back = b""
        super().connection_made(_Transport(transport, self))  # type: ignore[arg-type]
        if not self.connections_of_service.add(self):
            self._refuse("too-many-connections", "Too many connections at once. Try again in a moment.")
            return
        self._wait_for_head()

    def connection_lost(self, exc: Exception | None) -> None:
        self.connections_of_service.remove(self)
        self._stop_timer()
        if self._held_back:
            self._held_back = b""
            self.patience.let_go()
        super().connection_lost(exc)
        # Nothing may refer to it or its data any longer: the server leaves the timer of an interrupted one, and
        # cyclic garbage is collected once in ten minutes.
        self._unset_keepalive_if_required()
        self.transport.protocol = None  # type: ignore[attr-defined]
        self.cycle = None  # type: ignore[assignment]

    @property
    def is_idle(self) -> bool:
        """Whether no request is being answered on it."""
        return self._in_head or self.cycle is None or self.cycle.response_complete

    def data_received(self, data: bytes) -> None:
        if self._lingers:
            self._lingered += len(data)
            if self._lingered > LINGER_BYTES:
                self.abort()
            return
        if self._refusal:
            return
        super().data_received(data)
        if not self._in_head or self._refusal:
            return
        # The parser keeps an incomplete line to itself until it ends, so what came in is counted here too.
        self._head_bytes += len(data)
        if self._timer is None:
            self._wait_for_head()
        if self._head_bytes > self.connections_of_service.limits.head_bytes:
            self._refuse("head-too-large", _HEAD_SAID.format(limits=self.connections_of_service.limits))

    def on_message_begin(self) -> None:
        super().on_message_begin()
        self._in_head = True
        self._head_count = 0
        self._head_sum = 0

    def on_url(self, url: bytes) -> None:
        super().on_url(url)
        if len(self.url) > self.connections_of_service.limits.url_bytes:
            self._head_too_large()

    def on_header(self, name: bytes, value: bytes) -> None:
        limits = self.connections_of_service.limits
        self._head_count += 1
        self._head_sum += len(name) + len(value)
        if self._head_count > limits.head_lines or self._head_sum > limits.head_bytes:
            self._head_too_large()
        super().on_header(name, value)

    def on_headers_complete(self) -> None:
        self._in_head = False
        self._head_bytes = 0
        self._stop_timer()
        self.scope[WIRE] = self.raw  # type: ignore[typeddict-unknown-key]
        super().on_headers_complete()

    def on_response_complete(self) -> None:
        self.idle_since_s = time.monotonic()
        super().on_response_complete()
        if self.cycle is not None and self.cycle.more_body and not self.raw.is_closing():
            # It was answered before its body was complete: further bytes are no new request.
            self.close_gently()

    def send_400_response(self, msg: str) -> None:
        """Answer a parser error; a head that is too large was answered already."""
        self._refuse("bad-request", "This is no HTTP request that can be understood.")

    def close_gently(self) -> None:
        """Close; a sender that is still sending gets a moment to read the answer."""
        if self._lingers or self.raw.is_closing():
            return
        is_sending = bool(self._refusal) or (self.cycle is not None and self.cycle.more_body)
        if not is_sending or not self.raw.can_write_eof():
            self.raw.close()
            return
        self._lingers = True
        self._stop_timer()
        self.raw.write_eof()
        self.flow.resume_reading()
        self._timer = self.loop.call_later(LINGER_S, self.abort)

    def abort(self) -> None:
        """Close at once."""
        self._stop_timer()
        self.raw.abort()

    def _head_too_large(self) -> None:
        """Refuse, and let the parser read no further."""
        self._refuse("head-too-large", _HEAD_SAID.format(limits=self.connections_of_service.limits))
        raise _HeadTooLarge

    def _wait_for_head(self) -> None:
        self._stop_timer()
        self._timer = self.loop.call_later(self.connections_of_service.limits.head_seconds, self._head_is_late)

    def _head_is_late(self) -> None:
        self._timer = None
        if self._head_bytes:
            self._refuse("head-too-slow", "The head of the request took too long to arrive.")
        else:
            # There was no request: there is nothing to answer.
            self.raw.close()

    def _stop_timer(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None

    def _refuse(self, slug: str, detail: str) -> None:
        """Answer without the application, and close; addresses with many refusals have to wait, and are not read meanwhile."""
        if self._refusal:
            return
        self._refusal = slug
        if self.cycle is not None and not self.cycle.response_complete:
            self.close_gently()
            return
        answer = refusal(slug, detail)
        # Where there is no room for another connection, none is held.
        if slug == "too-many-connections" or self.raw.is_closing() or not self.patience.holds_back(self.address):
            self.raw.write(answer)
            self.close_gently()
            return
        self._stop_timer()
        self._held_back = answer
        self.flow.pause_reading()
        self._timer = self.loop.call_later(WAIT_S, self._answer_at_last)

    def _answer_at_last(self) -> None:
        """Send the delayed answer, and close."""
        self._timer = None
        answer, self._held_back = self._held_back, b""
        self.patience.let_go()
        self.raw.write(answer)
        self.close_gently()


_HEAD_SAID: Final = "The head of a request may have {limits.head_lines} lines and {limits.head_bytes:,} bytes, its address {limits.url_bytes:,}."


class _HeadTooLarge(Exception):
    """Raised out of the parser's callbacks, so that it reads no further."""


@cache
def refusal(slug: str, detail: str) -> bytes:
    """Return a whole HTTP/1.1 answer with problem details, after which the connection closes."""
    status, title = PROBLEMS[slug]
    body = json.dumps(
        {"type": TYPE_PREFIX + slug, "title": title, "status": status, "detail": detail, "slug": slug}
    ).encode()
    headers = {"Content-Type": "application/problem+json", "Content-Length": str(len(body)), "Connection": "close"}
    if status in (429, 503):
        headers["Retry-After"] = "1"
    lines = "".join(f"{name}: {value}\r\n" for name, value in (headers | HEADERS).items())
    return f"HTTP/1.1 {status} {title}\r\n{lines}\r\n".encode("latin-1", "replace") + body


def protocol_for(limits: Limits, patience: Patience) -> type[GuardedProtocol]:
    """Return a protocol whose connections are counted for one service."""
    shared = {"connections_of_service": Connections(limits), "patience": patience}
    return type("Protocol", (GuardedProtocol,), shared)


def _descriptors() -> int:
    """Raise this process's limit of descriptors to the allowed maximum, and return it."""
    if sys.platform == "win32":
        return 4096
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = 65536 if hard == resource.RLIM_INFINITY else min(hard, 65536)
    if soft < wanted:
        try:
            resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, hard))
            soft = wanted
        except (OSError, ValueError):
            pass
    return soft
