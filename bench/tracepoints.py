"""What tracepoints cost a running app, on every interpreter that is there, and how soon their hits are seen.

``python -m bench.tracepoints [lines|hits|workers]``. ``lines``: a function of ten lines by itself, with the client switched off, with
the client and none set, with one on a line that is not reached, with a false condition on a line that runs all the time.
``hits``: from the line to the page. ``workers``: twelve processes of gunicorn.
"""

from __future__ import annotations

import json
import os
import signal
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from typing import Any
from urllib.parse import quote

import urllib3
from tests.client.interpreters import SOURCE, interpreters

from bench.live import Served, served

ROUNDS = 15

LINES = """
import json, os, statistics, sys, time
sys.path.insert(0, os.getcwd())
import ten

def per_call(calls=20_000):
    begun = time.perf_counter()
    act = ten.quote
    for number in range(calls): act(number)
    return (time.perf_counter() - begun) / calls * 1e9

import obitus
kinds = ("off", "none set", "not reached")
times = {kind: [] for kind in kinds}
per_call()
obitus.watch(tracepoints=True)
from obitus.client.active import active_reporter
version = 10**15
def ask(*orders):
    global version
    version += 1
    made = [{"id": version * 10 + place, "file": "ten.py", "seconds": 600, "hits": 10_000, "per_second": 100} | order for place, order in enumerate(orders)]
    requested = active_reporter().life._tracepoints.requested
    requested.learn_from({"tracepoints": {"version": version, "environment": "", "set": made}})
    requested.tend()
    while requested.is_due(): time.sleep(0.01)
    assert all(one["state"] == "set" for one in requested.states()), requested.states()

for turn in range(ROUNDS):
    for kind in kinds if turn % 2 else kinds[::-1]:
        if kind == "off": obitus.stop()
        else: obitus.watch(tracepoints=True)
        if kind == "not reached": ask({"line": 12})
        per_call(5_000)
        times[kind].append(min(per_call() for _ in range(5)))
base = statistics.median(times["off"])
found = {kind: statistics.median([a / b for a, b in zip(times[kind], times["off"])]) for kind in kinds}
obitus.stop(); obitus.watch(tracepoints=True)
ask({"line": 4, "condition": "total < 0"})
requested = active_reporter().life._tracepoints.requested
begun, calls = time.perf_counter(), 0
while requested.states()[0]["state"] != "over" and time.perf_counter() < begun + 30:
    for number in range(100): ten.quote(number)
    calls += 100
off_s = time.perf_counter() - begun
state = requested.states()[0]
requested.tend()
print(json.dumps({"base_ns": base, "ratios": found, "cost_a_look_ns": state["cost_ms"] * 1e6 / state["looked"], "looks": state["looked"], "off_s": off_s, "why": state["why"]}))
"""
TEN = """\
def quote(number):
    base = 12.5
    rate = number % 7
    total = base * rate
    total += 1
    total -= 2
    low = total < 0
    if low:
        low = False
    if number < 0:
        base = 1
        return base
    return total
"""


def lines() -> None:
    """Print a row for each interpreter."""
    for python in interpreters():
        with tempfile.TemporaryDirectory() as folder, served(Path(folder) / "data") as service:
            url, _, key = address_of(service)
            (Path(folder) / "ten.py").write_text(TEN)
            (Path(folder) / "run.py").write_text(LINES.replace("ROUNDS", str(ROUNDS)))
            ended = subprocess.run(
                [python, "run.py"],
                cwd=folder,
                env=os.environ
                | {"PYTHONPATH": str(SOURCE), "OBITUS_URL": url, "OBITUS_KEY": key, "OBITUS_SPOOL": f"{folder}/spool"},
                capture_output=True,
                text=True,
            )
            assert ended.returncode == 0, ended.stderr
            found = json.loads(ended.stdout.splitlines()[-1])
            version = subprocess.run([python, "--version"], capture_output=True, text=True).stdout.strip()
            ratios = ", ".join(f"{kind} {ratio:.3f}" for kind, ratio in found["ratios"].items())
            print(f"{version}: {found['base_ns']:.0f} ns a call; {ratios}")
            print(
                f"    a false condition: {found['cost_a_look_ns']:.0f} ns a look; switched off after {found['off_s']:.3f} s and {found['looks']:,} looks"
            )


APP = """
import sys, time
sys.path.insert(0, sys.path[0])
import obitus, ten
obitus.watch(tracepoints=True)
ends = time.time() + float(sys.argv[1])
number = 0
while time.time() < ends:
    number += 1
    with obitus.run("job quote"): ten.quote(number)
    time.sleep(0.02)
"""


