"""Sending bodies from several senders at once, as fast as they are acknowledged."""

from __future__ import annotations

import contextlib
import http.client
import threading
import time
from collections.abc import Callable, Iterator
from typing import Final

SENDERS: Final = 4


def flood(port: int, key: str, bodies: list[bytes], batch: int) -> float:
    """Send all bodies, of ``batch`` reports each, over kept connections; return reports a second, all acknowledged."""

    failed = list[BaseException]()

    def sender(mine: list[bytes]) -> None:
        connection = http.client.HTTPConnection("127.0.0.1", port)
        try:
            for body in mine:
                _send(connection, key, body)
        except BaseException as error:
            failed.append(error)
        finally:
            connection.close()

    threads = [threading.Thread(target=sender, args=(bodies[i::SENDERS],)) for i in range(SENDERS)]
    started = time.perf_counter()
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    took_s = time.perf_counter() - started
    if failed:
        raise RuntimeError("sending broke off") from failed[0]
    return len(bodies) * batch / took_s


def _send(connection: http.client.HTTPConnection, key: str, body: bytes) -> None:
    headers = {"Authorization": f"Bearer {key}", "Content-Type": "application/x-ndjson"}
    connection.request("POST", "/reports", body, headers)
    answer = connection.getresponse()
    said = answer.read()
    assert answer.status == 200, said[:300]


class Sent:
    """How much was sent so far, and since when."""

    def __init__(self) -> None:
        self.reports, self.started, self.lock = 0, time.perf_counter(), threading.Lock()

    def rate(self) -> float:
        """Return reports a second."""
        return self.reports / (time.perf_counter() - self.started)


@contextlib.contextmanager
def paced(port: int, keys: list[str], bodies: Callable[[], list[bytes]], batch: int, rate: float) -> Iterator[Sent]:
    """Send so many reports a second, in batches, with each key in turn, until the block is left; raises RuntimeError where it did not keep up."""
    sent, stop, failed = Sent(), threading.Event(), list[BaseException]()

    def send(place: int) -> None:
        mine = 0
        connection = http.client.HTTPConnection("127.0.0.1", port)
        try:
            while not stop.is_set():
                for body in bodies():
                    due = sent.started + mine * SENDERS / rate
                    if stop.wait(max(0.0, due - time.perf_counter())):
                        break
                    _send(connection, keys[(mine // batch * SENDERS + place) % len(keys)], body)
                    mine += batch
                    with sent.lock:
                        sent.reports += batch
        except BaseException as error:
            failed.append(error)
        finally:
            connection.close()

    threads = [threading.Thread(target=send, args=(place,)) for place in range(SENDERS)]
    for thread in threads:
        thread.start()
    try:
        yield sent
    finally:
        stop.set()
        for thread in threads:
            thread.join()
    if failed:
        raise RuntimeError("sending broke off") from failed[0]
