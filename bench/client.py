"""What the client costs the app that it watches."""

from __future__ import annotations

import asyncio
import logging
import os
import sqlite3
import statistics
import subprocess
import sys
import threading
import time
from collections import deque
from collections.abc import Callable
from pathlib import Path
from typing import Any

import obitus
from bench.measuring import ROUNDS, in_turns, row, timed
from obitus.client.active import give_up, use
from obitus.client.reporter import Reporter
from obitus.client.settings import load

THREADS = 20
THREADS_S = 5.0


def measure(folder: Path) -> None:
    """Measure every row of the client."""
    recording(folder)
    healthy_request()
    breadcrumbs()
    recorded_on_disk(folder)
    counted_beyond_the_rate()
    runs()
    statements()
    log_records(folder)
    imports()
    starts(folder)
    exits(folder)
    forks(folder)
    threads_while_away(folder)
    memory(folder)


class Sink:
    """Stands in for the sender: takes reports and forgets them, so that only the app's thread is measured."""

    full = False
    dropped: dict[str, int] = {}  # noqa: RUF012
    waiting = 0
    spooled = (0, 0)

    is_awake = True

    def put(self, report: dict[str, Any]) -> bool:
        return True

    keep = put

    def put_down(self, report: dict[str, Any], *, held: bool = False) -> None:
        return None

    def let_go(self, path: Path, *, send: bool) -> None: ...

    def drop(self, why: str, count: int = 1) -> None: ...

    def flush(self, timeout_s: float) -> bool:
        return True

    def wake(self) -> None: ...

    def close(self) -> None: ...

    def secure(self, timeout_s: float = 1.0) -> None: ...


def quiet_reporter(*, hooks: bool = False, values: bool = True, per_second: float = 1e9) -> Reporter:
    """Return a reporter that captures all, or so many failures a second, and sends nothing."""
    settings = load(
        url="http://127.0.0.1:9", key="okey_x", off=False, spool="off", values=values, failures_per_second=per_second
    )
    reporter = Reporter(settings, hooks=hooks)
    reporter.base.sender.close()
    reporter.base.sender = reporter.base.held._sender = Sink()  # type: ignore[assignment]
    return reporter


def deep(left: int, sailing: dict[str, Any]) -> None:
    """Raise from 30 calls down, with a few locals in each."""
    pier, passenger, places = "eastholm", f"p-{left}", [left, left + 1]  # noqa: F841
    if left == 0:
        raise ValueError("gangway is up")
    deep(left - 1, sailing)


def failing(act: Callable[[BaseException], Any]) -> Callable[[], None]:
    """Return what fails 30 calls down, and gives the exception to ``act``."""

    def once() -> None:
        try:
            deep(28, {"id": "SK-4711", "vessel": "Tern"})
        except ValueError as error:
            act(error)

    return once


def recorder(reporter: Reporter) -> Callable[[BaseException], Any]:
    """Return what gives an exception to a reporter, as the app does that records one it has handled."""
    return lambda error: reporter.failures.record(error, handled=True, captured_by="record")


def recording(folder: Path) -> None:
    """Recording an exception of 30 frames against ``logging.exception`` to a file."""
    logger = logging.getLogger("bench")
    logger.propagate = False
    handler = logging.FileHandler(folder / "bench.log")
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s %(message)s"))
    logger.addHandler(handler)

    raising = statistics.median(timed(failing(lambda _: None), 300) for _ in range(ROUNDS))
    for name, values in (("", True), (", without locals", False)):
        record = recorder(quiet_reporter(values=values))
        ours, floor = in_turns(
            lambda record=record: timed(failing(record), 100) - raising,  # type: ignore[misc]
            lambda: timed(failing(lambda _: logger.exception("gangway")), 100) - raising,
        )
        row(
            f"record 30 frames{name} / logging.exception to a file",
            f"{ours * 1e6:.0f} us",
            f"{floor * 1e6:.0f} us",
            ours / floor,
        )
    logger.removeHandler(handler)
    handler.close()


def a_request(further_headers: int = 0) -> dict[str, Any]:
    """Return the scope of a request for a sailing, with four headers and so many more."""
    return {
        "type": "http", "asgi": {"version": "3.0"}, "http_version": "1.1", "method": "GET", "scheme": "http",
        "path": "/sailings/SK-1", "raw_path": b"/sailings/SK-1", "query_string": b"", "root_path": "",
        "headers": [
            (b"host", b"ferry"), (b"accept", b"*/*"), (b"user-agent", b"pierboard/1.4"), (b"accept-encoding", b"gzip"),
            *((b"x-part-%d" % i, b"eastholm") for i in range(further_headers)),
        ],
        "client": ("127.0.0.1", 1), "server": ("ferry", 80),
    }  # fmt: skip