def hits() -> None:
    """Print how soon a hit is on the stream that pages and commands follow, from the time that its line ran."""
    with tempfile.TemporaryDirectory() as folder, served(Path(folder) / "data") as service:
        url, token, key = address_of(service)
        (Path(folder) / "ten.py").write_text(TEN)
        (Path(folder) / "app.py").write_text(APP)
        environment = os.environ | {"OBITUS_URL": url, "OBITUS_KEY": key, "PYTHONPATH": str(SOURCE)}
        apps = [
            subprocess.Popen(
                [python, "app.py", "60"],
                cwd=folder,
                env=environment | {"OBITUS_SPOOL": f"{folder}/{place}"},
                stderr=subprocess.DEVNULL,
            )
            for place, python in enumerate(interpreters())
        ]
        http, headers = urllib3.PoolManager(), {"Authorization": f"Bearer {token}"}
        wait_for(
            lambda: len(http.request("GET", f"{url}/api/tracepoints", headers=headers).json()["instances"]) == len(apps)
        )
        order = {"file": "ten.py", "line": 4, "minutes": 2, "values": ["number"], "hits": 600, "per_second": 10}
        delays: list[float] = []

        def follow() -> None:
            answer = http.request(
                "GET",
                f"{url}/api/records/logs/tail?question={quote('tracepoint.id>0')}",
                headers=headers,
                preload_content=False,
            )
            for line in answer.stream(1):
                rest.extend(line)
                while b"\n\n" in rest:
                    block, _, after = bytes(rest).partition(b"\n\n")
                    rest[:] = after
                    now = time.time()
                    for row in (
                        json.loads(block.split(b"data: ", 1)[1])["records"] if b"event: records" in block else ()
                    ):
                        delays.append(now - time_of(row["time"]))

        rest = bytearray()
        threading.Thread(target=follow, daemon=True).start()
        time.sleep(1)
        begun = time.perf_counter()
        number = http.request("POST", f"{url}/api/apps/bench/tracepoints", json=order, headers=headers).json()[
            "tracepoint"
        ]["id"]
        wait_for(
            lambda: (
                http.request("GET", f"{url}/api/tracepoints/{number}", headers=headers).json()["tracepoint"]["set_in"]
                == len(apps)
            )
        )
        stood_s = time.perf_counter() - begun
        wait_for(lambda: len(delays) >= 400, 60)
        for app in apps:
            app.kill()
        ordered = sorted(delays)
        print(
            f"stands in {len(apps)} instances after {stood_s:.2f} s; {len(ordered)} hits: median {statistics.median(ordered) * 1000:.0f} ms, "
            f"99% within {ordered[int(len(ordered) * 0.99)] * 1000:.0f} ms"
        )


WEB = """
import sys, os
sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
import obitus, ten
from obitus import WsgiMiddleware
obitus.watch(tracepoints=True)
def app(environ, start_response):
    ten.quote(3)
    start_response("200 OK", [("Content-Type", "text/plain")])
    return [str(os.getpid()).encode()]
app = WsgiMiddleware(app)
"""


def workers() -> None:
    """Print how soon twelve workers of gunicorn have set a tracepoint, and whether all are clean after it."""
    with tempfile.TemporaryDirectory() as folder, served(Path(folder) / "data") as service:
        url, token, key = address_of(service)
        (Path(folder) / "ten.py").write_text(TEN)
        (Path(folder) / "web.py").write_text(WEB)
        environment = os.environ | {
            "OBITUS_URL": url,
            "OBITUS_KEY": key,
            "PYTHONPATH": str(SOURCE),
            "OBITUS_SPOOL": f"{folder}/spool",
        }
        server = subprocess.Popen(
            [sys.executable, "-m", "gunicorn", "-w", "12", "-b", "127.0.0.1:0", "--log-level", "error", "web:app"],
            cwd=folder,
            env=environment,
        )
        http, headers = urllib3.PoolManager(), {"Authorization": f"Bearer {token}"}

        def of(path: str) -> Any:
            return http.request("GET", url + path, headers=headers).json()

        try:
            wait_for(lambda: len(of("/api/tracepoints")["instances"]) >= 12, 60)
            order = {"file": "ten.py", "line": 4, "minutes": 0.15, "values": ["number"]}
            begun = time.perf_counter()
            number = http.request("POST", f"{url}/api/apps/bench/tracepoints", json=order, headers=headers).json()[
                "tracepoint"
            ]["id"]
            wait_for(lambda: of(f"/api/tracepoints/{number}")["tracepoint"]["set_in"] >= 12)
            print(f"12 workers: all stand after {time.perf_counter() - begun:.2f} s")
            wait_for(lambda: not of(f"/api/tracepoints/{number}")["tracepoint"]["active"], 30)
            time.sleep(1)
            order["minutes"] = 5
            second = http.request("POST", f"{url}/api/apps/bench/tracepoints", json=order, headers=headers).json()[
                "tracepoint"
            ]["id"]
            wait_for(lambda: of(f"/api/tracepoints/{second}")["tracepoint"]["set_in"] >= 12)
            states = of(f"/api/tracepoints/{number}")["states"]
            print(
                f"after its time: {len(states)} instances, and the next one is set in {of(f'/api/tracepoints/{second}')['tracepoint']['set_in']}"
            )
        finally:
            server.send_signal(signal.SIGTERM)
            server.wait(30)


def address_of(service: Served) -> tuple[str, str, str]:
    """Return a service's address, its owner's token, and a key of an app."""
    return f"http://127.0.0.1:{service.port}", service.token, service.key("bench")


def wait_for(holds: Any, seconds: float = 20) -> None:
    """Wait until something holds."""
    ends = time.monotonic() + seconds
    while not holds():
        assert time.monotonic() < ends, "it did not come to hold in time"
        time.sleep(0.02)


def time_of(text: str) -> float:
    """Return a time of an answer as Unix time in seconds."""
    from datetime import datetime

    return datetime.fromisoformat(text).timestamp()


if __name__ == "__main__":
    for name in sys.argv[1:] or ("lines", "hits", "workers"):
        {"lines": lines, "hits": hits, "workers": workers}[name]()
