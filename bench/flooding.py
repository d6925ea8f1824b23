"""Sending bodies from several senders at once, as fast as they are acknowledged."""

from __future__ import annotations

import http.client
import threading
import time
from typing import Final

SENDERS: Final = 4


def flood(port: int, key: str, bodies: list[bytes], batch: int) -> float:
    """Send all bodies, of ``batch`` reports each, over kept connections; return reports a second, all acknowledged."""

    def sender(mine: list[bytes]) -> None:
        connection = http.client.HTTPConnection("127.0.0.1", port)
        for body in mine:
            headers = {"Authorization": f"Bearer {key}", "Content-Type": "application/x-ndjson"}
            connection.request("POST", "/reports", body, headers)
            answer = connection.getresponse()
            said = answer.read()
            assert answer.status == 200, said[:300]
        connection.close()

    threads = [threading.Thread(target=sender, args=(bodies[i::SENDERS],)) for i in range(SENDERS)]
    started = time.perf_counter()
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return len(bodies) * batch / (time.perf_counter() - started)
