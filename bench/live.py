"""While reports come in: how long a failure takes to be visible, and what 500 who listen cost the service."""

from __future__ import annotations

import asyncio
import contextlib
import http.client
import json
import re
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, Final

import obitus
from bench import bare
from bench.flooding import flood, paced
from bench.measuring import row
from obitus.service.live import MOST_OF_A_PASS

READERS: Final = 500
PROBES: Final = 300
APPS: Final = 8
BATCH: Final = 50


class Served:
    """A service in a process of its own, and somebody who administers it."""

    def __init__(self, folder: Path) -> None:
        command = [sys.executable, "-m", "obitus", "serve", "--data", str(folder), "--port", "0", "--new-link"]
        self.process, self.port = bare.started(command)
        assert self.process.stdout is not None
        link = next(found[1] for line in self.process.stdout if (found := re.search(r"sign-in#(\S+)", line)))
        self._connection = http.client.HTTPConnection("127.0.0.1", self.port)
        self.token = ""
        self.token = self.ask("POST", "/api/sign-in", {"link": link, "token_label": "bench"})["token"]

    def ask(self, method: str, path: str, body: Any = None) -> Any:
        """Ask and return the answer."""
        headers = {"Content-Type": "application/json"} | (
            {"Authorization": f"Bearer {self.token}"} if self.token else {}
        )
        self._connection.request(method, path, None if body is None else json.dumps(body), headers)
        answer = self._connection.getresponse()
        said = answer.read()
        assert answer.status < 300, said[:300]
        return json.loads(said) if said else None

    def key(self, app: str) -> str:
        """Add an app and return its key."""
        return str(self.ask("POST", "/api/apps", {"name": app})["key"])

    def memory_mb(self) -> float:
        """Return the memory that is the process's own: what of it lies in RAM."""
        found = re.search(r"VmRSS:\s+(\d+)", Path(f"/proc/{self.process.pid}/status").read_text())
        return int(found[1]) / 1024 if found else 0.0

    def close(self) -> None:
        """End it."""
        self.process.terminate()
        self.process.communicate(timeout=30)


@contextlib.contextmanager
def served(folder: Path) -> Iterator[Served]:
    """Start a service and end it."""
    service = Served(folder)
    try:
        yield service
    finally:
        service.close()


def measure(folder: Path, bodies: Callable[[], list[bytes]]) -> None:
    """Print a row for each."""
    with served(folder / "live") as service:
        key = service.key("sailings")
        flood(service.port, key, bodies(), BATCH)
        full = flood(service.port, key, bodies(), BATCH)
        _visible(service, bodies, full)
    with served(folder / "listened") as service:
        _listened(service, service.key("sailings"), bodies)


def _visible(service: Served, bodies: Callable[[], list[bytes]], full: float) -> None:
    """Raise in a process of its own, through the client, at half of full load; look until the failure is in the list of issues."""
    probe_key = service.key("gatekeeper")
    # What one key may have while others send is bounded: half of the load comes from several.
    keys = [service.key(f"pier-{number}") for number in range(APPS)]
    quiet = _probe(service, probe_key, 50)
    with paced(service.port, keys, bodies, BATCH, full / 2) as sent:
        time.sleep(1)
        loaded = _probe(service, probe_key, PROBES)
    middle, last = statistics.median(loaded), statistics.quantiles(loaded, n=100)[98]
    row(f"raise to visible at {sent.rate():,.0f} reports/s, p99 / quiet, median", f"{last * 1e3:.0f} ms", f"{statistics.median(quiet) * 1e3:.0f} ms", last / statistics.median(quiet))  # fmt: skip
    print(
        f"    median {middle * 1e3:.0f} ms, slowest of {PROBES} {max(loaded) * 1e3:.0f} ms; full load is {full:,.0f} reports/s"
    )


