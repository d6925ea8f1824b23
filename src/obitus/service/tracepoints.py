"""The active tracepoints, kept in memory by app, and the clients that wait for changes. Clients use it on the event
loop, changes from threads: ``load`` reads the tracepoints again.
"""

from __future__ import annotations

import asyncio
import json
import threading
from collections import OrderedDict
from contextlib import suppress
from dataclasses import dataclass
from typing import Annotated, Any, Final

from obitus.service.clock import Clock
from obitus.service.dependencies import part
from obitus.service.live import Live
from obitus.service.threads import Threads
from obitus.store import tracepoints as store
from obitus.store.records import Records
from obitus.store.rows.tracepoints import InstanceState, Tracepoint

MOST_WAITING: Final = 4_000
MOST_WAITING_OF_AN_APP: Final = 1_000
"""Clients that wait for changes at the same time."""
MOST_INSTANCES_OF_AN_APP: Final = 1_000
AT_WORK: Final = 2
PRESENT_MS: Final = 60_000
"""How long an instance counts as running after its latest request."""


@dataclass(frozen=True, slots=True)
class Instance:
    """A process that allows tracepoints, from its latest request."""

    app_id: int
    instance: str
    host: str
    pid: int
    release: str
    environment: str
    runtime: str
    client: str
    last_request_ms: int


class TooManyWait(Exception):
    """The bound of waiting clients is reached."""


