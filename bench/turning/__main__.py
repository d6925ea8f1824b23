"""Plants faults in two applications of others and prints how often the turning point names them: ``python -m bench.turning``.

The applications are installed, pinned, in an environment of their own beside the project. Each is driven by real requests through the client
into a real service; for each entry point each of its statements is left out, followed by another, refused, or made slower, twice each. A
statement counts where healthy runs ask it each time: what they ask now and then is no fault to be named.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
import venv
from collections import Counter, defaultdict
from pathlib import Path
from typing import Any

import urllib3

from bench.measuring import row
from bench.turning.driving import HEALTHY, KINDS, NOTHING, PLANTS_OF_ONE, REQUESTS, WARM_UP
from obitus.core.against.steps import Step, steps_of
from obitus.core.against.turning import Turning, turning_point
from obitus.core.days import seq_of
from obitus.service.run import InThread, listen
from obitus.service.settings import Limits, Settings
from obitus.service.wiring import Parts

HERE = Path(__file__).parent
ROOT = HERE.parents[1]
SITE = ROOT / "build/turning"
APPS = ("isso", "datasette")
MOST_STATEMENTS = 6
WAIT_S = 120
_RUNS = "SELECT place FROM evidence WHERE kind = 'run' ORDER BY place"

Told = dict[str, Any]
Steps = dict[int, list[Step]]


def installed() -> Path:
    """Install the pinned applications where they are not there; return their interpreter."""
    pinned = HERE / "requirements.txt"
    python, mark = SITE / "bin/python", SITE / f"ready-{pinned.stat().st_size}"
    if not mark.exists():
        venv.create(SITE, clear=True, with_pip=True)
        command = [str(python), "-m", "pip", "install", "-q", "--disable-pip-version-check", "-r", str(pinned)]
        subprocess.run(command, check=True, capture_output=True)
        mark.touch()
    return python


class Driven:
    """One application, watched, and the service that it reports to."""

    def __init__(self, app: str, folder: Path) -> None:
        opened = listen("127.0.0.1", 0)
        limits = Limits(burst_seconds=600.0)
        self.service = Parts(Settings(data=folder / "data", port=opened.getsockname()[1], limits=limits))
        self.service.passes.ensure_owner()
        self.thread = InThread(self.service, opened)
        self.thread.start()
        url = self.service.settings.url
        token = self.service.passes.add("token", 1, "bench", None)
        order = {"name": app, "environment": "bench"}
        made = urllib3.request("POST", f"{url}/api/apps", json=order, headers={"Authorization": f"Bearer {token}"})
        here = {"OBITUS_URL": url, "OBITUS_KEY": made.json()["key"], "OBITUS_SPOOL": str(folder / "spool")}
        self.process = subprocess.Popen(
            [str(installed()), str(HERE / "driving.py"), app, str(folder)], env={**os.environ, **here, "PYTHONPATH": str(ROOT / "src")},
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True,
        )  # fmt: skip

    def told(self, count: int) -> list[Told]:
        """Return what the driver tells of its next requests."""
        assert self.process.stdout is not None
        return [json.loads(self.process.stdout.readline()) for _ in range(count)]

    def order(self, lines: list[Told]) -> None:
        """Have faults planted."""
        assert self.process.stdin is not None
        self.process.stdin.write("".join(json.dumps(line) + "\n" for line in lines))
        self.process.stdin.flush()

    def steps(self, wanted: int) -> Steps:
        """Wait for so many runs; return the steps of each by the number of its request."""
        found: Steps = {}
        ends = time.monotonic() + WAIT_S
        while len(found) < wanted and time.monotonic() < ends:
            time.sleep(0.5)
            found = self._steps()
        return found

    def _steps(self) -> Steps:
        found: Steps = {}
        days = self.service.records.days
        for day in days.known():
            numbers = [seq_of(day.day, run["place"]) for run in days.rows(day.day, _RUNS)]
            for content in self.service.records.evidence.contents(numbers):
                number = dict(content["request"]["headers"]).get("x-number") if content else None
                if content is not None and number is not None:
                    found[int(number)] = steps_of(content.get("trail") or ())
        return found

    def close(self) -> None:
        """End both."""
        self.process.kill()
        self.process.wait()
        self.thread.stop()


def measure(app: str) -> None:
    """Drive one application and print its rows."""
    with tempfile.TemporaryDirectory() as place:
        driven = Driven(app, Path(place))
        try:
            before = driven.told(REQUESTS * (WARM_UP + HEALTHY + NOTHING))
            steps = driven.steps(len(before))
            good: dict[int, list[list[Step]]] = defaultdict(list)
            for one in before:
                if one["kind"] == "healthy" and one["number"] in steps:
                    good[one["request"]].append(steps[one["number"]])
            orders: list[Told] = [
                {"request": request, "kind": kind, "key": key}
                for request, runs in sorted(good.items())
                for key in always_asked(runs)[:MOST_STATEMENTS]
                for kind in KINDS
            ]
            orders[-1]["last"] = True
            driven.order(orders)
            after = driven.told(PLANTS_OF_ONE * len(orders) + 1)
            steps = driven.steps(len(before) + len(after) - 1)
        finally:
            driven.close()
    _report(app, before, after, steps, good)


def always_asked(runs: list[list[Step]]) -> list[str]:
    """Return the statements that every one of some runs asks, as steps."""
    keys = [{step.key for step in run if step.key.startswith("statement ")} for run in runs]
    return sorted(set.intersection(*keys)) if keys else []


def _report(app: str, before: list[Told], after: list[Told], steps: Steps, good: dict[int, list[list[Step]]]) -> None:
    planted, first, among = Counter[str](), Counter[str](), Counter[str]()
    for one in after:
        if one["kind"] in KINDS and one["number"] in steps:
            found = turning_point(steps[one["number"]], good[one["request"]])
            planted[one["kind"]] += 1
            first[one["kind"]] += names(found, 1, one)
            among[one["kind"]] += names(found, 3, one)
    for kind in KINDS:
        row(f"{app}: {kind}, named first / planted", f"{first[kind]}", f"{planted[kind]}", first[kind] / max(1, planted[kind]))  # fmt: skip
    in_all = max(1, planted.total())
    row(f"{app}: all, named first / planted", f"{first.total()}", f"{in_all}", first.total() / in_all)
    row(f"{app}: all, among the first three / planted", f"{among.total()}", f"{in_all}", among.total() / in_all)
    quiet = [one for one in before if one["kind"] == "nothing" and one["number"] in steps]
    named = sum(turning_point(steps[one["number"]], good[one["request"]]).named is not None for one in quiet)
    row(f"{app}: nothing planted, something named / runs", f"{named}", f"{len(quiet)}", named / max(1, len(quiet)))


def names(found: Turning, most: int, planted: Told) -> bool:
    """Whether one of the first differences is what was planted."""
    for one in found.differences[:most]:
        is_step = (
            "abandoned" in one.key or one.key == ADDED if planted["kind"] == "added" else one.key == planted["key"]
        )
        if is_step and one.kind == planted["kind"]:
            return True
    return False


ADDED = steps_of([{"kind": "statement", "attributes": {"db.query.text": "SELECT ? WHERE ? = ?"}}])[0].key

if __name__ == "__main__":
    for name in sys.argv[1:] or APPS:
        measure(name)
