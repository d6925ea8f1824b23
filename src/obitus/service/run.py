"""Starting the service under uvicorn, in the foreground or in a thread."""

from __future__ import annotations

import asyncio
import contextlib
import gc
import resource
import signal
import socket
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType

import uvicorn

from obitus.service.app import begin, served
from obitus.service.connections import protocol_for
from obitus.service.live import Live
from obitus.service.memory import share_the_heap
from obitus.service.wiring import Parts

STOP_WITHIN_S = 3
TICK_S = 0.1
ACCEPTED_AT_ONCE = 16
WAITING_CONNECTIONS = 4096
"""Connections that may wait to be accepted, within the system's limit: the sender of a further one tries again after a second."""
OFTEN_A_LITTLE = (4_000, 5, 200)
"""Thresholds of the garbage collector (``gc.set_threshold``): a collection of 80,000 objects stopped everything for 35 to 55 ms."""
SWITCH_S = 0.0005
"""How long a thread keeps the interpreter while others wait (Python's default is ten times as long): a heavy body
must not slow a small one."""


class _Server(uvicorn.Server):
    """Ends the live streams as soon as it has to stop: an open stream would delay the stop."""

    def __init__(self, config: uvicorn.Config, live: Live) -> None:
        super().__init__(config)
        self._live = live
        self._loop: asyncio.AbstractEventLoop | None = None
        self._told_to_stop = asyncio.Event()

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        """Start to accept: few connections in each turn of the loop, although many may wait."""
        begin(self._live)
        await super().startup(sockets)
        for opened in sockets or ():
            opened.listen(WAITING_CONNECTIONS)

    async def main_loop(self) -> None:
        """Run until the stop, and end at once: uvicorn's own loop looks only ten times a second."""
        self._told_to_stop = asyncio.Event()
        self._loop = asyncio.get_running_loop()
        count = 0
        while not await self.on_tick(count):
            count = (count + 1) % 864_000
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(TICK_S):
                    await self._told_to_stop.wait()

    async def shutdown(self, sockets: list[socket.socket] | None = None) -> None:
        """Stop as uvicorn does, but without its pause where nobody is connected any more."""
        # Closed connections are noticed in the next turns of the loop.
        for _ in range(3):
            await asyncio.sleep(0)
        if self.server_state.connections or self.server_state.tasks:
            await super().shutdown(sockets)
            return
        for server in self.servers:
            server.close()
        for opened in sockets or ():
            opened.close()
        for server in self.servers:
            await server.wait_closed()

    def stop_from_thread(self) -> None:
        """Stop, from another thread."""
        self.should_exit = True
        if self._loop is not None:
            # It may have noticed by itself, and have closed its loop by now.
            with contextlib.suppress(RuntimeError):
                self._loop.call_soon_threadsafe(self._told_to_stop.set)

    @contextmanager
    def capture_signals(self) -> Iterator[None]:
        """Stop at a signal and return, so that the caller closes the records; the signal is not raised again."""
        if threading.current_thread() is not threading.main_thread():
            yield
            return
        before = {kind: signal.signal(kind, self.handle_exit) for kind in (signal.SIGINT, signal.SIGTERM)}
        try:
            yield
        finally:
            for kind, handler in before.items():
                signal.signal(kind, handler)

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        self._live.close()
        super().handle_exit(sig, frame)


def server_for(parts: Parts, *, log_level: str = "warning") -> _Server:
    """Return a server that is ready to run."""
    sys.setswitchinterval(SWITCH_S)
    config = uvicorn.Config(
        served(parts),
        host=parts.settings.host,
        port=parts.settings.port,
        log_level=log_level,
        access_log=False,
        server_header=False,
        proxy_headers=bool(parts.settings.proxies),
        forwarded_allow_ips=list(parts.settings.proxies),
        date_header=True,
        lifespan="off",
        timeout_graceful_shutdown=STOP_WITHIN_S,
        timeout_keep_alive=65,
        backlog=ACCEPTED_AT_ONCE,
        http=protocol_for(parts.settings.limits, parts.patience),
        ws="none",
    )
    return _Server(config, parts.live)


def alone(parts: Parts, opened: socket.socket) -> None:
    """Serve in this process, which does nothing else, until the stop."""
    server = server_for(parts)
    # Imported objects stay: including them in collections would stop everything for a tenth of a second.
    share_the_heap()
    gc.collect()
    gc.freeze()
    gc.set_threshold(*OFTEN_A_LITTLE)
    server.run(sockets=[opened])


def leave_no_core() -> None:
    """Disable core dumps of this process and its children: their memory contains keys."""
    if sys.platform != "win32":
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def listen(host: str, port: int) -> socket.socket:
    """Open the listening socket first, so that a port in use is an early error."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    opened = socket.socket(family, socket.SOCK_STREAM)
    if sys.platform != "win32":
        opened.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        opened.bind((host, port))
    except OSError:
        opened.close()
        raise
    opened.listen(WAITING_CONNECTIONS)
    return opened


class InThread:
    """A service that runs in a thread of this process: for the demo and for tests."""

    def __init__(self, parts: Parts, opened: socket.socket) -> None:
        self.parts = parts
        self._server = server_for(parts, log_level="error")
        self._thread = threading.Thread(
            target=self._server.run, kwargs={"sockets": [opened]}, name="obitus-service", daemon=True
        )

    def start(self) -> None:
        """Start, and return once it answers."""
        self._thread.start()
        while not self._server.started and self._thread.is_alive():
            threading.Event().wait(0.01)

    def stop(self) -> None:
        """Stop it and close the service."""
        self.parts.live.close_from_thread()
        self._server.stop_from_thread()
        self._thread.join()
        self.parts.close()

    def wait(self) -> None:
        """Wait until it ends."""
        while self._thread.is_alive():
            self._thread.join(0.5)
