"""The live stream: what was just committed, told to every console that listens (server-sent events)."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Any, Final

MOST_LISTENERS: Final = 200
MOST_UNREAD: Final = 100
HEARTBEAT_S: Final = 15.0


class Live:
    """Passes messages from the event loop to listeners. A listener that does not keep up is told to look again."""

    def __init__(self) -> None:
        self._listeners: set[asyncio.Queue[dict[str, Any] | None]] = set()
        self._closed = False
        self._loop: asyncio.AbstractEventLoop | None = None

    def use_loop(self, loop: asyncio.AbstractEventLoop) -> None:
        """Say which event loop the listeners live on."""
        self._loop = loop

    @property
    def full(self) -> bool:
        """Whether no more listeners are let in."""
        return len(self._listeners) >= MOST_LISTENERS

    def publish(self, message: dict[str, Any]) -> None:
        """Tell all listeners. Call it on the event loop."""
        for waiting in self._listeners:
            if waiting.full():
                while not waiting.empty():
                    waiting.get_nowait()
                waiting.put_nowait({"type": "missed"})
            waiting.put_nowait(message)

    def publish_from_thread(self, message: dict[str, Any]) -> None:
        """Tell all listeners, from a worker thread."""
        if self._loop is not None and not self._closed:
            self._loop.call_soon_threadsafe(self.publish, message)

    def close(self) -> None:
        """End every stream, so that the service can stop."""
        self._closed = True
        for waiting in self._listeners:
            if waiting.full():
                waiting.get_nowait()
            waiting.put_nowait(None)

    def close_from_thread(self) -> None:
        """End every stream, from another thread."""
        if self._loop is not None and not self._loop.is_closed():
            self._loop.call_soon_threadsafe(self.close)

    async def listen(self) -> AsyncIterator[str]:
        """Yield the stream as text, with a comment now and then so that a dead connection is noticed."""
        waiting: asyncio.Queue[dict[str, Any] | None] = asyncio.Queue(MOST_UNREAD + 1)
        self._listeners.add(waiting)
        try:
            yield "retry: 1000\nevent: open\ndata: {}\n\n"
            while not self._closed:
                try:
                    message = await asyncio.wait_for(waiting.get(), HEARTBEAT_S)
                except TimeoutError:
                    yield ": still here\n\n"
                    continue
                if message is None:
                    return
                yield f"event: {message['type']}\ndata: {json.dumps(message)}\n\n"
        finally:
            self._listeners.discard(waiting)
