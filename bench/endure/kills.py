"""``python -m bench.endure.kills [CYCLES]``: a service is killed again and again while three send, an alert fires and records are passed on.

Its clock jumps by hours, forwards and back, while it runs and while it does not. Each batch is sent until it is acknowledged, some again after that, and tallies grow under the same id. In the end every acknowledged
report has to be there once, every count has to be that of its rows, and the file that records are passed on to has to hold each failure that
was kept whole. What all senders report is one fault: it floods, and most of its failures are only counted.
"""

from __future__ import annotations

import contextlib
import gzip
import json
import random
import sqlite3
import sys
import tempfile
import threading
import time
import uuid
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import urllib3

from bench.endure.forking import Forking
from bench.endure.odd_clock import set_off
from bench.endure.target import Target, report
from obitus.store.backups.verifying import verify

_OTHERS = "SELECT (SELECT COUNT(*) FROM logs) + (SELECT COUNT(*) FROM evidence WHERE kind <> 'failure')"
SENDERS, BATCH, SENT_AGAIN = 3, 10, 4
"""``SENT_AGAIN``: one batch in so many."""
SHORTEST_S, LONGEST_S, SETTLED_WITHIN_S = 0.05, 1.2, 120.0
JUMPS_S = (0.0, 90.0, -90.0, 3600.0, -3600.0, 6 * 3600.0, -6 * 3600.0)
MOST_FILES = 10_000
"""None of what was passed on is to go meanwhile."""
ONE_IN = 3
"""A clock is set in one life of so many, and between two in as many."""


@dataclass
class Ended:
    """What was there in the end."""

    kills: int = 0
    jumps: int = 0
    """Of the service's clock."""
    acknowledged: int = 0
    sent_again: int = 0
    missing: int = 0
    doubled: int = 0
    differences: list[str] = field(default_factory=list)
    failures: int = 0
    only_counted: int = 0
    """Of these, such as were counted and not kept whole."""
    counted_wrongly: int = 0
    """How many more or fewer failures are counted than there are."""
    tallies: int = 0
    tallies_short: int = 0
    """Tallies that hold less than what was acknowledged of them."""
    passed_on: int = 0
    not_passed_on: int = 0
    passed_on_again: int = 0
    """Failures that the file has more than once, under the same id: what was taken right before a kill."""
    alerts: int = 0

    @property
    def holds(self) -> bool:
        """Whether nothing was lost, doubled or counted wrongly."""
        wrong = (
            self.missing
            + self.doubled
            + len(self.differences)
            + self.tallies_short
            + self.not_passed_on
            + abs(self.counted_wrongly)
        )
        return not wrong and self.acknowledged > 0 and self.alerts > 0


class _Sender(threading.Thread):
    """Sends batches until it is told to stop, and each until it is acknowledged."""

    def __init__(self, target: Target, number: int) -> None:
        super().__init__(daemon=True)
        self._target, self._dice = target, random.Random(number)
        self.failures: set[str] = set()
        self.others: set[str] = set()
        self.tallies: dict[str, int] = {}
        self._began: dict[str, str] = {}
        self.batches = self.again = 0
        self.stopping = threading.Event()

    def run(self) -> None:
        with urllib3.PoolManager(retries=False, timeout=10) as http:
            while not self.stopping.is_set():
                reports = self._batch()
                while not self._sent(http, reports):
                    self.stopping.wait(0.05)
                    if self.stopping.is_set() and self._target.process.poll() is not None:
                        return
                self.batches += 1
                if self.batches % SENT_AGAIN == 0 and self._sent(http, reports):
                    self.again += 1

    def _batch(self) -> list[dict[str, Any]]:
        found = [report(f"no berth {self._dice.randrange(1000)}")[1] for _ in range(BATCH)]
        now = datetime.now(UTC).isoformat(timespec="milliseconds")
        found.append(
            {
                "kind": "log",
                "id": str(uuid.uuid4()),
                "time": now,
                "severity": "WARN",
                "message": f"tide {self._dice.random()}",
            }
        )
        if self.tallies and self._dice.random() < 0.7:
            tally = self._dice.choice(list(self.tallies))
        else:
            tally = str(uuid.uuid4())
        runs = self.tallies.get(tally, 0) + self._dice.randrange(1, 40)
        # What it counts began when it was sent first: that decides which day it belongs to.
        began = self._began.setdefault(tally, now)
        found.append(
            {
                "kind": "tally",
                "id": tally,
                "time": began,
                "release": "3.0.0",
                "entry_point": "GET /tides",
                "outcome": "ok",
                "runs": runs,
                "grows": True,
            }
        )
        return found

    def _sent(self, http: urllib3.PoolManager, reports: list[dict[str, Any]]) -> bool:
        body = "\n".join(json.dumps(one) for one in reports).encode()
        headers = {"Authorization": f"Bearer {self._target.honest}"}
        try:
            answer = http.request("POST", self._target.url + "/reports", body=body, headers=headers)
        except urllib3.exceptions.HTTPError:
            return False
        if answer.status != 200:
            return False
        refused = {line["id"] for line in answer.json()["lines"] if line["verdict"] == "refused"}
        assert not refused, answer.data[:500]
        for one in reports:
            if one["kind"] == "tally":
                self.tallies[one["id"]] = max(self.tallies.get(one["id"], 0), one["runs"])
            else:
                (self.failures if one["kind"] == "failure" else self.others).add(one["id"])
        return True