async def nothing_more() -> dict[str, Any]:
    """Return a body's end."""
    return {"type": "http.request", "body": b"", "more_body": False}


async def nowhere(_: Any) -> None:
    """Take an answer."""


def healthy_request() -> None:
    """A healthy request through the middleware against the bare app, in process."""
    from fastapi import FastAPI

    def make(*, watched: bool) -> Any:
        app = FastAPI()
        if watched:
            app.add_middleware(obitus.AsgiMiddleware)

        @app.get("/sailings/{sailing_id}")
        async def sailing(sailing_id: str) -> dict[str, str]:
            return {"id": sailing_id}

        return app

    async def ask(app: Any, times: int) -> float:
        started = time.perf_counter()
        for _ in range(times):
            await app(a_request(), nothing_more, nowhere)
        return (time.perf_counter() - started) / times

    bare_app, watched = make(watched=False), make(watched=True)
    asyncio.run(ask(bare_app, 500))
    asyncio.run(ask(watched, 500))
    ours, floor = in_turns(lambda: asyncio.run(ask(watched, 2000)), lambda: asyncio.run(ask(bare_app, 2000)))
    row("healthy request, switched off / bare app", f"{ours * 1e6:.0f} us", f"{floor * 1e6:.0f} us", ours / floor)
    use(quiet_reporter(hooks=True))
    asyncio.run(ask(watched, 500))
    ours, floor = in_turns(lambda: asyncio.run(ask(watched, 2000)), lambda: asyncio.run(ask(bare_app, 2000)))
    obitus.stop()
    row("healthy request, watched / bare app", f"{ours * 1e6:.0f} us", f"{floor * 1e6:.0f} us", ours / floor)


def breadcrumbs() -> None:
    """A breadcrumb inside a run against appending a tuple to a deque."""
    use(quiet_reporter())
    trail: deque[Any] = deque(maxlen=100)
    append = trail.append
    mark = obitus.mark

    def marking() -> None:
        for i in range(20_000):
            mark("places counted", taken=i)

    def appending() -> None:
        for i in range(20_000):
            append(("mark", "places counted", {"taken": i}))

    with obitus.run("job bench"):
        ours, floor = in_turns(lambda: timed(marking, 5) / 20_000, lambda: timed(appending, 5) / 20_000)
    obitus.stop()
    row("a breadcrumb / deque.append of a tuple", f"{ours * 1e9:.0f} ns", f"{floor * 1e9:.0f} ns", ours / floor)


def watching(folder: Path, name: str, **more: Any) -> None:
    """Watch this process with nobody there to report to."""
    logging.getLogger("obitus").setLevel(logging.CRITICAL)
    obitus.watch(url="http://127.0.0.1:9", key="okey_x", spool=folder / name, **more)


def recorded_on_disk(folder: Path) -> None:
    """``obitus.record`` of 30 frames, which is on disk when it returns, against capturing alone."""
    captured = recorder(quiet_reporter())
    watching(folder, "recorded", failures_per_second=1e9)
    ours, floor = in_turns(lambda: timed(failing(obitus.record), 100), lambda: timed(failing(captured), 100))
    obitus.stop(0)
    row("obitus.record, on disk / captured", f"{ours * 1e6:.0f} us", f"{floor * 1e6:.0f} us", ours / floor)


def counted_beyond_the_rate() -> None:
    """A failure of 30 frames that is only counted, against one that is captured, and in a request against outside of one."""
    full = quiet_reporter(per_second=0.01)
    captured, counted = failing(recorder(quiet_reporter())), failing(recorder(full))
    # The first of its form is captured.
    counted()
    floor, ours = in_turns(lambda: timed(captured, 100), lambda: timed(counted, 100))
    row("counted beyond the rate / captured", f"{ours * 1e6:.0f} us", f"{floor * 1e6:.0f} us", ours / floor)

    took_s = 0.0

    async def app(scope: Any, receive: Any, send: Any) -> None:
        nonlocal took_s
        took_s = timed(counted, 100)
        await send({"type": "http.response.start", "status": 200, "headers": []})

    watched = obitus.AsgiMiddleware(app, user=lambda scope: "p-102")

    def in_request() -> float:
        asyncio.run(watched(a_request(30), nothing_more, nowhere))
        return took_s

    use(full)
    in_request()
    ours, floor = in_turns(in_request, lambda: timed(counted, 100))
    give_up()
    row("counted in a request / outside of one", f"{ours * 1e6:.0f} us", f"{floor * 1e6:.0f} us", ours / floor)


