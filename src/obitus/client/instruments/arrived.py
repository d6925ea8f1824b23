"""The part of a request's body that has arrived and was not read, when a handler failed. It waits for nothing and
takes nothing: the server's buffers and the socket keep their content.
"""

from __future__ import annotations

import io
import os
import socket
from collections.abc import Callable
from typing import Any, Final

from obitus.client.exception_origin import is_the_apps
from obitus.client.guard import guarded
from obitus.client.native import Socket

MOST_STEPS: Final = 64


@guarded
def of_stream(stream: Any, environ: dict[str, Any], most: int) -> bytes:
    """Return up to ``most`` unread bytes that a WSGI server holds; empty where that is not known."""
    if most <= 0:
        return b""
    if isinstance(stream, io.BytesIO):
        return bytes(stream.getbuffer()[stream.tell() : stream.tell() + most])
    if getattr(stream, "seekable", bool)() is True and hasattr(stream, "tell"):
        # The server had the whole body before it called the app.
        place = stream.tell()
        data = stream.read(most)
        stream.seek(place)
        return bytes(data)
    reader = _buffered(stream)
    if reader is not None:
        return _peeked(reader, most)
    unread = getattr(getattr(getattr(stream, "reader", None), "unreader", None), "buf", None)
    data = unread.getvalue()[:most] if isinstance(unread, io.BytesIO) else b""
    opened = environ.get("gunicorn.socket")
    if len(data) < most and isinstance(opened, socket.socket):
        data += _in_socket(opened, most - len(data))
    return bytes(data)


def _buffered(stream: Any) -> io.BufferedReader | None:
    for _ in range(4):
        if isinstance(stream, io.BufferedReader):
            return stream
        inner = getattr(stream, "rfile", None) or getattr(stream, "_stream", None) or getattr(stream, "stream", None)
        if inner is None:
            return None
        stream = inner
    return None


def _peeked(reader: io.BufferedReader, most: int) -> bytes:
    """Look into a reader's buffer; where that is empty, look into the socket without waiting."""
    opened = getattr(reader.raw, "_sock", None)
    if not isinstance(opened, socket.socket):
        return b""
    before = opened.gettimeout()
    opened.settimeout(0.0)
    try:
        data = reader.peek(most)[:most]
    except (BlockingIOError, TimeoutError):
        data = b""
    finally:
        opened.settimeout(before)
    return data


def _in_socket(opened: socket.socket, most: int) -> bytes:
    flags = socket.MSG_PEEK | getattr(socket, "MSG_DONTWAIT", 0)
    try:
        # The system's own call: a cooperative socket would wait for more, whatever the flags say.
        with Socket(fileno=os.dup(opened.fileno())) as looking:
            return bytes(looking.recv(most, flags))
    except OSError as error:
        if is_the_apps(error):
            raise
        return b""


@guarded
def of_receive(receive: Callable[[], Any], keep: Callable[[Any], None]) -> None:
    """Ask an ASGI server for messages as long as it answers without waiting; each is given to ``keep``."""
    for _ in range(MOST_STEPS):
        waiting = receive()
        try:
            waiting.send(None)
        except StopIteration as done:
            message = done.value
            keep(message)
            if message.get("type") != "http.request" or not message.get("more_body", False):
                return
        except Exception:
            return
        else:
            # It waits for something that has not arrived.
            waiting.close()
            return