def kill_again_and_again(cycles: int, folder: Path) -> Ended:
    """Run it; returns what was there in the end."""
    clock = folder / "clock"
    clock.write_text("0")
    forking = Forking(clock)
    target, found, dice = Target(folder / "data", forking=forking), Ended(), random.Random(7)
    _set_up(target, folder)
    senders = [_Sender(target, number) for number in range(SENDERS)]
    for sender in senders:
        sender.start()
    for number in range(cycles):
        # Each life of the service takes something, however busy the machine is.
        _more_is_taken(senders)
        if not dice.randrange(ONE_IN):
            set_off(clock, dice.choice(JUMPS_S))
            found.jumps += 1
        time.sleep(dice.uniform(SHORTEST_S, LONGEST_S))
        if number == cycles - 1:
            # The last life goes by the right time, so that what the alert is about happens within its window.
            set_off(clock, 0)
        elif not dice.randrange(ONE_IN):
            set_off(clock, dice.choice(JUMPS_S))
            found.jumps += 1
        target.kill()
        found.kills += 1
    _more_is_taken(senders)
    for sender in senders:
        sender.stopping.set()
    for sender in senders:
        sender.join()
    _settle(target, folder)
    target.stop()
    forking.end()
    _compare(found, senders, folder)
    return found


def _more_is_taken(senders: list[_Sender]) -> None:
    before, ends_s = sum(sender.batches for sender in senders), time.monotonic() + SETTLED_WITHIN_S
    while sum(sender.batches for sender in senders) < before + 2 * SENT_AGAIN and time.monotonic() < ends_s:
        time.sleep(0.02)


def _set_up(target: Target, folder: Path) -> None:
    """Have failures passed on to a file, and an alert written to another."""
    allowed = target.folder / "allowed.toml"
    allowed.touch(mode=0o600)
    allowed.write_text(f"folders = [{json.dumps(str(folder))}]\n")
    for path, order in (
        ("/api/targets", {"name": "depot", "kind": "file", "settings": {"path": str(folder / "records.ndjson"), "roll_mb": 1, "files": MOST_FILES}, "passes": ["failure"]}),
        ("/api/channels", {"name": "board", "kind": "file", "settings": {"path": str(folder / "alerts.txt")}}),
        ("/api/alert-rules", {"name": "many", "when": "count of failures > 3 in 10m", "to": ["board"]}),
    ):  # fmt: skip
        answer = _asked(target, "POST", path, json=order)
        assert answer.status == 201, answer.data


def _asked(target: Target, method: str, path: str, **more: Any) -> urllib3.BaseHTTPResponse:
    headers = {"Authorization": f"Bearer {target.token}"}
    return urllib3.request(method, target.url + path, headers=headers, timeout=60, **more)


def _settle(target: Target, folder: Path) -> None:
    """Wait until all is passed on and an alert is written. One that fired while the clock was ahead stands in no window that ends now."""
    ends_s = time.monotonic() + SETTLED_WITHIN_S
    while time.monotonic() < ends_s:
        with contextlib.suppress(urllib3.exceptions.HTTPError):
            (depot,) = _asked(target, "GET", "/api/targets").json()["targets"]
            if depot["lag"] == 0 and not depot["trouble"] and _alerts(folder):
                return
        time.sleep(0.2)