def runs() -> None:
    """An empty run against an empty ``with`` block of a context manager in Python."""

    class Bare:
        def __enter__(self) -> None: ...

        def __exit__(self, *details: object) -> None: ...

    def ours_() -> None:
        for _ in range(5000):
            with obitus.run("job bench"):
                pass

    def bare() -> None:
        for _ in range(5000):
            with Bare():
                pass

    use(quiet_reporter())
    ours, floor = in_turns(lambda: timed(ours_, 3) / 5000, lambda: timed(bare, 3) / 5000)
    obitus.stop()
    row("a run / an empty with block (bound: 15 us)", f"{ours * 1e6:.1f} us", f"{floor * 1e6:.2f} us", ours / floor)


def statements() -> None:
    """``select ?`` on sqlite3, watched, against the same on a connection that is not."""
    bare = sqlite3.connect(":memory:")
    use(quiet_reporter(hooks=True))
    watched = sqlite3.connect(":memory:")

    def asking(connection: sqlite3.Connection) -> Callable[[], None]:
        def ask() -> None:
            for i in range(5000):
                connection.execute("select ?", (i,)).fetchone()

        return ask

    ours, floor = in_turns(lambda: timed(asking(watched), 3) / 5000, lambda: timed(asking(bare), 3) / 5000)
    obitus.stop()
    row(
        "a statement, watched / bare (bound: 15 us more)", f"{ours * 1e6:.1f} us", f"{floor * 1e6:.1f} us", ours / floor
    )


def log_records(folder: Path) -> None:
    """``log.info`` to a file, watched, against the same with reporting off."""
    logger = logging.getLogger("bench.records")
    logger.propagate = False
    logger.setLevel(logging.INFO)
    handler = logging.FileHandler(folder / "records.log")
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s %(message)s"))
    logger.addHandler(handler)

    def saying() -> None:
        for i in range(3000):
            logger.info("pass %d printed for %s", i, "p-102")

    def watched() -> float:
        use(quiet_reporter(hooks=True))
        took = timed(saying, 3) / 3000
        obitus.stop()
        return took

    ours, floor = in_turns(watched, lambda: timed(saying, 3) / 3000)
    logger.removeHandler(handler)
    handler.close()
    row("log.info to a file, watched / off (bound: 1.4)", f"{ours * 1e6:.1f} us", f"{floor * 1e6:.1f} us", ours / floor)


def programs(folder: Path, code: str, *, off: bool) -> float:
    """Return how long a program takes, start and end included."""
    environment = os.environ | {
        "OBITUS_URL": "http://127.0.0.1:9",
        "OBITUS_KEY": "okey_x",
        "OBITUS_SPOOL": str(folder / "programs"),
        "OBITUS_OFF": "1" if off else "",
        "PYTHONDONTWRITEBYTECODE": "",
    }
    return timed(lambda: subprocess.run([sys.executable, "-c", code], env=environment, capture_output=True), 3)


def compared(folder: Path, name: str, code: str) -> None:
    """Measure a program with reporting against the same with reporting off."""
    programs(folder, code, off=False)
    ours, floor = in_turns(lambda: programs(folder, code, off=False), lambda: programs(folder, code, off=True))
    row(name, f"{ours * 1e3:.0f} ms", f"{floor * 1e3:.0f} ms", ours / floor)
    print(f"{'':<4}{(ours - floor) * 1e3:.0f} ms more")


def starts(folder: Path) -> None:
    """What ``watch()`` adds to a program that does nothing else (bound: 80 ms)."""
    compared(folder, "a program that watches / switched off (bound: 80 ms)", "import obitus; obitus.watch()")


def exits(folder: Path) -> None:
    """What the end of a program costs: with a healthy run only (bound: 20 ms), and with a failure that nobody takes."""
    for name, work, bound in (
        ("end of a process, a healthy run", "with obitus.run('command x'): pass", "20 ms"),
        ("end of a process, a failure, nobody there", "obitus.record(ValueError('x'))", "0.2 s"),
    ):
        code = f"import obitus, time; obitus.watch()\n{work}\nt = time.perf_counter(); obitus._active.at_exit(); print(time.perf_counter() - t)"
        environment = os.environ | {"OBITUS_URL": "http://127.0.0.1:9", "OBITUS_KEY": "okey_x", "OBITUS_SPOOL": str(folder / "exits")}  # fmt: skip
        took = []
        for _ in range(3 * ROUNDS):
            ended = subprocess.run([sys.executable, "-c", code], env=environment, capture_output=True, text=True)
            took.append(float(ended.stdout))
        empty = statistics.median(
            timed(lambda: subprocess.run([sys.executable, "-c", "pass"]), 3) for _ in range(ROUNDS)
        )
        ours = statistics.median(took)
        row(
            f"{name} / an empty program (bound: {bound})", f"{ours * 1e3:.1f} ms", f"{empty * 1e3:.0f} ms", ours / empty
        )


