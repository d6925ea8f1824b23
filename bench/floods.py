"""One issue that fails a thousand times a second, against one that fails ten times: processors and disk that a second costs.

The figures beside are of as many failures where each is kept whole, as they were before floods were known, and of a hundred issues with ten a second each.
"""

from __future__ import annotations

import contextlib
import http.client
import math
import sqlite3
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from itertools import count
from pathlib import Path
from typing import Final

from bench.endure.target import children_of
from bench.live import Served, served
from bench.measuring import row

MANY, FEW, SECONDS, BEFORE_S, BATCH = 1000, 10, 20, 5, 25
ISSUES: Final = 100
Report = Callable[[int], bytes]


def measure(folder: Path, report: Report) -> None:
    """Print a row for processors and one for the disk."""
    few = _of(folder / "few-a-second", report, (0 for _ in count()), FEW)
    many = _of(folder / "many-a-second", report, (ISSUES * n for n in count()), MANY)
    spread = _of(folder / "spread", report, iter(count()), MANY)
    for place, (what, unit, factor) in enumerate((("processor", "ms", 1000.0), ("disk", "kB", 0.001))):
        ours, floor, other = (found[place] * factor for found in (many, few, spread))
        row(
            f"{what} of a second: one issue, {MANY:,} failures / {FEW}",
            f"{ours:.0f} {unit}",
            f"{floor:.0f} {unit}",
            ours / floor,
        )
        print(f"    of {ISSUES} issues with {MANY // ISSUES} a second each, all kept whole: {other:.0f} {unit}")


def _of(folder: Path, report: Report, numbers: Iterator[int], rate: int) -> tuple[float, float]:
    """Return the seconds of a processor and the bytes of disk that each second costs, once it has gone on for a while."""
    with served(folder) as service:
        key = service.key("sailings")
        batch = min(BATCH, rate)
        _send(service, key, report, numbers, rate, batch, BEFORE_S)
        if rate == MANY:
            # What is kept whole however fast it comes is behind us.
            _send(service, key, report, numbers, rate, batch, BEFORE_S)
        before = _processor_s(service), _bytes(folder)
        _send(service, key, report, numbers, rate, batch, SECONDS)
        after = _processor_s(service), _bytes(folder)
        return (after[0] - before[0]) / SECONDS, (after[1] - before[1]) / SECONDS


def _send(
    service: Served, key: str, report: Report, numbers: Iterator[int], rate: int, batch: int, seconds: int
) -> None:
    connection = http.client.HTTPConnection("127.0.0.1", service.port)
    headers = {"Authorization": f"Bearer {key}", "Content-Type": "application/x-ndjson"}
    started = time.perf_counter()
    for sent in range(0, rate * seconds, batch):
        body = b"\n".join(report(next(numbers)) for _ in range(batch))
        time.sleep(max(0.0, started + sent / rate - time.perf_counter()))
        while True:
            connection.request("POST", "/reports", body, headers)
            answer = connection.getresponse()
            said = answer.read()
            if answer.status == 200:
                break
            assert answer.status == 429, said[:300]
            time.sleep(0.05)
    late_s = time.perf_counter() - started - seconds
    if late_s > 0.1 * seconds:
        print(f"    {rate:,} a second were not kept up: {seconds + late_s:.0f} s for {seconds} s", file=sys.stderr)
    connection.close()


def _processor_s(service: Served) -> float:
    """Return the seconds of processors that a service and the processes beside it have taken."""
    ticks = 0
    for pid in (service.process.pid, *children_of(service.process.pid)):
        # After the name, which may hold spaces: state is the third field, user and system time the fourteenth and fifteenth (proc_pid_stat(5)).
        fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
        ticks += int(fields[11]) + int(fields[12])
    return ticks / 100


def _bytes(folder: Path) -> int:
    """Return what the records take, whether it lies in the files yet or in their logs of writes."""
    found = 0
    for path in folder.rglob("*.sqlite3"):
        with contextlib.closing(sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True)) as kept:
            found += math.prod(
                int(kept.execute(f"PRAGMA {what}").fetchone()[0]) for what in ("page_count", "page_size")
            )
    return found


if __name__ == "__main__":
    from bench.__main__ import report_of_8_kb

    with tempfile.TemporaryDirectory() as place:
        measure(Path(place), report_of_8_kb)
