"""Running it all: the honest sender alone, on busy processors, beside the others, under the others; kills; a full disk."""

from __future__ import annotations

import contextlib
import json
import multiprocessing
import os
import random
import sqlite3
import statistics
import time
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import urllib3

from bench.endure.full_disk import Disk, fill
from bench.endure.others import ask, others
from bench.endure.target import Target, report

MEMORY_EVERY_S = 1.0
OTHERS = 16
"""How many processes the others have: one for each thing that they do."""
BUSY_BYTES, BUSY_COUNT = 8 * 1024 * 1024, 20_000
"""What a busy process copies, and how far it counts, in turns."""
LONGEST_RATIO, LONGEST_HEALTH_MS, MOST_MB = 1.5, 200.0, 400.0
LIST = "/api/issues?window=1h"
ROUND_S = 20.0
"""The others go from one service to the other so often, and for a third of that each nobody else is there, or only who keeps the
processors busy: what the machine does meanwhile for somebody else, and what the service holds by then, meet all four."""


@dataclass
class Latency:
    """How long answers took, in milliseconds, round by round."""

    alone: list[list[float]] = field(default_factory=list)
    """With nobody else there."""
    busy: list[list[float]] = field(default_factory=list)
    """While as many processes as the others have keep the processors busy, and ask no service for anything."""
    beside: list[list[float]] = field(default_factory=list)
    """While the others were at another service on this machine."""
    under_all: list[list[float]] = field(default_factory=list)
    """While they were at this one."""

    @property
    def ratio(self) -> float:
        """The 95th percentile under all, against the same while the others are at another service here."""
        return typical(self.under_all) / typical(self.beside)

    @property
    def ratio_to_busy(self) -> float:
        """The same against what it is while the processors are busy with something else."""
        return typical(self.under_all) / typical(self.busy)

    @property
    def ratio_to_alone(self) -> float:
        """The same against what it is with nobody else there."""
        return typical(self.under_all) / typical(self.alone)

    @property
    def ratio_of_busy(self) -> float:
        """What busy processors alone make of it."""
        return typical(self.busy) / typical(self.alone)


@dataclass
class Round:
    """One round's answers."""

    sending: list[float] = field(default_factory=list)
    reading: list[float] = field(default_factory=list)


@dataclass
class Measurements:
    """What was measured."""

    sending: Latency = field(default_factory=Latency)
    """Of the honest sender's reports."""
    reading: Latency = field(default_factory=Latency)
    """Of a person who looks at the list of issues meanwhile."""
    health_ms: list[float] = field(default_factory=list)
    taken_away: float = 0.0
    """Part of the processors' time that the host gave to other machines meanwhile, where it says so."""
    most_mb: float = 0.0
    acknowledged: int = 0
    missing: int = 0
    doubled: int = 0
    kills: int = 0
    refused: int = 0
    unread: int = 0
    """How often whoever looks at the list was not shown it."""
    faults: int = 0
    broken: int = 0
    """Requests made from the API's description that ended in a server error."""
    done: dict[str, int] = field(default_factory=dict)
    """How often each of the others did its worst."""
    disk: Disk | None = None
    said: str = ""
    """The latest answer that was none of those meant."""


def p95(values: list[float]) -> float:
    """Return the 95th percentile."""
    return statistics.quantiles(values, n=20)[-1] if len(values) > 1 else float("nan")


def typical(rounds: list[list[float]]) -> float:
    """Return the 95th percentile of the round in the middle: in one of them the machine may have given its disk to others."""
    return statistics.median([p95(one) for one in rounds])


def give_way() -> None:
    """Take from now on what the processors have left: in truth the others have their own."""
    os.sched_setscheduler(0, os.SCHED_IDLE, os.sched_param(0))


def count_and_copy(until_s: float) -> None:
    """Keep a processor busy: count, and copy memory, until the time is up."""
    give_way()
    block = bytearray(BUSY_BYTES)
    while time.time() < until_s:
        bytes(block)
        sum(range(BUSY_COUNT))


@contextmanager
def at_work(processes: Sequence[multiprocessing.process.BaseProcess], until_s: float) -> Iterator[None]:
    """Let processes work until their time is up, and end what goes on after that."""
    for one in processes:
        one.start()
    yield
    for one in processes:
        one.join(max(0.0, until_s + 2 - time.time()))
        one.kill()
        one.join()


@contextmanager
def kept_busy(seconds: float) -> Iterator[float]:
    """Keep the processors busy with as many processes as the others have; gives when that is over."""
    fork, until_s = multiprocessing.get_context("fork"), time.time() + seconds
    with at_work([fork.Process(target=count_and_copy, args=(until_s,)) for _ in range(OTHERS)], until_s):
        yield until_s


def again_and_again(act: Callable[[], object], until_s: float, place: int, done: Any, broken: Any) -> None:
    """Do something until the time is up."""
    give_way()
    while time.time() < until_s:
        with contextlib.suppress(Exception):
            if act() == "broken":
                broken[place] += 1
            done[place] += 1


@contextmanager
def attacked(target: Target, seconds: float, found: Measurements, *, counted: bool = False) -> Iterator[float]:
    """Let all others at a service for a time; gives when that is over."""
    fork, until_s = multiprocessing.get_context("fork"), time.time() + seconds
    acts = others(target, until_s)
    assert len(acts) == OTHERS
    done, broken = fork.Array("q", len(acts)), fork.Array("q", len(acts))
    working = [
        fork.Process(target=again_and_again, args=(act, until_s, place, done, broken))
        for place, act in enumerate(acts.values())
    ]
    with at_work(working, until_s):
        time.sleep(1)
        yield until_s
    if counted:
        for name, times in zip(acts, done[:], strict=True):
            found.done[name] = found.done.get(name, 0) + times
        found.broken += sum(broken[:])


