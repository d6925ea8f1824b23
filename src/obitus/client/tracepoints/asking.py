"""Asking the service which tracepoints are wanted here: one request that is answered when that changes, or after a while.

Nothing waits for the answer: the client's own thread checks twice a second whether it has come. Connecting, sending
and reading, which may be slow, are done on a thread of their own.
"""

from __future__ import annotations

import json
import os
import random
from typing import Any, Final

from obitus.client.base import Base
from obitus.client.native import Worker, is_readable, monotonic, sleep
from obitus.client.posting import Connection, PostTrouble
from obitus.client.tracepoints.requested import Requested
from obitus.core.version import VERSION

WAIT_S: Final = 20.0
"""How long the service should wait with its answer while nothing changes."""
LATE_S: Final = 10.0
CONNECT_S: Final = 5.0
READ_S: Final = 10.0
TURN_S: Final = 2.0
LONGEST_PAUSE_S: Final = 30.0
NOT_KNOWN_PAUSE_S: Final = 300.0
"""Pause where the service has no such route, or refuses the key."""


class Asking:
    """Belongs to one process."""

    def __init__(self, base: Base, requested: Requested) -> None:
        self._base, self._requested = base, requested
        self._connection = Connection((base.settings.url or "").rstrip("/") + "/tracepoints")
        self._worker = Worker("obitus-client-tracepoints", self._serve)
        self._asked_s: float | None = None
        """When the request on the way was sent; None where there is none."""
        self._next_s = 0.0
        self._failures = 0
        self._answered = False

    def tick(self) -> None:
        """On the client's own thread: begin what is due. Never waits."""
        if self._worker.running:
            return
        now_s = monotonic()
        if self._asked_s is None:
            if now_s >= self._next_s:
                self._worker.start()
            return
        self._answered = is_readable(self._connection.descriptor)
        if self._answered or self._requested.has_news or now_s - self._asked_s > WAIT_S + LATE_S:
            self._worker.start()

    def end(self) -> None:
        """Close the connection."""
        self._worker.rest(0.2)
        if not self._worker.running:
            self._connection.close()

    def forget(self) -> None:
        """In a forked child: close the parent's connection."""
        self._connection.forget()

    def _serve(self) -> None:
        try:
            if self._asked_s is not None:
                self._asked_s = None
                if not self._answered:
                    # There are states to report, or no answer comes any more: begin another request.
                    self._connection.close()
                elif self._hear():
                    self._await_the_turn()
                else:
                    return
            self._ask()
            self._failures = 0
        except PostTrouble:
            self._connection.close()
            self._pause(min(LONGEST_PAUSE_S, 0.5 * 2 ** min(self._failures, 10)))
            self._failures += 1

    def _ask(self) -> None:
        process, requested = self._base.process, self._requested
        requested.has_news = False
        body = {
            "instance": process["service.instance.id"],
            "host": process["host.name"],
            "pid": os.getpid(),
            "release": self._base.settings.release or "",
            "runtime": f"Python {process['process.runtime.version']}",
            "client": VERSION,
            "version": requested.version,
            "wait_s": WAIT_S,
            "states": requested.states(),
        }
        headers = {
            "Authorization": f"Bearer {self._base.settings.key}",
            "Content-Type": "application/json",
            "User-Agent": "obitus-python",
        }
        self._connection.begin("POST", json.dumps(body).encode(), headers, CONNECT_S, READ_S)
        self._asked_s = monotonic()

    def _await_the_turn(self) -> None:
        """Wait until the answer has been acted upon, so that the next request reports the result."""
        self._base.sender.wake()
        ends_s = monotonic() + TURN_S
        while self._requested.is_busy and monotonic() < ends_s and not self._worker.told_to_rest:
            sleep(0.005)

    def _hear(self) -> bool:
        """Read an answer; return whether to ask again at once."""
        answer = self._connection.finish(READ_S)
        if answer.status == 200:
            try:
                content: Any = json.loads(answer.body)
            except (ValueError, RecursionError):
                content = None
            if isinstance(content, dict):
                self._requested.learn_from(content)
            return True
        if answer.status in (401, 403, 404, 405):
            self._pause(NOT_KNOWN_PAUSE_S)
            return False
        retry = answer.headers.get("retry-after", "")
        self._pause(min(NOT_KNOWN_PAUSE_S, float(retry)) if retry.isdigit() else LONGEST_PAUSE_S)
        return False

    def _pause(self, seconds: float) -> None:
        self._next_s = monotonic() + seconds * random.uniform(0.7, 1.0)  # noqa: S311 - jitter
