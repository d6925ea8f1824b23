"""The live stream: events of commits for every listening console (server-sent events)."""

from __future__ import annotations

import asyncio
import contextlib
import json
import math
from collections import Counter
from collections.abc import AsyncIterator, Callable, Sequence
from functools import partial
from typing import Any, Final, Protocol

from starlette.responses import StreamingResponse
from starlette.types import Message, Send

from obitus.store.events import Event

MOST_LISTENERS: Final = 600
MOST_OF_A_PASS: Final = 30
"""Streams of one session or token."""
MOST_UNREAD: Final = 100
HEARTBEAT_S: Final = 15.0
UNREAD_S: Final = 20.0
"""How long a listener may read nothing."""
WOKEN_AT_ONCE: Final = 4
WRITTEN_AT_ONCE: Final = 32
WOKEN_EVERY_S: Final = 0.002
"""Listeners are woken, or written to, a few at a time, so that senders' requests are handled in between."""
MOST_BEHIND: Final = 64 * 1024
"""Most bytes that wait in one listener's connection; further events wait in its queue."""
WIRE: Final = "obitus.wire"
"""Key of the request's scope for the connection itself."""
ROUND_EVERY_S: Final = 0.1
"""Events within this time are sent to a listener in one piece."""


class _Listener:
    """The queue of one listener."""

    __slots__ = ("behind_s", "ended", "from_number", "narrowed", "pass_id", "texts", "wire", "woken")

    def __init__(self, pass_id: str, narrowed: bool) -> None:
        self.pass_id, self.narrowed = pass_id, narrowed
        self.texts: list[str] = []
        self.woken = asyncio.Event()
        self.ended = False
        self.wire: Wire | None = None
        """Set while it waits: events are written to its connection directly, without waking its task."""
        self.behind_s = 0.0
        """Since when it reads nothing, 0 while it reads."""
        self.from_number = 0
        """The last event that it has got."""

    def add(self, text: str) -> None:
        """Add a message; messages that are not read in time are replaced by ``missed``. A listener that sees only
        some apps gets only ``missed``, since events of other apps are secret.
        """
        if self.narrowed:
            self.texts = [_event({"type": "missed"})]
            return
        if len(self.texts) > MOST_UNREAD:
            self.texts = [_event({"type": "missed"})]
        self.texts.append(text)

    def end(self) -> None:
        """End it."""
        self.ended = True
        self.texts.clear()
        self.woken.set()


class Wire(Protocol):
    """A connection of the event loop (``asyncio.WriteTransport``)."""

    def write(self, data: bytes, /) -> None:
        """Send bytes, now or as soon as they can be. Raises RuntimeError where it is closed."""

    def get_write_buffer_size(self) -> int:
        """Return how many bytes wait."""

    def abort(self) -> None:
        """Close at once."""


class Streams(Protocol):
    """Other streams that end when these do."""

    def end(self, pass_id: str | None) -> None:
        """End those of a session or token that has ended, all with None. Called from any thread."""

    def close(self) -> None:
        """End all of them. Called from any thread."""


