"""One player: runs an app's real code under the story's traffic, watched by the real client.

Started as a process of its own for each app, release and host. It reads days to play from standard input, one a
line, and answers each with the number of acts once everything was sent.
"""

from __future__ import annotations

import asyncio
import importlib
import json
import logging
import os
import random
import runpy
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import obitus
from obitus.client import runs
from obitus.client.active import active_reporter, use
from obitus.client.reporter import Reporter
from obitus.client.settings import load
from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.demo.network import Network
from obitus.demo.story import PLAYERS, SEED, Act, Player, acts_of


class StoryClock:
    """Shows the story's time; each look at it moves it on by a few milliseconds, always the same ones."""

    def __init__(self, seed: str) -> None:
        self._dice = random.Random(seed)
        self.now_ms = 0

    def __call__(self) -> int:
        self.now_ms += self._dice.choice((0, 1, 1, 2, 3, 7))
        return self.now_ms

    def wait(self, ms: int) -> None:
        """Let some time pass."""
        self.now_ms += ms


def main() -> None:
    """Play one player's days: ``python -m obitus.demo.play INDEX START_MS``."""
    player, start_ms = PLAYERS[int(sys.argv[1])], int(sys.argv[2])
    logging.basicConfig(level=logging.INFO, handlers=[logging.NullHandler()])
    # What the apps print about their own ends is the story's, not the loader's.
    threading.excepthook = lambda _: None
    clock = StoryClock(f"{SEED} clock {player}")
    network = Network(clock.wait)
    network.install()
    use(
        Reporter(
            load(
                release=player.release,
                own=("sailings", "gatekeeper", "pierboard"),
                spool="off",
                logs="INFO, httpx=off",
                breadcrumbs="INFO, httpx=off",
                failures_per_second=1e6,
            ),
            clock_ms=clock,
            timer=lambda: clock() / 1000,
            random_bytes=random.Random(f"{SEED} ids {player}").randbytes,
            process={"host.name": player.host, "process.pid": 4000 + int(sys.argv[1]), "process.command": player.app},
            says_time=False,
            keeps=False,
        )
    )
    threading.Thread(target=_end_with_the_demo, args=(int(sys.argv[3]),), daemon=True).start()
    for line in sys.stdin:
        day = int(line)
        if player.dies_at_start:
            clock.now_ms = start_ms + day * DAY_MS + DAY_MS // 3
            sys.stderr = open(os.devnull, "w")  # noqa: SIM115, PTH123 - the traceback is the story's, not ours
            print(json.dumps({"acts": 1}), flush=True)  # noqa: T201
            runpy.run_module(player.app, run_name="__main__", alter_sys=True)
        acts = list(acts_of(player, day, start_ms))
        asyncio.run(_play(player, acts, clock, network))
        for left in range(60):
            if obitus.flush(1.0):
                break
            if left == 59:
                sys.exit("the service does not take the demo's reports")
        print(json.dumps({"acts": len(acts)}), flush=True)  # noqa: T201


def _end_with_the_demo(parent: int) -> None:
    """End when the demo does, also when it is killed: whoever played on would wait for a service that is gone."""
    while os.getppid() == parent:
        time.sleep(0.5)
    os._exit(1)


async def _play(player: Player, acts: list[Act], clock: StoryClock, network: Network) -> None:
    hours = [0]
    if player.app == "sailings":
        app = importlib.import_module("sailings.app").app
        for act in acts:
            clock.now_ms = act.time_ms + player.clock_ms
            await _request(app, act)
            await _breathe(hours, act.time_ms)
        return
    module = importlib.import_module("gatekeeper.jobs" if player.app == "gatekeeper" else "pierboard.page")
    for act in acts:
        clock.now_ms = act.time_ms + player.clock_ms
        try:
            with _part_of(act.trace):
                getattr(module, act.what)(**_given(act, network))
        except Exception as error:
            # A job runner goes on with the next job, and a page stays open.
            logging.getLogger(f"{player.app}.runner").warning("job failed: %s", type(error).__name__)
        await _breathe(hours, act.time_ms)


def _given(act: Act, network: Network) -> dict[str, Any]:
    """Return what a job or page is called with. What sailings answers to a page is the story's to say."""
    given = dict(act.with_)
    network.sailings_answers = given.pop("status", 201)
    return given


@contextmanager
def _part_of(trace: str | None) -> Iterator[None]:
    """Let what runs inside join a trace, as a browser or a queue would hand it over."""
    reporter = active_reporter()
    if trace is None or reporter is None:
        yield
        return
    token = runs.current.set(reporter.runs.new("handed over", trace_id=trace, lasting=True))
    try:
        yield
    finally:
        runs.current.reset(token)


async def _breathe(hours: list[int], now_ms: int) -> None:
    """Let the sender keep up, and send what was counted once an hour: the story is played faster than it happened."""
    reporter = active_reporter()
    if reporter is not None and hours[-1] != now_ms // HOUR_MS:
        hours.append(now_ms // HOUR_MS)
        reporter.runs.send_tallies()
    while reporter is not None and reporter.base.sender.waiting > 200:  # noqa: ASYNC110 - a thread empties it, no event to await
        await asyncio.sleep(0.02)


async def _request(app: Any, act: Act) -> None:
    """Send one request to the app in this process, as a server would."""
    query = "&".join(f"{name}={str(value).replace(' ', '%20')}" for name, value in act.with_.get("query", {}).items())
    body = json.dumps(act.with_["body"]).encode() if "body" in act.with_ else b""
    headers = [(b"host", b"sailings.skerry.example"), (b"x-passenger", act.with_["passenger"].encode())]
    headers += [(b"user-agent", b"pierboard/1.4"), (b"cookie", b"ticket=6f1e")]
    if act.trace is not None:
        headers.append((b"traceparent", f"00-{act.trace}-{act.trace[:16]}-01".encode()))
    if "gate" in act.with_:
        headers.append((b"x-gate", act.with_["gate"].encode()))
    if body:
        headers.append((b"content-type", b"application/json"))
    scope = {
        "type": "http",
        "asgi": {"version": "3.0"},
        "http_version": "1.1",
        "method": act.what,
        "scheme": "https",
        "path": act.with_["path"],
        "raw_path": act.with_["path"].encode(),
        "query_string": query.encode(),
        "root_path": "",
        "headers": headers,
        "client": ("10.4.0.17", 50412),
        "server": ("sailings.skerry.example", 443),
    }

    async def receive() -> dict[str, Any]:
        return {"type": "http.request", "body": body, "more_body": False}

    async def send(_: Any) -> None:
        return None

    try:
        await app(scope, receive, send)
    except Exception as error:
        # The framework raises again after answering 500, for the server's log.
        logging.getLogger("uvicorn.error").debug("%s", type(error).__name__)


if __name__ == "__main__":
    main()