def send_honestly(
    target: Target,
    into: Round,
    until_s: float,
    kept: set[str],
    found: Measurements,
    *,
    health_ms: list[float] | None = None,
) -> None:
    """Send a small batch every 50 ms and look at the list of issues, and note how long both take, and ``/health`` where that is asked for."""
    # The others have other addresses, and so has the honest one.
    http = urllib3.PoolManager(retries=False, timeout=20, source_address=("127.0.0.2", 0))
    waiting: list[tuple[str, dict[str, Any]]] = []
    looked_s = 0.0
    while time.time() < until_s:
        waiting = waiting or [report() for _ in range(3)]
        body = b"\n".join(json.dumps(one).encode() for _, one in waiting)
        started = time.perf_counter()
        try:
            answer = http.request(
                "POST", target.url + "/reports", body=body, headers={"Authorization": f"Bearer {target.honest}"}
            )
        except urllib3.exceptions.HTTPError:
            time.sleep(0.2)
            continue
        if answer.status == 200:
            into.sending.append((time.perf_counter() - started) * 1000)
            kept |= {line["id"] for line in answer.json()["lines"]}
            waiting = []
        elif answer.status in (429, 503, 507):
            found.refused += 1
        else:
            found.faults += 1
            found.said = f"{answer.status}: {answer.data[:300]!r}"
            waiting = []
        started = time.perf_counter()
        with contextlib.suppress(urllib3.exceptions.HTTPError):
            answer = http.request("GET", target.url + LIST, headers={"Authorization": f"Bearer {target.token}"})
            if answer.status == 200:
                into.reading.append((time.perf_counter() - started) * 1000)
            else:
                found.unread += 1
        started = time.perf_counter()
        with contextlib.suppress(urllib3.exceptions.HTTPError):
            http.request("GET", target.url + "/health")
            if health_ms is not None:
                health_ms.append((time.perf_counter() - started) * 1000)
        if time.time() > looked_s + MEMORY_EVERY_S:
            # Adding up its pages holds the service's memory, and a processor, for milliseconds.
            looked_s = time.time()
            found.most_mb = max(found.most_mb, target.megabytes())
        time.sleep(0.05)
    http.clear()


def endure(seconds: float, folder: Path, *, kills: int = 3, beside: bool = True) -> Measurements:
    """Run it all; ``seconds`` is the time under attack, and with ``beside`` as long next to one that is, and a third of it on busy
    processors; a third of it alone, in between."""
    found, kept = Measurements(), set[str]()
    target = Target(folder / "own")
    send_honestly(target, Round(), time.time() + 1, kept, found)
    before = _ticks()
    neighbour = Target(folder / "neighbour") if beside else None
    rounds = max(1, round(seconds / ROUND_S))
    for _ in range(rounds):
        short_s = max(3.0, seconds / rounds / 3)
        send_honestly(target, _round(found, "alone"), time.time() + short_s, kept, found)
        if neighbour is not None:
            with kept_busy(short_s) as until_s:
                send_honestly(target, _round(found, "busy"), until_s, kept, found)
            with attacked(neighbour, seconds / rounds, found) as until_s:
                send_honestly(target, _round(found, "beside"), until_s, kept, found)
        with attacked(target, seconds / rounds, found, counted=True) as until_s:
            send_honestly(target, _round(found, "under_all"), until_s, kept, found, health_ms=found.health_ms)
    if neighbour is not None:
        neighbour.stop()
    stolen, all_ = (after - then for after, then in zip(_ticks(), before, strict=True))
    found.taken_away = stolen / max(1, all_)
    for _ in range(kills):
        _kill(target, kept, found)
    target.stop()
    found.acknowledged = len(kept)
    found.missing, found.doubled = compared(folder / "own", kept)
    found.disk = fill(folder / "disk")
    return found


def _round(found: Measurements, kind: str) -> Round:
    """Begin a round of a kind, and return what is noted of it."""
    begun = Round()
    getattr(found.sending, kind).append(begun.sending)
    getattr(found.reading, kind).append(begun.reading)
    return begun


def _ticks() -> tuple[int, int]:
    """Return for how long the processors were given to other machines, and how much time there was in all (proc(5), ``/proc/stat``: user to steal)."""
    with contextlib.suppress(OSError):
        ticks = [int(one) for one in Path("/proc/stat").read_text().splitlines()[0].split()[1:9]]
        return ticks[7], sum(ticks)
    return 0, 0


def _kill(target: Target, kept: set[str], found: Measurements) -> None:
    """Kill the service while two send."""
    fork = multiprocessing.get_context("fork")
    headers = {"Authorization": f"Bearer {target.greedy}"}

    def send() -> None:
        until_s = time.time() + 3
        while time.time() < until_s:
            ask(target.url, "POST", "/reports", headers, json.dumps(report()[1]))

    sender = fork.Process(target=send)
    sender.start()
    send_honestly(target, Round(), time.time() + random.uniform(0.3, 1.0), kept, found)
    target.kill()
    found.kills += 1
    sender.kill()
    sender.join()


def compared(folder: Path, kept: set[str]) -> tuple[int, int]:
    """Return how many acknowledged reports are missing from the records, and how many are there twice."""
    counted: Counter[str] = Counter()
    for path in (folder / "days").glob("*.sqlite3"):
        connection = sqlite3.connect(path)
        counted.update(row[0] for row in connection.execute("SELECT lower(hex(id)) FROM ids"))
        connection.close()
    ids = {one.replace("-", "") for one in kept}
    return len(ids - counted.keys()), sum(counted.get(one, 0) > 1 for one in ids)
