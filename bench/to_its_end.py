"""One machine measured to its end: ``python -m bench.to_its_end [FOLDER]``.

A store of 1,000,000 failures and 10,000,000 log records: how long a start takes, what comes in at most while 500 listen, what memory
that takes in all processes of the service, and how much of the disk a day of it fills. FOLDER holds such a store already, as
``python -m bench.scale`` fills it; it is written to.
"""

from __future__ import annotations

import random
import statistics
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Final

from bench import logs
from bench.__main__ import bodies
from bench.endure.target import megabytes
from bench.flooding import flood
from bench.live import BATCH, READERS, Served, listening
from bench.measuring import row
from bench.scale import FAILURES, LOGS, filled
from obitus.core.clock import DAY_MS
from obitus.service.settings import system_clock_ms

STARTS: Final = 5
ROUNDS: Final = 4
MOST_MB: Final = 300


def start_s(folder: Path) -> float:
    """Return the seconds from starting the service until it is ready."""
    began_s = time.perf_counter()
    service = Served(folder)
    took_s = time.perf_counter() - began_s
    service.close()
    return took_s


def measure(large: Path, small: Path) -> None:
    """Print a row for each."""
    start_s(small), start_s(large)
    pairs = [(start_s(large), start_s(small)) for _ in range(STARTS)]
    one, other = (statistics.median(times) for times in zip(*pairs, strict=True))
    row("start with 10,000,000 records / with none", f"{one * 1e3:,.0f} ms", f"{other * 1e3:,.0f} ms", one / other)
    service = Served(large)
    try:
        _at_full_load(service, large)
    finally:
        service.close()


def _at_full_load(service: Served, large: Path) -> None:
    key = service.key("to-its-end")
    alone_mb = megabytes(service.process.pid)
    with listening(service):
        most_mb, stopping = [megabytes(service.process.pid)], threading.Event()

        def watch() -> None:
            while not stopping.wait(0.2):
                most_mb.append(megabytes(service.process.pid))

        watching = threading.Thread(target=watch)
        watching.start()
        dice = random.Random(5)
        for what, made, batch in (
            ("reports of 9.1 KB", bodies, BATCH),
            ("log records of 310 B", lambda: logs.batches(dice), logs.BATCH),
        ):
            _rate(service, key, large, what, made, batch)
        stopping.set()
        watching.join()
    row(f"memory at full load, {READERS} readers (bound: {MOST_MB} MB) / at rest", f"{max(most_mb):.0f} MB", f"{alone_mb:.0f} MB", max(most_mb) / alone_mb)  # fmt: skip


def _rate(service: Served, key: str, large: Path, what: str, made: Callable[[], list[bytes]], batch: int) -> None:
    """Print what comes in a second, and what a day of that takes of the disk."""
    before = _bytes(large)
    sent, rates = 0, []
    for _ in range(ROUNDS):
        some = made()
        sent += len(some) * batch
        rates.append(flood(service.port, key, some, batch))
    kept = (_bytes(large) - before) / sent
    rate = statistics.median(rates)
    print(
        f"{what:<28} {rate:>9,.0f} a second while {READERS} listen; {kept:,.0f} bytes kept of each: {rate * kept * DAY_MS / 1e12:,.0f} GB a day"
    )


def _bytes(folder: Path) -> int:
    return sum(path.stat().st_size for path in folder.rglob("*.sqlite3*") if not path.name.endswith("-shm"))


def main() -> None:
    """Measure, with a store that is there or is filled first."""
    with tempfile.TemporaryDirectory() as folder:
        large = Path(sys.argv[1]) if len(sys.argv) > 1 else Path(folder) / "large"
        if not large.exists():
            filled(large, FAILURES, LOGS, system_clock_ms()).close()
        measure(large, Path(folder) / "small")


if __name__ == "__main__":
    main()
