"""A service in a process of its own, with keys for the honest and for the others."""

from __future__ import annotations

import contextlib
import random
import signal
import subprocess
import sys
import time
import uuid
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import urllib3

from bench.endure.forking import Forked, Forking
from obitus.service.run import InThread, listen
from obitus.service.settings import Settings
from obitus.service.wiring import Parts


def report(text: str = "no berth") -> tuple[str, dict[str, Any]]:
    """Return a small failure and its id."""
    report_id = str(uuid.uuid4())
    now = datetime.now(UTC).isoformat(timespec="milliseconds")
    frames = [{"function": f"quote{n % 9}", "module": "sailings.fares", "file": "sailings/fares.py", "line": n, "own": True} for n in range(20)]  # fmt: skip
    return report_id, {
        "kind": "failure", "id": report_id, "time": now, "severity": "ERROR", "handled": False, "release": "3.0.0",
        "exceptions": [{"type": "LookupError", "message": text, "frames": frames}], "attributes": {"sailing": random.randrange(99)},
    }  # fmt: skip


class Target:
    """The service, in a process of its own, with keys for the honest and for the others."""

    def __init__(self, folder: Path, log: Path | None = None, forking: Forking | None = None) -> None:
        self.folder, self._forking = folder, forking
        opened = listen("127.0.0.1", 0)
        self.port = opened.getsockname()[1]
        service = Parts(Settings(data=folder, port=self.port))
        service.passes.ensure_owner()
        running = InThread(service, opened)
        running.start()
        token = service.passes.add("token", 1, "endure", None)
        http = urllib3.PoolManager(retries=False)

        def key(name: str) -> str:
            answer = http.request("POST", f"http://127.0.0.1:{self.port}/api/apps", json={"name": name}, headers={"Authorization": f"Bearer {token}"})  # fmt: skip
            return str(answer.json()["key"])

        self.honest, self.greedy, self.token = key("honest"), key("greedy"), token
        http.clear()
        running.stop()
        opened.close()
        self.url = f"http://127.0.0.1:{self.port}"
        self.log = (log or folder / "service.log").open("w")
        self.start()

    def start(self) -> None:
        """Start it, and return once it is ready."""
        arguments = ["serve", "--data", str(self.folder), "--port", str(self.port)]
        self.process: subprocess.Popen[bytes] | Forked
        if self._forking is not None:
            self.process = self._forking.start(arguments, Path(self.log.name))
        else:
            command = [sys.executable, "-m", "obitus", *arguments]
            self.process = subprocess.Popen(command, stdout=self.log, stderr=self.log)
        ends = time.monotonic() + 180
        while time.monotonic() < ends:
            with contextlib.suppress(urllib3.exceptions.HTTPError):
                if urllib3.request("GET", self.url + "/health", retries=False, timeout=2).status == 200:
                    return
            time.sleep(0.05)
        self.process.kill()
        self.process.wait()
        raise RuntimeError("the service does not start")

    def kill(self) -> None:
        """End it without a word, and start it again."""
        self.process.kill()
        self.process.wait()
        self.start()

    def megabytes(self) -> float:
        """Return what it and its processes hold of memory at this moment."""
        return megabytes(self.process.pid)

    def stop(self) -> None:
        """End it as one should."""
        self.process.send_signal(signal.SIGTERM)
        self.process.wait(30)
        self.log.close()


def megabytes(process: int) -> float:
    """Return what a process and those that it started hold of memory at this moment; what they share counts once."""
    return sum(map(_megabytes, (process, *children_of(process))))


def children_of(process: int) -> list[int]:
    """Return the processes that a process started; none of one that has ended."""
    found: list[int] = []
    with contextlib.suppress(OSError):
        # A child stands with the thread that started it.
        for task in Path(f"/proc/{process}/task").iterdir():
            found += [int(child) for child in (task / "children").read_text().split()]
    return found


def _megabytes(process: int) -> float:
    """Return the proportional set size of a process: its own pages, and of each that several share its part."""
    with contextlib.suppress(OSError, IndexError):
        for line in Path(f"/proc/{process}/smaps_rollup").read_text().splitlines():
            if line.startswith("Pss:"):
                return int(line.split()[1]) / 1024
    return 0.0