def forks(folder: Path) -> None:
    """A fork and the end of its child, with the client's threads at work, against the same with reporting off."""

    def fork() -> None:
        child = os.fork()
        if child == 0:
            os._exit(0)
        os.waitpid(child, 0)

    def watched() -> float:
        watching(folder, "forks")
        obitus.record(ValueError("x"))
        took = timed(fork, 30)
        obitus.stop(0)
        return took

    ours, floor = in_turns(watched, lambda: timed(fork, 30))
    row("fork and end of a child, watched / off", f"{ours * 1e3:.2f} ms", f"{floor * 1e3:.2f} ms", ours / floor)


def imports() -> None:
    """``import obitus`` against ``import logging, http.client``, each in a fresh interpreter, less the empty one."""

    def start(code: str) -> float:
        return timed(lambda: subprocess.run([sys.executable, "-c", code], check=True), 3)

    empty = statistics.median(start("pass") for _ in range(ROUNDS))
    ours, floor = in_turns(lambda: start("import obitus") - empty, lambda: start("import logging, http.client") - empty)
    row("import obitus / import logging, http.client", f"{ours * 1e3:.0f} ms", f"{floor * 1e3:.0f} ms", ours / floor)


def threads_while_away(folder: Path) -> None:
    """Threads that raise and report without pause while the service is away, against the same with reporting off."""

    def run(*, off: bool) -> float:
        obitus.watch(url="http://127.0.0.1:9", key="okey_x", off=off, spool=folder / "away")
        done = [0] * THREADS
        ends = time.perf_counter() + THREADS_S

        def work(place: int) -> None:
            while time.perf_counter() < ends:
                try:
                    deep(20, {"id": "SK-4711"})
                except ValueError as error:
                    obitus.record(error)
                done[place] += 1

        threads = [threading.Thread(target=work, args=(place,)) for place in range(THREADS)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        logging.getLogger("obitus").setLevel(logging.CRITICAL)
        obitus.stop(timeout=0.1)
        return sum(done) / THREADS_S

    ours = statistics.median(run(off=False) for _ in range(3))
    floor = statistics.median(run(off=True) for _ in range(3))
    row(f"{THREADS} threads raising, service away / reporting off", f"{ours:,.0f}/s", f"{floor:,.0f}/s", ours / floor)


def memory(folder: Path) -> None:
    """Memory after a million breadcrumbs and 100,000 recorded failures with the service away, against before."""
    code = f"""
import gc, obitus, sys
sys.path.insert(0, {str(Path(__file__).parents[1])!r})
from bench.client import deep
from obitus.client import state
def kept():
    gc.collect()
    with open("/proc/self/statm") as opened:
        return int(opened.read().split()[1]) * 4096 / 1e6
obitus.watch(url="http://127.0.0.1:9", key="okey_x", spool={str(folder / "memory")!r}, failures_per_second=1e9)
def fail(times):
    for i in range(times):
        try:
            deep(10, {{"id": i}})
        except ValueError as error:
            obitus.record(error)
for i in range(1000):
    obitus.mark("warm", n=i)
fail(2000)
state.active.base.sender.secure()
before = kept()
for i in range(1_000_000):
    obitus.mark("step", n=i)
marked = kept()
fail(100_000)
print(before, marked, kept(), obitus.status()["spooled_bytes"] / 1e6)
obitus.stop(0.1)
"""
    said = subprocess.run([sys.executable, "-c", code], check=True, capture_output=True, text=True).stdout.split()
    before, marked, after, spooled = map(float, said)
    row("memory after 1,000,000 breadcrumbs / before", f"{marked:.0f} MB", f"{before:.0f} MB", marked / before)
    row("memory after 100,000 failures, service away / before", f"{after:.0f} MB", f"{before:.0f} MB", after / before)
    print(f"{'':<4}{spooled:.0f} MB wait on disk; the bound is 64 MB")
