"""Taking log records in, and what they cost on disk, against a bare program that does the least that has to be done.

The bare program reads the same bytes in batches of 500, validates each line, and writes it to the same tables and text index,
durably: no network, no keys, no redaction, no verdicts.
"""

from __future__ import annotations

import json
import random
import statistics
import sys
import time
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from bench import bare
from bench.flooding import flood
from bench.measuring import row
from obitus.core.ids import uuid7
from obitus.service.intake.formats import REPORT
from obitus.store.days import logs
from obitus.store.days.files import open_day
from obitus.store.days.rows import ADD_ID, ADD_WORDS

BATCH, BATCHES, ROUNDS = 500, 40, 5
_TEMPLATES = (
    ("boarded %s with %d vehicles in %.1f ms", "sailings.boardings"), ("quoted %.2f for %d passengers", "sailings.fares"),
    ("berth %d is free", "sailings.berths"), ("no depth for %s, asking again", "sailings.tides"), ("printed pass %d of %s", "gatekeeper.passes"),
    ("manifest of %s has %d rows", "gatekeeper.manifests"), ("gate %d opened", "gatekeeper.gates"), ("timetable loaded", "sailings.timetable"),
)  # fmt: skip


def records(count: int, dice: random.Random) -> list[bytes]:
    """Return log records of about 300 bytes, as an app of several hosts writes them."""
    made = []
    for _ in range(count):
        template, logger = dice.choice(_TEMPLATES)
        values: list[Any] = []
        for form in template.split("%")[1:]:
            values.append(
                f"p-{dice.randrange(5000)}"
                if form[0] == "s"
                else dice.randrange(900)
                if form[0] == "d"
                else dice.random() * 90
            )
        line = _TEMPLATES.index((template, logger)) * 7 + 12
        report = {
            "kind": "log", "id": str(uuid7(time.time_ns() // 1_000_000, dice.randbytes(10))), "time": datetime.now(UTC).isoformat(timespec="milliseconds"), "release": "3.1.0",
            "severity": dice.choice(("INFO", "INFO", "INFO", "DEBUG", "WARN")), "logger": logger, "message": template % tuple(values),
            "template": template, "attributes": {"host.name": f"pier-{dice.randrange(4)}", "code.line.number": line},
        }  # fmt: skip
        if dice.random() < 0.3:
            report["trace_id"] = f"{dice.getrandbits(128):032x}"
        made.append(json.dumps(report, separators=(",", ":")).encode())
    return made


def batches(dice: random.Random) -> list[bytes]:
    """Return bodies that were never sent before."""
    return [b"\n".join(records(BATCH, dice)) for _ in range(BATCHES)]


def bare_rate(path: Path, bodies: list[bytes]) -> float:
    """Return records a second of the bare program."""
    connection = open_day(path)
    place = int(connection.execute("SELECT COALESCE(MAX(place), 0) FROM logs").fetchone()[0])
    started = time.perf_counter()
    for body in bodies:
        ids, rows, words = [], [], []
        for line in body.split(b"\n"):
            record: Any = REPORT.validate_json(line)
            place += 1
            time_ms = int(record.time.timestamp() * 1000)
            ids.append((record.id.bytes, 1, place))
            trace = bytes.fromhex(record.trace_id) if record.trace_id else None
            rows.append((place, time_ms, 0, 1, 1, 0, 2, 0, 0, 0, record.message, None, trace, None, None, 0, None, json.dumps(record.attributes), None))  # fmt: skip
            words.append((place, record.message))
        connection.execute("BEGIN")
        connection.executemany(ADD_ID, ids)
        connection.executemany(logs.ADD, rows)
        connection.executemany(ADD_WORDS, words)
        connection.execute("COMMIT")
    taken = len(bodies) * BATCH / (time.perf_counter() - started)
    connection.close()
    return taken


def measure(folder: Path) -> None:
    """Print a row for intake and one for size."""
    dice = random.Random(5)
    command = [sys.executable, "-m", "obitus", "serve", "--data", str(folder / "logs"), "--port"]
    service, port = bare.started([*command, "0"])
    sent = count = 0
    try:
        key = bare.key_of(service, port)
        ours, floor = [], []
        for _ in range(ROUNDS):
            bodies = batches(dice)
            sent += sum(map(len, bodies)) - len(bodies) * (BATCH - 1)
            count += BATCH * BATCHES
            ours.append(flood(port, key, bodies, BATCH))
            floor.append(bare_rate(folder / "bare-logs.sqlite3", batches(dice)))
    finally:
        service.terminate()
        service.communicate(timeout=20)
    rate, bare_one = statistics.median(ours), statistics.median(floor)
    row(
        f"log records/s of {sent / count:.0f} B / bare program", f"{rate:,.0f}/s", f"{bare_one:,.0f}/s", rate / bare_one
    )
    kept = sum(path.stat().st_size for path in (folder / "logs").rglob("*.sqlite3"))
    row(
        "bytes kept of a log record, index included / as sent",
        f"{kept / count:.0f} B",
        f"{sent / count:.0f} B",
        kept / sent,
    )


if __name__ == "__main__":
    import tempfile

    with tempfile.TemporaryDirectory() as place:
        measure(Path(place))
