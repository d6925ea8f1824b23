"""The connection to the service: a name with several addresses, of which some do not answer."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Iterator
from contextlib import ExitStack, suppress
from typing import Any

import pytest

from obitus.client import posting
from obitus.client.posting import CannotConnect, Connection

HEALTHY = b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nConnection: close\r\n\r\n{}"


@pytest.fixture
def silent() -> Iterator[Any]:
    """The address of a port that is full: who connects to it hears nothing."""
    with ExitStack() as stack:
        port = stack.enter_context(socket.socket())
        port.bind(("127.0.0.1", 0))
        port.listen(0)
        while True:
            waiting = stack.enter_context(socket.socket())
            waiting.settimeout(0.3)
            try:
                waiting.connect(port.getsockname())
            except TimeoutError:
                break
        yield port.getsockname()


@pytest.fixture
def answering() -> Iterator[Any]:
    """The address of a port that answers each request."""
    with socket.create_server(("127.0.0.1", 0)) as port:

        def answer() -> None:
            with suppress(OSError):
                while True:
                    opened, _ = port.accept()
                    with opened:
                        opened.recv(65536)
                        opened.sendall(HEALTHY)

        thread = threading.Thread(target=answer)
        thread.start()
        yield port.getsockname()
        port.shutdown(socket.SHUT_RDWR)
        thread.join()


def named(monkeypatch: pytest.MonkeyPatch, *addresses: Any) -> Connection:
    """Return a connection to a name that has these addresses."""
    places = [(socket.AF_INET, socket.SOCK_STREAM, 0, "", address) for address in addresses]
    monkeypatch.setattr(posting, "getaddrinfo", lambda *_: list(places))
    return Connection("http://obitus.skerry.example/reports")


def test_an_address_that_does_not_answer_leaves_time_for_the_others(
    monkeypatch: pytest.MonkeyPatch, silent: Any, answering: Any
) -> None:
    """The second one is tried within the time given, and is the first one from then on."""
    connection = named(monkeypatch, silent, answering)
    assert connection.post(b"", {}, 3, 30).status == 200
    began_s = time.monotonic()
    assert connection.post(b"", {}, 30, 30).status == 200
    assert time.monotonic() - began_s < 15, "the silent one would have taken half of the time"


def test_where_none_answers(monkeypatch: pytest.MonkeyPatch, silent: Any) -> None:
    """The time given holds for all of them together."""
    began_s = time.monotonic()
    with pytest.raises(CannotConnect):
        named(monkeypatch, silent, silent, silent).post(b"", {}, 0.6, 30)
    assert time.monotonic() - began_s < 20
