"""The live stream: what was just committed, told to every console that listens (server-sent events)."""

from __future__ import annotations

import asyncio
import contextlib
import json
from collections.abc import AsyncIterator, Callable
from typing import Any, Final

from starlette.responses import StreamingResponse
from starlette.types import Message, Send

MOST_LISTENERS: Final = 200
MOST_UNREAD: Final = 100
HEARTBEAT_S: Final = 15.0
UNREAD_S: Final = 20.0
"""How long a listener may read nothing."""


class Live:
    """Passes messages from the event loop to listeners. A listener that does not keep up is told to look again."""

    def __init__(self) -> None:
        self._listeners: dict[asyncio.Queue[str | None], str] = {}
        self._closed = False
        self._loop: asyncio.AbstractEventLoop | None = None

    def use_loop(self, loop: asyncio.AbstractEventLoop) -> None:
        """Say which event loop the listeners live on."""
        self._loop = loop

    @property
    def listeners(self) -> int:
        """How many listen."""
        return len(self._listeners)

    @property
    def full(self) -> bool:
        """Whether no more listeners are let in."""
        return len(self._listeners) >= MOST_LISTENERS

    def publish(self, message: dict[str, Any]) -> None:
        """Tell all listeners. Call it on the event loop."""
        if not self._listeners:
            return
        text = _event(message)
        for waiting in list(self._listeners):
            if waiting.full():
                while not waiting.empty():
                    waiting.get_nowait()
                waiting.put_nowait(_event({"type": "missed"}))
            waiting.put_nowait(text)

    def end(self, pass_id: str) -> None:
        """End the streams that were asked for with a session or token that has ended. Call it from any thread."""
        if self._loop is not None and not self._closed:
            self._loop.call_soon_threadsafe(self._end, pass_id)

    def _end(self, pass_id: str) -> None:
        for waiting, held in list(self._listeners.items()):
            if held == pass_id:
                self._stop(waiting)

    def _stop(self, waiting: asyncio.Queue[str | None]) -> None:
        while not waiting.empty():
            waiting.get_nowait()
        waiting.put_nowait(None)

    def publish_from_thread(self, message: dict[str, Any]) -> None:
        """Tell all listeners, from a worker thread."""
        if self._loop is not None and not self._closed:
            self._loop.call_soon_threadsafe(self.publish, message)

    def close(self) -> None:
        """End every stream, so that the service can stop."""
        self._closed = True
        for waiting in self._listeners:
            self._stop(waiting)

    def close_from_thread(self) -> None:
        """End every stream, from another thread."""
        if self._loop is not None and not self._loop.is_closed():
            self._loop.call_soon_threadsafe(self.close)

    async def listen(self, pass_id: str, may_still: Callable[[], bool]) -> AsyncIterator[str]:
        """Yield the stream as text, with a comment now and then so that a dead connection is noticed.

        It ends with the pass that it was asked for with; ``may_still`` says whether that is good, and is asked now and then.
        """
        waiting: asyncio.Queue[str | None] = asyncio.Queue(MOST_UNREAD + 1)
        self._listeners[waiting] = pass_id
        try:
            yield "retry: 1000\nevent: open\ndata: {}\n\n"
            while not self._closed:
                try:
                    message = await asyncio.wait_for(waiting.get(), HEARTBEAT_S)
                except TimeoutError:
                    if not await asyncio.to_thread(may_still):
                        return
                    yield ": still here\n\n"
                    continue
                if message is None:
                    return
                yield message
        finally:
            self._listeners.pop(waiting, None)


class LiveResponse(StreamingResponse):
    """A stream to one listener; one that does not read for a while is let go: it holds memory, and slows the others."""

    async def stream_response(self, send: Send) -> None:
        """Send the head, and then each message for as long as the listener takes them."""

        async def patient(message: Message) -> None:
            async with asyncio.timeout(UNREAD_S):
                await send(message)

        # The listener sees a broken stream, and asks again.
        with contextlib.suppress(TimeoutError):
            await super().stream_response(patient)


def _event(message: dict[str, Any]) -> str:
    return f"event: {message['type']}\ndata: {json.dumps(message)}\n\n"