class Live:
    """Passes messages from the event loop to listeners. A slow listener gets ``missed``."""

    def __init__(self) -> None:
        self._listeners: dict[_Listener, None] = {}
        self._of_pass: Counter[str] = Counter()
        self._closed = False
        self._loop: asyncio.AbstractEventLoop | None = None
        self._is_going_round = False
        self.others: list[Streams] = []
        self.latest = 0
        """The number of the latest published event, 0 before the first."""

    def use_loop(self, loop: asyncio.AbstractEventLoop) -> None:
        """Set the event loop of the listeners."""
        self._loop = loop

    @property
    def listeners(self) -> int:
        """The number of listeners."""
        return len(self._listeners)

    def is_full(self, pass_id: str) -> bool:
        """Whether the bound of listeners is reached, in all or with this session or token."""
        return len(self._listeners) >= MOST_LISTENERS or self._of_pass[pass_id] >= MOST_OF_A_PASS

    def publish(self, message: dict[str, Any], number: int | None = None, *, narrowed: bool = True) -> None:
        """Publish a message to all listeners, with its number if it is an event. Called on the event loop.

        With ``narrowed`` false, listeners who see only some apps are skipped: all they get is the event ``missed``.
        """
        self.latest = max(self.latest, number or 0)
        if not self._listeners:
            return
        text = _event(message, number)
        for listener in self._listeners:
            if (number is None or number > listener.from_number) and (narrowed or not listener.narrowed):
                listener.add(text)
        if not self._is_going_round:
            self._is_going_round = True
            self._go_round(asyncio.get_running_loop(), [], {})

    def _go_round(self, loop: asyncio.AbstractEventLoop, due: list[_Listener], chunks: dict[str, bytes]) -> None:
        """Write to the next few listeners; start over once all were served. ``chunks`` caches encoded texts in this round."""
        if not due:
            due, chunks = [one for one in reversed(self._listeners) if one.texts], {}
            if not due:
                self._is_going_round = False
                return
        woken = written = 0
        while due and woken < WOKEN_AT_ONCE and written < WRITTEN_AT_ONCE:
            listener = due.pop()
            if listener.wire is None:
                listener.woken.set()
                woken += 1
            else:
                try:
                    _write(listener, listener.wire, chunks, loop.time())
                except (RuntimeError, OSError):
                    # It was closed just now, and its stream ends in a moment. The others get theirs.
                    listener.texts = []
                written += 1
        loop.call_later(WOKEN_EVERY_S if due else ROUND_EVERY_S, self._go_round, loop, due, chunks)

    def end(self, pass_id: str | None) -> None:
        """End the streams of a session or token that has ended. Called from any thread. With None all of them end:
        listeners connect again, with what they may see now.
        """
        for other in self.others:
            other.end(pass_id)
        if self._loop is not None and not self._closed:
            self._loop.call_soon_threadsafe(self._end, pass_id)

    def _end(self, pass_id: str | None) -> None:
        for listener in self._listeners:
            if pass_id is None or listener.pass_id == pass_id:
                listener.end()

    def publish_from_thread(self, message: dict[str, Any], number: int | None = None, *, narrowed: bool = True) -> None:
        """Publish a message, from a worker thread."""
        if self._loop is not None and not self._closed:
            self._loop.call_soon_threadsafe(partial(self.publish, message, number, narrowed=narrowed))

    def close(self) -> None:
        """End every stream, so that the service can stop."""
        self._closed = True
        for other in self.others:
            other.close()
        for listener in self._listeners:
            listener.end()

    def close_from_thread(self) -> None:
        """End every stream, from another thread."""
        if self._loop is not None and not self._loop.is_closed():
            self._loop.call_soon_threadsafe(self.close)

    async def listen(
        self,
        pass_id: str,
        may_still: Callable[[], bool],
        start: int | None = None,
        earlier: Callable[[], Sequence[Event] | None] | None = None,
        *,
        narrowed: bool = False,
        wire: Wire | None = None,
    ) -> AsyncIterator[str]:
        """Yield the stream as text, with a comment now and then so that a dead connection is noticed.

        It ends with its session or token; ``may_still`` returns whether that is valid, and is called now and then.
        ``start`` is the number of the last event that the listener has; ``earlier`` returns the events that it has
        missed, None where these are too many. A ``narrowed`` one only gets ``missed``. With ``wire``, its
        connection, most text is written there directly: hundreds of listeners get the same text, and each would pass
        it through all middleware. Yielded text comes in between, in order.
        """
        listener = _Listener(pass_id, narrowed)
        # Its last event may be published only now: it has read it from the records before.
        listener.from_number = start or 0
        # First: events that are committed while the missed ones are read wait here, and are recognised by number.
        self._listeners[listener] = None
        self._of_pass[pass_id] += 1
        try:
            number = "" if start is None else f"id: {start}\n"
            yield f"retry: 1000\n{number}event: open\ndata: {{}}\n\n"
            missed = () if earlier is None else await asyncio.to_thread(earlier)
            if missed is None:
                # Waiting events are covered by loading the page again.
                listener.texts = [_event({"type": "missed"})]
            elif missed:
                waiting, listener.texts = listener.texts, []
                listener.from_number = missed[-1].id
                yield "".join(_event({"type": event.kind, **event.subject}, event.id) for event in missed)
                listener.texts = [text for text in waiting if _number_of(text) > listener.from_number] + listener.texts
            if listener.texts:
                listener.woken.set()
            while not self._closed:
                if not await _woken(listener, wire):
                    if not await asyncio.to_thread(may_still):
                        return
                    yield ": still here\n\n"
                    continue
                if listener.ended:
                    return
                listener.woken.clear()
                texts, listener.texts = listener.texts, []
                yield "".join(texts)
        finally:
            del self._listeners[listener]
            self._of_pass[pass_id] -= 1
            if not self._of_pass[pass_id]:
                del self._of_pass[pass_id]


class LiveResponse(StreamingResponse):
    """A stream to one listener; one that does not read for a while is closed: it holds memory, and slows the others."""

    async def stream_response(self, send: Send) -> None:
        """Send the head, and then each message while the listener reads them."""

        async def patient(message: Message) -> None:
            async with asyncio.timeout(UNREAD_S):
                await send(message)

        # The listener sees a broken stream, and connects again.
        with contextlib.suppress(TimeoutError):
            await super().stream_response(patient)


async def _woken(listener: _Listener, wire: Wire | None) -> bool:
    """Wait until a listener is woken, or return False after a while. Only meanwhile its connection is written to:
    yielded text has been sent before."""
    listener.wire = wire
    try:
        async with asyncio.timeout(HEARTBEAT_S):
            await listener.woken.wait()
    except TimeoutError:
        return False
    finally:
        listener.wire = None
    return True


def _write(listener: _Listener, wire: Wire, chunks: dict[str, bytes], now_s: float) -> None:
    """Write a listener's queue to its connection; close one that has read nothing for a while."""
    if wire.get_write_buffer_size() > MOST_BEHIND:
        listener.behind_s = listener.behind_s or now_s
        if now_s - listener.behind_s > UNREAD_S:
            wire.abort()
        return
    listener.behind_s = 0.0
    text = "".join(listener.texts)
    listener.texts = []
    if text not in chunks:
        data = text.encode()
        # A chunk of RFC 9112, 7.1, like the server's own.
        chunks[text] = b"%x\r\n%b\r\n" % (len(data), data)
    wire.write(chunks[text])


def _event(message: dict[str, Any], number: int | None = None) -> str:
    head = "" if number is None else f"id: {number}\n"
    return f"{head}event: {message['type']}\ndata: {json.dumps(message)}\n\n"


def _number_of(text: str) -> float:
    """Return the number of an event from its text; a text without one is always new."""
    return int(text[4 : text.index("\n")]) if text.startswith("id: ") else math.inf