def _compare(found: Ended, senders: list[_Sender], folder: Path) -> None:
    failures = set[str]().union(*(sender.failures for sender in senders))
    acknowledged = failures.union(*(sender.others for sender in senders))
    tallies = {tally: count for sender in senders for tally, count in sender.tallies.items()}
    there: Counter[str] = Counter()
    others = 0
    for path in (folder / "data/days").glob("*.sqlite3"):
        with contextlib.closing(sqlite3.connect(path)) as day:
            there.update(str(uuid.UUID(bytes=row[0])) for row in day.execute("SELECT id FROM ids"))
            others += int(day.execute(_OTHERS).fetchone()[0])
    found.acknowledged, found.sent_again = len(acknowledged) + len(tallies), sum(sender.again for sender in senders)
    found.missing = len((acknowledged | tallies.keys()) - there.keys())
    found.doubled = sum(count > 1 for count in there.values())
    found.differences = [f"{one.what}: {one.said}" for one in verify(folder / "data", repair=False)]
    with contextlib.closing(sqlite3.connect(folder / "data/obitus.sqlite3")) as main:
        runs = int(main.execute("SELECT COALESCE(SUM(ok), 0) FROM release_runs").fetchone()[0])
        whole = {str(uuid.UUID(bytes=row[0])) for row in main.execute("SELECT id FROM failures")}
        counted = int(main.execute("SELECT COALESCE(SUM(stands_for), 0) FROM failures").fetchone()[0])
    found.failures, found.only_counted = counted, counted - len(whole)
    found.counted_wrongly = counted - (there.total() - others)
    found.tallies = len(tallies)
    # More may be there than was acknowledged: the last of what was sent when nobody answered any more.
    found.tallies_short = max(0, sum(tallies.values()) - runs)
    passed: Counter[str] = Counter()
    for line in _passed_on(folder):
        passed[str(json.loads(line).get("id", ""))] += 1
    found.passed_on = len(passed)
    found.not_passed_on = len(whole - passed.keys())
    found.passed_on_again = sum(count - 1 for count in passed.values())
    found.alerts = _alerts(folder)


def _alerts(folder: Path) -> int:
    """Return how many lines of alerts were written."""
    try:
        return len((folder / "alerts.txt").read_text("utf-8").splitlines())
    except OSError:
        return 0


def _passed_on(folder: Path) -> Iterator[str]:
    """Yield the lines of the file that records were passed on to, and of those that it was rolled into."""
    for path in folder.glob("records*.ndjson*"):
        if path.suffix == ".gz":
            yield from gzip.decompress(path.read_bytes()).decode("utf-8").splitlines()
        elif path.suffix == ".ndjson":
            yield from path.read_text("utf-8").splitlines()


def main() -> None:
    """Kill so many times, and print what was there in the end."""
    cycles = int(sys.argv[1]) if len(sys.argv) > 1 else 100
    began_s = time.monotonic()
    with tempfile.TemporaryDirectory() as folder:
        found = kill_again_and_again(cycles, Path(folder))
    print(
        f"{found.kills:,} kills in {(time.monotonic() - began_s) / 60:.1f} min under {SENDERS} senders, an alert and a target\n"
    )
    for name, value, bound in (
        ("jumps of the clock", found.jumps, None),
        ("acknowledged", found.acknowledged, None),
        ("  batches sent again though acknowledged", found.sent_again, None),
        ("  missing", found.missing, 0),
        ("  there twice", found.doubled, 0),
        ("counts that are not those of their rows", len(found.differences), 0),
        ("failures", found.failures, None),
        ("  only counted", found.only_counted, None),
        ("  counted and not there, or there and not counted", found.counted_wrongly, 0),
        ("tallies that grew", found.tallies, None),
        ("  runs that are short of what was acknowledged", found.tallies_short, 0),
        ("failures passed on", found.passed_on, None),
        ("  kept whole and not passed on", found.not_passed_on, 0),
        ("  passed on again after a kill, under the same id", found.passed_on_again, None),
        ("lines of alerts", found.alerts, None),
    ):
        print(
            f"{name:<52} {value:>12,}   {'' if bound is None else f'bound {bound}'} {'' if bound in (None, value) else 'NOT HELD'}"
        )
    for one in found.differences:
        print(one)
    sys.exit(0 if found.holds else 1)


if __name__ == "__main__":
    main()