def _probe(service: Served, key: str, times: int) -> list[float]:
    """Return the seconds from a raise in an app until its failure is counted in ``/api/issues``."""
    before = service.ask("GET", "/api/issues?window=1h&app=gatekeeper")["failures_in_all"]
    command = [sys.executable, "-m", "bench.live", "raise", f"http://127.0.0.1:{service.port}", key]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as app:
        assert app.stdin is not None and app.stdout is not None
        assert app.stdout.readline() == "ready\n"
        waits = []
        for number in range(1, times + 1):
            print(number, file=app.stdin, flush=True)
            started = float(app.stdout.readline())
            while service.ask("GET", "/api/issues?window=1h&app=gatekeeper")["failures_in_all"] < before + number:
                time.sleep(0.005)
            waits.append(time.time() - started)
        app.stdin.close()
    return waits


def _raise_on_demand(url: str, key: str) -> None:
    """Be the app: raise whenever a line comes, and say when that was."""
    obitus.watch(url=url, key=key, release="2.9.0")
    print("ready", flush=True)
    for line in sys.stdin:
        print(time.time(), flush=True)
        with contextlib.suppress(ValueError), obitus.run("bench"):
            raise ValueError(f"gangway {line.strip()}")
    obitus.stop()


def _listened(service: Served, key: str, bodies: Callable[[], list[bytes]]) -> None:
    """Let 500 listen, at rest and while reports come in; print what they add to memory, and what is left of intake."""
    alone = statistics.median(flood(service.port, key, bodies(), BATCH) for _ in range(3))
    before = service.memory_mb()
    with listening(service) as heard:
        at_rest = service.memory_mb()
        with_readers = statistics.median(flood(service.port, key, bodies(), BATCH) for _ in range(3))
        under_load = service.memory_mb()
    assert min(heard) > 0, "somebody heard nothing"
    row(f"memory with {READERS} live readers / without", f"{at_rest:.0f} MB", f"{before:.0f} MB", at_rest / before)
    print(f"    while reports come in: {under_load:.0f} MB; each heard of {min(heard)} commits or more")
    row(f"reports/s while {READERS} listen / nobody", f"{with_readers:,.0f}/s", f"{alone:,.0f}/s", with_readers / alone)


@contextlib.contextmanager
def listening(service: Served) -> Iterator[list[int]]:
    """Let 500 listen for a time; gives how many commits each has heard of."""
    heard, loop, begun = [0] * READERS, asyncio.new_event_loop(), threading.Event()
    everybody = _listen(service.port, _passes(service), heard, begun)
    thread = threading.Thread(target=loop.run_until_complete, args=(everybody,), daemon=True)
    thread.start()
    assert begun.wait(120)
    try:
        yield heard
    finally:
        for task in asyncio.all_tasks(loop):
            loop.call_soon_threadsafe(task.cancel)
        thread.join(timeout=30)


def _passes(service: Served) -> list[str]:
    """Return as many tokens as so many readers need."""
    asked = (
        {"label": f"reader {number}", "scope": "read", "days": 1} for number in range(-(-READERS // MOST_OF_A_PASS))
    )
    return [str(service.ask("POST", "/api/me/tokens", one)["token"]) for one in asked]


async def _listen(port: int, passes: list[str], heard: list[int], listening: threading.Event) -> None:
    """Listen, all at once, and count what each hears."""

    async def one(place: int) -> None:
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        writer.write(f"GET /api/live HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\nAuthorization: Bearer {passes[place // MOST_OF_A_PASS]}\r\n\r\n".encode())  # fmt: skip
        assert b"200" in await reader.readuntil(b"event: open")
        waiting.discard(place)
        if not waiting:
            listening.set()
        while piece := await reader.read(65536):
            heard[place] += piece.count(b"event: reports")

    waiting = set(range(READERS))
    with contextlib.suppress(asyncio.CancelledError):
        await asyncio.gather(*(one(place) for place in range(READERS)))


def main() -> None:
    """Measure; or be the app that raises."""
    if sys.argv[1:2] == ["raise"]:
        _raise_on_demand(*sys.argv[2:4])
        return
    from bench.__main__ import bodies

    with tempfile.TemporaryDirectory() as place:
        measure(Path(place), bodies)


if __name__ == "__main__":
    main()