class ActiveTracepoints:
    """The active tracepoints."""

    def __init__(self, records: Records, clock: Clock, live: Live) -> None:
        self._records, self._clock, self._live = records, clock, live
        self._loading = threading.Lock()
        self._of_app: dict[int, tuple[Tracepoint, ...]] = {}
        self._first_version = clock.now_ms()
        self._versions: dict[int, int] = {}
        self._waiting: dict[int, set[asyncio.Event]] = {}
        self._loop: asyncio.AbstractEventLoop | None = None
        self._instances: dict[int, OrderedDict[str, Instance]] = {}
        """By app, the latest ones at the end."""
        self._said: dict[tuple[int, str], tuple[InstanceState, ...]] = {}
        self._closed = False
        self.threads = Threads(AT_WORK, "obitus-tracepoints")
        """Threads for counting hits, so that busy threads of the event loop do not delay reports with hits."""
        self.load()

    def load(self) -> None:
        """Read the active tracepoints, and answer clients whose list has changed. Called from any thread."""
        # Of two changes the later one must have the last word.
        with self._loading:
            active: dict[int, list[Tracepoint]] = {}
            for tracepoint in store.active(self._records.reader, self._clock.now_ms()):
                active.setdefault(tracepoint.app_id, []).append(tracepoint)
            before, self._of_app = self._of_app, {app_id: tuple(ones) for app_id, ones in active.items()}
            for app_id in {*before, *self._of_app}:
                if [tracepoint.id for tracepoint in before.get(app_id, ())] != [
                    tracepoint.id for tracepoint in self._of_app.get(app_id, ())
                ]:
                    self._versions[app_id] = max(self._clock.now_ms(), self.version(app_id) + 1)
                    self._wake(app_id)
        self.tell()

    def tell(self) -> None:
        """Notify the consoles of a change of tracepoints. Called from any thread."""
        self._live.publish_from_thread({"type": "tracepoints"}, narrowed=False)

    def version(self, app_id: int) -> int:
        """Return the version of an app's list: a later one is greater, even after a restart."""
        return self._versions.get(app_id, self._first_version)

    def list_for(self, app_id: int, environment: str) -> dict[str, Any]:
        """Return the answer for the clients of an app."""
        now_ms = self._clock.now_ms()
        return {
            "version": self.version(app_id),
            "environment": environment,
            "set": [
                _for_clients(tracepoint, now_ms)
                for tracepoint in self._of_app.get(app_id, ())
                if tracepoint.environment in ("", environment) and tracepoint.until_ms > now_ms
            ],
        }

    async def changed(self, app_id: int, version: int, wait_s: float) -> None:
        """Wait until the list of an app differs from the client's, at most so many seconds."""
        if self._closed or version != self.version(app_id):
            return
        waiting = self._waiting.setdefault(app_id, set())
        if len(waiting) >= MOST_WAITING_OF_AN_APP or sum(map(len, self._waiting.values())) >= MOST_WAITING:
            raise TooManyWait
        self._loop = asyncio.get_running_loop()
        woken = asyncio.Event()
        waiting.add(woken)
        try:
            with suppress(TimeoutError):
                async with asyncio.timeout(wait_s):
                    await woken.wait()
        finally:
            waiting.discard(woken)

    def add_instance(self, instance: Instance) -> None:
        """Store an instance."""
        of_app = self._instances.setdefault(instance.app_id, OrderedDict())
        of_app[instance.instance] = instance
        of_app.move_to_end(instance.instance)
        while len(of_app) > MOST_INSTANCES_OF_AN_APP:
            gone, _ = of_app.popitem(last=False)
            self._said.pop((instance.app_id, gone), None)

    def instances(self) -> list[Instance]:
        """Return the instances with requests in the last minute, by app and host."""
        since_ms = self._clock.now_ms() - PRESENT_MS
        known = [instance for of_app in list(self._instances.values()) for instance in list(of_app.values())]
        found = [instance for instance in known if instance.last_request_ms >= since_ms]
        return sorted(found, key=lambda one: (one.app_id, one.environment, one.host, one.pid))

    async def said(self, instance: Instance, states: tuple[InstanceState, ...]) -> bool:
        """Store the states of an instance's tracepoints, where they have changed; return whether they have."""
        key = (instance.app_id, instance.instance)
        plain = tuple(state._replace(said_ms=0) for state in states)
        if plain == self._said.get(key, ()):
            return False
        if states:
            await self.threads.do(self._records.writer.run, lambda c: store.keep_states(c, states))
        self._said[key] = plain
        self.tell()
        return True

    async def hit(self, app_id: int, numbers: dict[int, int]) -> None:
        """End tracepoints whose stored hits have reached their number."""
        ended = False
        for number in numbers:
            tracepoint = next((one for one in self._of_app.get(app_id, ()) if one.id == number), None)
            if tracepoint is not None:
                ended |= await self.threads.do(self._end_when_done, tracepoint)
        if ended:
            await self.threads.do(self.load)
        else:
            self.tell()

    def _end_when_done(self, tracepoint: Tracepoint) -> bool:
        hits = store.one(self._records.reader, tracepoint.id).hits
        if hits < tracepoint.most_hits:
            return False
        why = f"it was hit {hits:,} times, as often as was asked for"
        now_ms = self._clock.now_ms()
        return self._records.writer.run(lambda c: store.end(c, tracepoint.id, why, now_ms))

    def _wake(self, app_id: int | None) -> None:
        """Wake clients that wait for an app, or all of them. Called from any thread."""
        loop = self._loop
        if loop is None:
            return

        def wake() -> None:
            for app, waiting in self._waiting.items():
                if app_id in (None, app):
                    for woken in waiting:
                        woken.set()

        with suppress(RuntimeError):
            loop.call_soon_threadsafe(wake)

    def end(self, pass_id: str | None) -> None:
        """Waiting clients have no sessions."""

    def close(self) -> None:
        """Answer all waiting clients: the service stops. Called from any thread."""
        self._closed = True
        self._wake(None)


def _for_clients(tracepoint: Tracepoint, now_ms: int) -> dict[str, Any]:
    return {
        "id": tracepoint.id,
        "file": tracepoint.file,
        "line": tracepoint.line,
        "release": tracepoint.release,
        "hash": tracepoint.hash,
        "code_hash": tracepoint.code_hash,
        "hits": max(1, tracepoint.most_hits),
        "seconds": (tracepoint.until_ms - now_ms) / 1000,
        "person": tracepoint.person,
        **json.loads(tracepoint.asked),
    }


TheTracepoints = Annotated[ActiveTracepoints, part("tracepoints")]
